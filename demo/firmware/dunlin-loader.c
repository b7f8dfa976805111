/* Dunlin salinity probe, the unit's own bootloader. It listens for nine seconds and then starts the
   application at HAND_OVER, if that is sound. Bare metal, no library. */
#define NAME "Dunlin loader"
#define TIMER tick_handler
#include "start.h"
#include "loader.h"

/* The demo board's registers: the requests that arrive over USB. */
#define REQUEST (*(volatile uint32_t *)0x48007000u)
#define VALUE (*(volatile uint32_t *)0x48007004u)
#define INDEX (*(volatile uint32_t *)0x48007008u)
#define LENGTH (*(volatile uint32_t *)0x4800700Cu)
#define PACKET ((volatile uint32_t *)0x48007040u)
#define REPLY (*(volatile uint32_t *)0x48007080u)

#define PAGE 128u
#define OWN_PAGES (HAND_OVER / PAGE)
#define PAGES 320u
#define SECONDS 9u
#define TICKS_PER_SECOND 100u

static volatile uint32_t ticks;
static uint32_t page[PAGE / 4u];

static void tick_handler(void)
{
    ticks = ticks + 1;
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
