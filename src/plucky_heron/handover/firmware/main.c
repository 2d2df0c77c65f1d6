/* A board without an operating system: the reference protocol on its first serial line, datagrams in frames (COBS, a zero after each).
 * Written for the MPS2 board with a Cortex-M4F (AN386); another board needs its own line and clock below. */
#include "board.h"
#include "runtime.h"

#include <string.h>

#define REGISTER(address) (*(volatile uint32_t *)(address))
#define UART 0x40004000u
#define UART_DATA REGISTER(UART)
#define UART_STATE REGISTER(UART + 4u)
#define UART_CONTROL REGISTER(UART + 8u)
#define UART_BAUD REGISTER(UART + 16u)
#define SYSTICK_CONTROL REGISTER(0xE000E010u)
#define SYSTICK_RELOAD REGISTER(0xE000E014u)
#define SYSTICK_VALUE REGISTER(0xE000E018u)
#define INTERRUPT_STATE REGISTER(0xE000ED04u)
#define SYSTICK_PENDING (1u << 26)

enum { CLOCK = 25000000, TICK = 25000 }; /* Hz; clocks a millisecond */

static volatile uint32_t milliseconds;
static heron_runtime runtime;
static uint8_t frame[2 * HERON_IN_SIZE + 64], whole[HERON_IN_SIZE + 64], out[HERON_OUT_SIZE];

void systick(void)
{
    milliseconds++;
}

/* clocks since the start; the counter falls, a millisecond begins with its zero, and its interrupt may be about to come */
static uint64_t clocks(void)
{
    uint32_t before, value, pending, within;
    do {
        before = milliseconds;
        value = SYSTICK_VALUE;
        pending = INTERRUPT_STATE & SYSTICK_PENDING;
    } while (before != milliseconds);
    within = value > 0u ? TICK - value : 0u;
    if (pending != 0u && within < TICK / 2u) {
        before++; /* its interrupt has not been taken yet */
    }
    return (uint64_t)before * TICK + within;
}

int64_t heron_runtime_now(void)
{
    return (int64_t)(clocks() / (CLOCK / 1000000));
}

static void put(uint8_t byte)
{
    while (UART_STATE & 1u) {
    }
    UART_DATA = byte;
}

static void put_frame(const uint8_t *data, size_t size)
{
    size_t at = 0, end;
    int full;
    for (;;) {
        end = at;
        while (end < size && data[end] != 0 && end - at < 254) {
            end++;
        }
        full = end - at == 254;
        put((uint8_t)(end - at + 1));
        while (at < end) {
            put(data[at++]);
        }
        if (end >= size) {
            break;
        }
        if (full) {
            continue; /* a block of the longest kind stands for no zero */
        }
        at = end + 1;
        if (at == size) {
            put(1);
            break;
        }
    }
    put(0);
}

static size_t unstuffed(const uint8_t *data, size_t size, uint8_t *to, size_t most)
{
    size_t at = 0, made = 0;
    while (at < size) {
        size_t count = data[at];
        if (count == 0 || at + count > size || made + count > most) {
            return 0;
        }
        memcpy(to + made, data + at + 1, count - 1);
        made += count - 1;
        at += count;
        if (count < 255 && at < size) {
            to[made++] = 0;
        }
    }
    return made;
}

/* what the plant asks for besides its samples: how much of this board is used */
static void report(void)
{
    uint8_t told[24];
    uint32_t numbers[5];
    int i;
    numbers[0] = board_flash();
    numbers[1] = board_ram();
    numbers[2] = board_stack();
    numbers[3] = board_clocks_a_call();
    numbers[4] = CLOCK;
    memcpy(told, "PHR1", 4);
    for (i = 0; i < 5; i++) {
        memcpy(told + 4 + 4 * i, &numbers[i], 4); /* little-endian, as this processor is */
    }
    put_frame(told, sizeof told);
}

static uint32_t longest;

uint32_t board_clocks_a_call(void)
{
    return longest;
}

int main(void)
{
    static const float safe[HERON_SAFE] = BOARD_SAFE;
    size_t got = 0;
    UART_BAUD = 16;
    UART_CONTROL = 3; /* both ways */
    SYSTICK_RELOAD = TICK - 1;
    SYSTICK_VALUE = 0;
    SYSTICK_CONTROL = 7; /* on, with its interrupt, by the processor's clock */
    heron_runtime_init(&runtime, BOARD_SAMPLE, BOARD_HOLD, safe);
    put_frame((const uint8_t *)"PHB1", 4);
    for (;;) {
        size_t size = 0;
        if (UART_STATE & 2u) {
            uint8_t byte = (uint8_t)UART_DATA;
            if (byte != 0) {
                if (got < sizeof frame) {
                    frame[got] = byte;
                }
                got++;
                continue;
            }
            size_t count = got <= sizeof frame ? unstuffed(frame, got, whole, sizeof whole) : 0;
            got = 0;
            if (count == 4 && memcmp(whole, "PHR?", 4) == 0) {
                report();
                continue;
            }
            if (count > 0) {
                uint64_t before = clocks();
                uint32_t took;
                size = heron_runtime_take(&runtime, whole, count, heron_runtime_now(), out);
                took = (uint32_t)(clocks() - before);
                longest = took > longest ? took : longest;
            }
        } else {
            size = heron_runtime_idle(&runtime, heron_runtime_now(), out);
        }
        if (size > 0) {
            put_frame(out, size);
        }
    }
}
