/* From the reset to main: vectors, memory as C expects it, a stack that tells how deep it was. */
#include "board.h"

#include <string.h>

extern uint32_t link_data_from[], link_data[], link_data_end[], link_bss[], link_bss_end[], link_stack[], link_stack_end[], link_flash_end[];

int main(void);
void reset(void);
void systick(void);

enum { PAINT = 0x5A5A5A5A };

static void halt(void)
{
    for (;;) {
    }
}

__attribute__((section(".vectors"), used)) static void (*const vectors[16])(void) = {
    (void (*)(void))(uintptr_t)link_stack_end, reset, halt, halt, halt, halt, halt, 0, 0, 0, 0, halt, halt, 0, halt, systick,
};

void reset(void)
{
    uint32_t *p;
#if defined(__ARM_FP)
    *(volatile uint32_t *)0xE000ED88u |= 0xFu << 20; /* the floating-point unit */
    __asm volatile("dsb\n isb");
#endif
    memcpy(link_data, link_data_from, (size_t)((uintptr_t)link_data_end - (uintptr_t)link_data));
    memset(link_bss, 0, (size_t)((uintptr_t)link_bss_end - (uintptr_t)link_bss));
    for (p = link_stack; p < (uint32_t *)__builtin_frame_address(0) - 32; p++) {
        *p = PAINT;
    }
    main();
    halt();
}

uint32_t board_flash(void)
{
    return (uint32_t)((uintptr_t)link_flash_end + ((uintptr_t)link_data_end - (uintptr_t)link_data));
}

uint32_t board_ram(void)
{
    return (uint32_t)((uintptr_t)link_bss_end - (uintptr_t)link_data);
}

uint32_t board_stack(void)
{
    const uint32_t *p = link_stack;
    while (p < link_stack_end && *p == PAINT) {
        p++;
    }
    return (uint32_t)((uintptr_t)link_stack_end - (uintptr_t)p);
}
