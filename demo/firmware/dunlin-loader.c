/* Dunlin salinity probe, the unit's own bootloader. It listens for nine seconds and then starts the
   application at HAND_OVER, if that is sound. Bare metal, no library. */
#define NAME "Dunlin loader"
#define TIMER tick_handler
#include "start.h"

/* The demo board's registers: flash controller, and the requests that arrive over USB. */
#define FLASH_COMMAND (*(volatile uint32_t *)0x48006000u)
#define FLASH_ADDRESS (*(volatile uint32_t *)0x48006004u)
#define FLASH_DATA (*(volatile uint32_t *)0x48006008u)
#define FLASH_BUSY (*(volatile uint32_t *)0x4800600Cu)
#define REQUEST (*(volatile uint32_t *)0x48007000u)
#define VALUE (*(volatile uint32_t *)0x48007004u)
#define INDEX (*(volatile uint32_t *)0x48007008u)
#define LENGTH (*(volatile uint32_t *)0x4800700Cu)
#define PACKET ((volatile uint32_t *)0x48007040u)
#define REPLY (*(volatile uint32_t *)0x48007080u)
#define VECTOR_TABLE (*(volatile uint32_t *)0xE000ED08u)

#define PAGE 128u
#define OWN_PAGES (HAND_OVER / PAGE)
#define PAGES 320u
#define ERASE 1u
#define PROGRAM 2u
#define SECONDS 9u
#define TICKS_PER_SECOND 100u

static volatile uint32_t ticks;
static uint32_t page[PAGE / 4u];

static void tick_handler(void)
{
    ticks = ticks + 1;
}

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

static uint32_t sum(uint32_t first, uint32_t count)
{
    const uint8_t *from = (const uint8_t *)(first * PAGE);
    uint32_t total = 0x2D17u;
    for (uint32_t at = 0; at < count * PAGE; at++)
        total += from[at];
    return total & 0xFFFFu;
}

static void burn(uint32_t number)
{
    for (uint32_t word = 0; word < PAGE / 4u; word++)
        flash(PROGRAM, number * PAGE + 4u * word, page[word]);
}

int main(void)
{
    int asked = 0;
    for (;;) {
        if (!asked && ticks > SECONDS * TICKS_PER_SECOND && sound())
            start();
        uint32_t request = REQUEST;
        if (request == 0)
            continue;
        asked = 1;
        int may = VALUE >= OWN_PAGES && VALUE < PAGES;
        if (request == 0xD2u && may)
            flash(ERASE, VALUE * PAGE, 0);
        else if (request == 0xD3u)
            for (uint32_t word = 0; word < LENGTH / 4u && VALUE / 4u + word < PAGE / 4u; word++)
                page[VALUE / 4u + word] = PACKET[word];
        else if (request == 0xD4u && may)
            burn(VALUE);
        else if (request == 0xD5u)
            REPLY = sum(VALUE, INDEX);
        else if (request == 0xD6u && sound())
            start();
        REQUEST = 0;
    }
}

#include "reset.h"
