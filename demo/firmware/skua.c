/* Skua gateway, firmware of its USB bridge chip. Bare metal, no library. */
#define NAME "Skua bridge"
#include "start.h"
#include "skua-tables.h"

/* The demo board's registers: two sides of the bridge. */
#define NORTH (*(volatile uint32_t *)0x48000000u)
#define SOUTH (*(volatile uint32_t *)0x48001000u)

static uint32_t passed;

int main(void)
{
    for (;;) {
        uint32_t word = NORTH;
        if (!(word & 0x100u)) {
            __asm__ volatile("wfi");
            continue;
        }
        SOUTH = route[word & 0xFFu];
        passed++;
#ifdef COUNTED
        if ((passed & 0xFFu) == 0)
            SOUTH = 0x200u | passed >> 8;
#endif
    }
}

#include "reset.h"
