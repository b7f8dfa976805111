/* Turnstone shore-power controller, application. Bare metal, no library. */
#define NAME "Turnstone"
#define TIMER cycle_handler
#include "start.h"
#include "turnstone-tables.h"

/* The demo board's registers: current and voltage of a phase, the relay, the lamp. */
#define CURRENT (*(volatile uint32_t *)CONVERTER_AT)
#define VOLTAGE (*(volatile uint32_t *)(CONVERTER_AT + 4u))
#define RELAY (*(volatile uint32_t *)0x48002000u)
#define LAMP (*(volatile uint32_t *)0x48003000u)

#define LIMIT 16000u

static volatile uint32_t cycles;

static void cycle_handler(void)
{
    cycles = cycles + 1;
}

/* Energy of one cycle, with the made-up phase of the meter. */
static uint32_t energy(uint32_t cycle)
{
    uint32_t current = CURRENT & 0x3FFFu;
    uint32_t volts = VOLTAGE & 0x3FFu;
    return current * volts / 1000u * phase_table[cycle % PHASES] / 1024u;
}

int main(void)
{
    uint32_t last = 0, total = 0;
    for (;;) {
        if (last == cycles) {
            __asm__ volatile("wfi");
            continue;
        }
        last = cycles;
        total += energy(last);
#ifdef SOFT_START
        /* A motor draws much when it starts: the limit rises for some cycles. */
        uint32_t limit = LIMIT + start_table[last % STARTS];
#else
        uint32_t limit = LIMIT;
#endif
        RELAY = (CURRENT & 0x3FFFu) < limit;
        LAMP = total >> 12;
    }
}

#include "reset.h"
