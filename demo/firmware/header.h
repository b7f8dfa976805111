/* The image header of Skerrow's applications, right behind the start vectors. */
#ifndef SKERROW_HEADER_H
#define SKERROW_HEADER_H

#include <stdint.h>

struct image_header {
    char board[4];          /* 0x40: board word, which board this is built for */
    uint32_t length;        /* 0x44: bytes from the start vectors up to the CRC */
    uint32_t start;         /* 0x48: address of the start vectors */
    uint16_t version;       /* 0x4C: packed decimal, 0x0150 is 1.5.0 */
    uint16_t reserved;      /* 0x4E: zero */
    char name[16];          /* 0x50: product, zero-filled */
};

#endif
