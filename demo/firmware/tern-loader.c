/* Tern tide gauge, the unit's own bootloader. It starts the application at HAND_OVER
   if that is sound, and else, or with MODE held, takes a new one over USB. */
#define NAME "Tern loader"
#include "start.h"
#include "loader.h"

/* The demo board's registers: keys and a packet memory for USB. */
#define KEYS (*(volatile uint32_t *)0x48005000u)
#define PACKET ((volatile uint32_t *)0x48007000u)
#define PACKET_WORDS (*(volatile uint32_t *)0x48007800u)

#define KEY_MODE 2u

/* One block of a download, into a sector that is erased when the block begins it. */
static uint32_t take(uint32_t address)
{
    uint32_t words = PACKET_WORDS;
    for (uint32_t word = 0; word < words; word++) {
        if (address % SECTOR == 0)
            flash(ERASE, address, 0);
        flash(PROGRAM, address, PACKET[word]);
        address += 4u;
    }
    return address;
}

int main(void)
{
    if ((KEYS & KEY_MODE) == 0 && sound() != 0)
        start();
    uint32_t address = HAND_OVER;
    for (;;) {
        __asm__ volatile("wfi");
        if (PACKET_WORDS == 0)
            continue;
        if (address + 4u * PACKET_WORDS > HAND_OVER + APPLICATION_SIZE)
            continue;
        address = take(address);
        if (sound() != 0)
            start();
    }
}

#include "reset.h"
