/* The Vaka stamp, layout 1, for firmware in C. See docs/formats/stamp.md.
 *
 *     extern const uint32_t image_start[];   // from the linker script
 *     VAKA_STAMP((uint32_t)(uintptr_t)image_start,
 *                "product=tern\0" "variant=r1\0" "version=1.5.0\0");
 *
 * The section .vaka_stamp goes into flash with the rest of the image; in the
 * linker script: KEEP(*(.vaka_stamp)). After the link, `vaka stamp IN OUT`
 * fills in length and digest.
 */
#ifndef VAKA_STAMP_H
#define VAKA_STAMP_H

#include <stdint.h>

/* Each entry of the text is "name=value\0"; the literal's own zero ends them. */
#define VAKA_STAMP(START, TEXT)                                               \
    __attribute__((section(".vaka_stamp"), used, aligned(4)))                 \
    const struct {                                                            \
        char magic[8];                                                        \
        uint16_t layout;                                                      \
        uint16_t size;                                                        \
        uint32_t start;                                                       \
        uint32_t length;                                                      \
        uint8_t digest[32];                                                   \
        char text[(sizeof(TEXT) + 3u) / 4u * 4u];                             \
    } vaka_stamp = {                                                          \
        { 'V', 'a', 'k', 'a', 'S', 't', 'm', 'p' },                           \
        1,                                                                    \
        52u + (sizeof(TEXT) + 3u) / 4u * 4u,                                  \
        (START),                                                              \
        0,                                                                    \
        { 0 },                                                                \
        TEXT,                                                                 \
    }

#endif
