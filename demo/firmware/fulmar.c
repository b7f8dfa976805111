/* Fulmar met mast, application. Bare metal, no library. */
#define NAME "Fulmar"
#define TIMER second_handler
#include "start.h"
#include "fulmar-tables.h"

/* The demo board's registers: wind, vane, barometer and a port. */
#define CUPS (*(volatile uint32_t *)0x48000000u)
#define VANE (*(volatile uint32_t *)0x48001000u)
#define BAROMETER (*(volatile int32_t *)0x48002000u)
#define PORT (*(volatile uint32_t *)0x48003000u)

static volatile uint32_t seconds;

static void second_handler(void)
{
    seconds = seconds + 1;
}

static void send(const char *text)
{
    while (*text)
        PORT = (uint32_t)*text++;
}

static void number(uint32_t value)
{
    char digits[11];
    uint32_t at = 10;
    digits[at] = 0;
    do {
        digits[--at] = (char)('0' + value % 10u);
        value /= 10u;
    } while (value && at);
    send(&digits[at]);
}

int main(void)
{
    uint32_t last = 0;
    for (;;) {
        if (last == seconds) {
            __asm__ volatile("wfi");
            continue;
        }
        last = seconds;
        uint32_t speed = cup_curve[CUPS % CURVE];
        send("wind ");
        number(speed);
        send(" from ");
        number(VANE % 360u);
#ifdef GUSTS
        static uint32_t strongest;
        if (speed > strongest)
            strongest = speed;
        send(" gusts ");
        number(strongest);
#endif
        send(" at ");
        number((uint32_t)(BAROMETER + pressure_table[last % PRESSURES]));
        send("\r\n");
    }
}

#include "reset.h"
