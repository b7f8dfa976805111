/* Avocet sediment sampler, application. Bare metal, no library. */
#define NAME "Avocet"
#define TIMER tick_handler
#include "start.h"
#include "avocet-tables.h"

/* The demo board's registers: the carousel's motor, the clock and its settings. */
#define CAROUSEL (*(volatile uint32_t *)0x48000000u)
#define HOUR (*(volatile uint32_t *)0x48001000u)
#define SETTINGS ((const volatile uint32_t *)0x0E00B000u)

static volatile uint32_t ticks;

static void tick_handler(void)
{
    ticks = ticks + 1;
}

int main(void)
{
    uint32_t last = 0, bottle = 0, step = 0;
    for (;;) {
        if (last == ticks) {
            __asm__ volatile("wfi");
            continue;
        }
        last = ticks;
        if (bottle >= BOTTLES)
            continue;
        const uint16_t *schedule = hours[SETTINGS[7] % SCHEDULES];
        if (step == 0 && HOUR < schedule[bottle])
            continue;
#ifdef GENTLE
        CAROUSEL = bottle * 4096u + turn[step];
#else
        CAROUSEL = bottle * 4096u + step * 16u;
#endif
        step = step + 1u;
        if (step == 256u) {
            step = 0;
            bottle = bottle + 1u;
        }
    }
}

#include "reset.h"
