/* Tern tide gauge, application. Bare metal, no library. */
#define NAME "Tern"
#define TIMER tick_handler
#include "start.h"
#include "tables.h"

/* The demo board's registers: a pressure converter, a display and an echo. */
#define PRESSURE (*(volatile uint32_t *)0x48000000u)
#define DISPLAY ((volatile uint8_t *)0x48001000u)
#define ECHO (*(volatile uint32_t *)0x48002000u)

static volatile uint32_t minutes;
static volatile int32_t history[HISTORY];
static volatile int32_t offset_mm = 1840;

static int32_t sine(uint32_t turn)
{
    return sine_table[(turn >> 21) & 2047u];
}

/* Predicted level in millimetres above chart datum at one harbour. */
static int32_t predicted(const struct harbour *place, uint32_t minute)
{
    int32_t sum = place->mean_mm * 1024;
    for (int i = 0; i < CONSTITUENTS; i++) {
        uint32_t turn = constituents[i].speed * minute + place->phase[i];
        sum += (place->amplitude_mm[i] * sine(turn)) / 32;
    }
    return sum / 1024;
}

static int32_t measured(void)
{
    int32_t level = (int32_t)(PRESSURE >> 4) - offset_mm;
#ifdef ECHO_SOUNDER
    int32_t echo = (int32_t)(ECHO * 171u / 1000u);
    int32_t apart = echo - level;
    if (apart > -40 && apart < 40)
        level = (3 * level + echo) / 4;
#endif
    return level;
}

static void show_digit(uint32_t column, uint32_t digit)
{
    for (uint32_t row = 0; row < GLYPH_ROWS; row++)
        DISPLAY[row * 64u + column] = glyphs[digit % 10u][row];
}

static void show(int32_t level)
{
    uint32_t rest = level < 0 ? (uint32_t)-level : (uint32_t)level;
    for (uint32_t column = 5; column-- > 0;) {
        uint32_t tens = 0;
        while (rest >= 10u * (tens + 1u))
            tens++;
        show_digit(column, rest - 10u * tens);
        rest = tens;
    }
}

static void tick_handler(void)
{
    static uint32_t ticks;
    if (++ticks == 60000u) {
        ticks = 0;
        minutes = minutes + 1;
    }
}

int main(void)
{
    uint32_t last = ~0u;
    for (;;) {
        uint32_t now = minutes;
        if (now == last) {
            __asm__ volatile("wfi");
            continue;
        }
        last = now;
        int32_t level = measured();
        history[now % HISTORY] = level;
        int32_t surge = level - predicted(&harbours[now / 10u % HARBOURS], now);
        show(now % 2u ? level : surge);
    }
}

#include "reset.h"
