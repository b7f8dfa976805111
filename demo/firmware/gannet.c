/* Gannet hydrophone interface, application. Bare metal, no library. */
#define NAME "Gannet"
#define TIMER sample_handler
#include "start.h"
#include "gannet-tables.h"

/* The demo board's registers: a converter, a bus to the host and a lamp. */
#define SAMPLE (*(volatile int32_t *)0x48000000u)
#define STREAM (*(volatile int32_t *)0x48001000u)
#define LAMP (*(volatile uint32_t *)0x48002000u)

#define RING 1024u

static volatile int16_t ring[RING];
static volatile uint32_t written;
static int32_t threshold = 900;

static void sample_handler(void)
{
    ring[written % RING] = (int16_t)(SAMPLE >> 8);
    written = written + 1;
}

/* One output of the band filter that ends with the sample at `at`. */
static int32_t filtered(const int16_t *taps, uint32_t at)
{
    int32_t sum = 0;
    for (uint32_t i = 0; i < TAPS; i++)
        sum += taps[i] * ring[(at - i) % RING] / 64;
    return sum / 512;
}

#ifdef CLICK_COUNTER
static uint32_t clicks;

/* A click rises above its surroundings and falls back at once. */
static uint32_t is_click(int32_t before, int32_t now, int32_t after)
{
    int32_t rise = now - before, fall = now - after;
    return rise > threshold && fall > threshold;
}
#endif

int main(void)
{
    uint32_t read = 0;
    int32_t older = 0, old = 0;
    for (;;) {
        if (read == written) {
            __asm__ volatile("wfi");
            continue;
        }
        int32_t now = filtered(bands[(read / 4096u) % BANDS], read);
#ifdef CLICK_COUNTER
        clicks += is_click(older, old, now);
        LAMP = clicks & 1u;
#else
        LAMP = old > threshold;
#endif
        STREAM = now + older / 8;
        older = old;
        old = now;
        read++;
    }
}

#include "reset.h"
