/* Shag shore display: the firmware of its display controller, and with INTERFACE
   that of its interface chip. Bare metal, no library. */
#include <stdint.h>

#include "header.h"

extern uint32_t _stack_top, _data_load, _data_start, _data_end, _bss_start, _bss_end;
extern uint32_t _image_start, _image_length;

void reset_handler(void);
static void idle_handler(void);

typedef void (*vector)(void);

/* Start vectors: the initial stack pointer, then fifteen handlers. */
__attribute__((section(".vectors"), used)) const vector vectors[16] = {
    (vector)(uintptr_t)&_stack_top,
    reset_handler,
    idle_handler, idle_handler, 0, 0, 0, 0, 0, 0, 0,
    idle_handler, 0, 0, idle_handler, idle_handler,
};

__attribute__((section(".header"), used)) const struct image_header header = {
    .board = BOARD_WORD,
    .length = (uint32_t)(uintptr_t)&_image_length,
    .start = (uint32_t)(uintptr_t)&_image_start,
    .version = VERSION,
    .name = "Shag",
};

/* The demo board's registers: a link between the chips, and rows of lamps. */
#define LINK (*(volatile uint32_t *)0x48000000u)
#define ROW(n) (((volatile uint32_t *)0x48001000u)[n])
#define HOST (*(volatile uint32_t *)0x48002000u)

static void idle_handler(void)
{
    for (;;)
        __asm__ volatile("wfi");
}

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
#include "shag-font.h"
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
