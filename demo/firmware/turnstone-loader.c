/* Turnstone shore-power controller, the unit's own bootloader: it starts the application at HAND_OVER, if
   that is sound, and else takes one over the CAN bus. Bare metal, no library. */
#define NAME "Turnstone load"
#include "start.h"
#include "loader.h"

/* The demo board's registers: one message of the CAN bus each way. */
#define MESSAGE ((volatile uint8_t *)0x48008000u)
#define MESSAGE_LENGTH (*(volatile uint32_t *)0x48008200u)
#define REPLY ((volatile uint8_t *)0x48008400u)
#define REPLY_LENGTH (*(volatile uint32_t *)0x48008600u)

static uint32_t word(uint32_t at)
{
    return (uint32_t)MESSAGE[at] << 24 | (uint32_t)MESSAGE[at + 1u] << 16 | (uint32_t)MESSAGE[at + 2u] << 8 |
           MESSAGE[at + 3u];
}

static void program(uint32_t address, uint32_t length)
{
    for (uint32_t at = 0; at < length; at += 4u)
        flash(PROGRAM, address + at, __builtin_bswap32(word(5u + at)));
}

int main(void)
{
    if (sound())
        start();
    for (;;) {
        uint32_t length = MESSAGE_LENGTH;
        if (length < 5u) {
            __asm__ volatile("wfi");
            continue;
        }
        uint32_t address = word(1u), status = address < HAND_OVER;
        if (MESSAGE[0] == 0x32u && status == 0)
            flash(ERASE, address, 0);
        else if (MESSAGE[0] == 0x43u && status == 0)
            program(address, length - 5u);
        else if (MESSAGE[0] == 0x76u && sound())
            start();
        REPLY[0] = (uint8_t)(MESSAGE[0] | 0x80u);
        REPLY[1] = (uint8_t)status;
        REPLY_LENGTH = 2u;
        MESSAGE_LENGTH = 0;
    }
}

#include "reset.h"
