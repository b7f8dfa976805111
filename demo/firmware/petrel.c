/* Petrel wave buoy logger, application. Bare metal, no library. */
#include <stdint.h>

#include "header.h"
#include "petrel-tables.h"

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
    .name = "Petrel",
};

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

static void idle_handler(void)
{
    for (;;)
        __asm__ volatile("wfi");
}

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
