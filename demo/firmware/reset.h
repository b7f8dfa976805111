/* What runs first in Skerrow's applications. It goes to the end of the source,
   so that what the application does stands first in memory. */
static void idle_handler(void)
{
    for (;;)
        __asm__ volatile("wfi");
}

void reset_handler(void)
{
    uint32_t *from = &_data_load;
    for (uint32_t *to = &_data_start; to < &_data_end;)
        *to++ = *from++;
    for (uint32_t *to = &_bss_start; to < &_bss_end;)
        *to++ = 0;
    main();
    idle_handler();
}
