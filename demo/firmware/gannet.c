/* Gannet hydrophone interface, application. Bare metal, no library. */
#include <stdint.h>

#include "header.h"
#include "gannet-tables.h"

extern uint32_t _stack_top, _data_load, _data_start, _data_end, _bss_start, _bss_end;
extern uint32_t _image_start, _image_length;

void reset_handler(void);
static void idle_handler(void);
static void sample_handler(void);

typedef void (*vector)(void);

/* Start vectors: the initial stack pointer, then fifteen handlers. */
__attribute__((section(".vectors"), used)) const vector vectors[16] = {
    (vector)(uintptr_t)&_stack_top,
    reset_handler,
    idle_handler, idle_handler, 0, 0, 0, 0, 0, 0, 0,
    idle_handler, 0, 0, idle_handler,
    sample_handler,
};

__attribute__((section(".header"), used)) const struct image_header header = {
    .board = BOARD_WORD,
    .length = (uint32_t)(uintptr_t)&_image_length,
    .start = (uint32_t)(uintptr_t)&_image_start,
    .version = VERSION,
    .name = "Gannet",
};

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

static void idle_handler(void)
{
    for (;;)
        __asm__ volatile("wfi");
}

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

void reset_handler(void)
{
    uint32_t *from = &_data_load;
    for (uint32_t *to = &_data_start; to < &_data_end;)
        *to++ = *from++;
    for (uint32_t *to = &_bss_start; to < &_bss_end;)
        *to++ = 0;
    main();
    idle_handler();
}
