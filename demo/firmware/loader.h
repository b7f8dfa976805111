/* The part that Skerrow's bootloaders share: whether the application at HAND_OVER is sound, its start, and the
   flash controller of the demo boards. */
#define FLASH_COMMAND (*(volatile uint32_t *)0x48006000u)
#define FLASH_ADDRESS (*(volatile uint32_t *)0x48006004u)
#define FLASH_DATA (*(volatile uint32_t *)0x48006008u)
#define FLASH_BUSY (*(volatile uint32_t *)0x4800600Cu)
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

static const struct image_header *sound(void)
{
    const struct image_header *found = (const struct image_header *)(HAND_OVER + 0x40u);
    if (found->start != HAND_OVER || found->length > APPLICATION_SIZE - 4u || found->length % 4u != 0)
        return 0;
    const uint32_t *check = (const uint32_t *)(HAND_OVER + found->length);
    return crc32((const uint8_t *)HAND_OVER, found->length) == *check ? found : 0;
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
