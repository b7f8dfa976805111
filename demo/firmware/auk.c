/* Auk harbour light controller, application. Bare metal, no library. */
#define NAME "Auk"
#define TIMER tick_handler
#include "start.h"
#include "auk-tables.h"

/* The demo board's registers: a lamp, a daylight sensor and its settings. */
#define LAMP (*(volatile uint32_t *)0x48000000u)
#define DAYLIGHT (*(volatile uint32_t *)0x48001000u)
#define SETTINGS ((const volatile uint32_t *)0x0D00D000u)

static volatile uint32_t ticks;

static void tick_handler(void)
{
    ticks = ticks + 1;
}

int main(void)
{
    uint32_t last = 0;
    for (;;) {
        if (last == ticks) {
            __asm__ volatile("wfi");
            continue;
        }
        last = ticks;
        const uint8_t *rhythm = rhythms[SETTINGS[7] % RHYTHMS];
        uint32_t on = rhythm[last % PERIOD];
#ifdef FADE
        on = on * fade[(last * 16u) % 256u] / 255u;
#endif
        LAMP = DAYLIGHT > 4000u ? 0u : on;
    }
}

#include "reset.h"
