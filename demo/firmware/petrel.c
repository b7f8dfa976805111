/* Petrel wave buoy logger, application. Bare metal, no library. */
#define NAME "Petrel"
#define TIMER sample_handler
#include "start.h"
#include "petrel-tables.h"

/* The demo board's registers: accelerometers, the log, the radio, a lamp. */
#define HEAVE (*(volatile int32_t *)0x48000000u)
#define LOG (*(volatile int32_t *)0x48001000u)
#define RADIO (*(volatile int32_t *)RADIO_AT)
#define LAMP (*(volatile uint32_t *)0x48002000u)

static volatile int16_t heave[WINDOW];
static volatile uint32_t written;

static void sample_handler(void)
{
    heave[written % WINDOW] = (int16_t)(HEAVE >> 8);
    written = written + 1;
}

/* Energy of one windowed record. */
static int32_t energy(void)
{
    int32_t sum = 0;
    for (uint32_t i = 0; i < WINDOW; i++) {
        int32_t value = hann[i] * heave[i] / 16384;
        sum += value * value / 4096;
    }
    return sum;
}

/* The direction that the waves come from. */
static uint32_t direction(void)
{
    int32_t best = 0;
    uint32_t at = 0;
    for (uint32_t step = 0; step < STEPS; step++) {
        int32_t sum = 0;
        for (uint32_t k = 0; k < SENSORS; k++)
            sum += steering[step][k] * heave[k * 7u % WINDOW] / 16384;
        if (sum > best) {
            best = sum;
            at = step;
        }
    }
    return at;
}

#ifdef PERIODS
static int32_t period;

/* Mean time between two upward crossings of the mean. */
static void count_crossings(void)
{
    int32_t crossings = 1;
    for (uint32_t i = 1; i < WINDOW; i++)
        crossings += heave[i - 1] < 0 && heave[i] >= 0;
    period = (int32_t)WINDOW / crossings;
}
#endif

int main(void)
{
    uint32_t read = 0;
    for (;;) {
        if (written - read < WINDOW) {
            __asm__ volatile("wfi");
            continue;
        }
        LOG = energy();
        RADIO = (int32_t)direction();
#ifdef PERIODS
        count_crossings();
        LOG = period;
#endif
        LAMP = read / WINDOW & 1u;
        read += WINDOW;
    }
}

#include "reset.h"
