/* Turnstone shore-power controller, the unit's own bootloader: it starts the application at HAND_OVER, if
   that is sound, and else takes one over the CAN bus. Bare metal, no library. */
#define NAME "Turnstone load"
#include "start.h"

/* The demo board's registers: flash controller, and one message of the CAN bus each way. */
#define FLASH_COMMAND (*(volatile uint32_t *)0x48006000u)
#define FLASH_ADDRESS (*(volatile uint32_t *)0x48006004u)
#define FLASH_DATA (*(volatile uint32_t *)0x48006008u)
#define FLASH_BUSY (*(volatile uint32_t *)0x4800600Cu)
#define MESSAGE ((volatile uint8_t *)0x48008000u)
#define MESSAGE_LENGTH (*(volatile uint32_t *)0x48008200u)
#define REPLY ((volatile uint8_t *)0x48008400u)
#define REPLY_LENGTH (*(volatile uint32_t *)0x48008600u)
#define VECTOR_TABLE (*(volatile uint32_t *)0xE000ED08u)

#define ERASE 1u
#define PROGRAM 2u

static uint32_t crc32(const uint8_t *from, uint32_t length)
{
    uint32_t crc = ~0u;
    while (length-- > 0) {
        crc ^= *from++;
        for (int bit = 0; bit < 8; bit++)
            crc = crc >> 1 ^ (0xEDB88320u & (0u - (crc & 1u)));
    }
    return ~crc;
}

static int sound(void)
{
    const struct image_header *found = (const struct image_header *)(HAND_OVER + 0x40u);
    if (found->start != HAND_OVER || found->length > APPLICATION_SIZE - 4u || found->length % 4u != 0)
        return 0;
    return crc32((const uint8_t *)HAND_OVER, found->length) == *(const uint32_t *)(HAND_OVER + found->length);
}

static void start(void)
{
    const uint32_t *vectors = (const uint32_t *)HAND_OVER;
    VECTOR_TABLE = HAND_OVER;
    __asm__ volatile("msr msp, %0\n bx %1" ::"r"(vectors[0]), "r"(vectors[1]));
}

static void flash(uint32_t command, uint32_t address, uint32_t data)
{
    FLASH_ADDRESS = address;
    FLASH_DATA = data;
    FLASH_COMMAND = command;
    while (FLASH_BUSY != 0)
        ;
}

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
