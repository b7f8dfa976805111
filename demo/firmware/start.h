/* What stands first in Skerrow's applications: start vectors and image header.
   NAME is the product; TIMER, if defined, handles its timer. */
#include <stdint.h>

#include "header.h"

extern uint32_t _stack_top, _data_load, _data_start, _data_end, _bss_start, _bss_end;
extern uint32_t _image_start, _image_length;

int main(void);
void reset_handler(void);

static void idle_handler(void);

#ifdef TIMER
static void TIMER(void);
#else
#define TIMER idle_handler
#endif

typedef void (*vector)(void);

/* The initial stack pointer, then fifteen handlers. */
__attribute__((section(".vectors"), used)) const vector vectors[16] = {
    (vector)(uintptr_t)&_stack_top,
    reset_handler,
    idle_handler, idle_handler, 0, 0, 0, 0, 0, 0, 0,
    idle_handler, 0, 0, idle_handler,
    TIMER,
};

__attribute__((section(".header"), used)) const struct image_header header = {
    .board = BOARD_WORD,
    .length = (uint32_t)(uintptr_t)&_image_length,
    .start = (uint32_t)(uintptr_t)&_image_start,
    .version = VERSION,
    .name = NAME,
};
