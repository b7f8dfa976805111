/* Heron shore display: the firmware of its display controller, and with INTERFACE
   that of its interface chip. Bare metal, no library. */
#define NAME "Heron"
#include "start.h"

/* The demo board's registers: a link between the chips, and rows of lamps. */
#define LINK (*(volatile uint32_t *)0x48000000u)
#define ROW(n) (((volatile uint32_t *)0x48001000u)[n])
#define HOST (*(volatile uint32_t *)0x48002000u)

#ifdef INTERFACE
#define LINES 48u
static volatile uint8_t line[LINES];

int main(void)
{
    uint32_t at = 0, sum = 0;
    for (;;) {
        uint32_t byte = HOST & 0xFFu;
        line[at % LINES] = (uint8_t)byte;
        sum = sum * 31u + byte;
        if (byte == '\n' || at % LINES == LINES - 1u) {
            for (uint32_t i = 0; i <= at % LINES; i++)
                LINK = line[i];
#ifdef ECHO
            HOST = sum;
#endif
        }
        at++;
    }
}
#else
#include "heron-font.h"
static uint32_t brightness = 3;

int main(void)
{
    uint32_t column = 0;
    for (;;) {
        uint32_t letter = LINK % LETTERS;
        for (uint32_t row = 0; row < ROWS; row++)
            ROW(row) = (uint32_t)font[letter][row] << (column % 24u) | brightness << 30;
#ifdef DIMMING
        brightness = LINK >> 30;
#endif
        column += 8u;
    }
}
#endif

#include "reset.h"
