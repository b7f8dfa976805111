/* Dunlin salinity probe, application. Bare metal, no library. */
#define NAME "Dunlin"
#define TIMER reading_handler
#include "start.h"
#include "dunlin-tables.h"

/* The demo board's registers: a cell, a thermistor and a line to the host. */
#define CELL (*(volatile int32_t *)0x48000000u)
#define THERMISTOR (*(volatile int32_t *)0x48001000u)
#define OUTPUT (*(volatile int32_t *)0x48002000u)

static volatile uint32_t due;

static void reading_handler(void)
{
    due = due + 1;
}

/* Salinity of a conductivity at a temperature, between the table's points. */
static int32_t salinity(int32_t cell, int32_t temperature)
{
    uint32_t row = (uint32_t)temperature % ROWS, column = (uint32_t)(cell >> 6) % (COLUMNS - 1);
    int32_t low = table[row][column], high = table[row][column + 1];
    return low + (high - low) * (cell & 63) / 64;
}

int main(void)
{
    uint32_t done = 0;
    int32_t smooth = 0;
    for (;;) {
        if (done == due) {
            __asm__ volatile("wfi");
            continue;
        }
        int32_t now = salinity(CELL, THERMISTOR >> 4);
#ifdef SMOOTH
        smooth += (now - smooth) / 8;
#else
        smooth = now;
#endif
        OUTPUT = smooth;
        done++;
    }
}

#include "reset.h"
