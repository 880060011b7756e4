// An EFI program for arm64 that tells the serial port that it was started, by which
// boot entry. UEFI Specification 2.10, sections 3.1.2, 4.3, 8.2, appendix D; Procedure Call Standard
// for the Arm 64-bit Architecture; the serial port is a PL011 where QEMU's machine "virt" has it.
    .text
start:
    stp x29, x30, [sp, -64]!
    ldr x8, [x1, 88]            // EFI_SYSTEM_TABLE.RuntimeServices
    mov x9, 2
    str x9, [sp, 32]            // DataSize
    str xzr, [sp, 40]           // Data
    adr x0, name
    adr x1, vendor
    mov x2, 0
    add x3, sp, 32
    add x4, sp, 40
    ldr x8, [x8, 72]            // GetVariable
    blr x8
    mov x14, x0
    movz x10, 0x0900, lsl 16    // the serial port
    adr x12, mark
    bl print
    adr x12, entry
    bl print
    cbnz x14, ends              // no BootCurrent
    ldrh w13, [sp, 40]
    mov w15, 4
    adr x16, digits
digit:
    ubfx w0, w13, 12, 4
    lsl w13, w13, 4
    ldrb w0, [x16, x0]
    bl put
    subs w15, w15, 1
    b.ne digit
ends:
    mov w0, 10
    bl put
hang:
    wfi
    b hang
print:
    mov x17, x30
next:
    ldrb w0, [x12], 1
    cbz w0, printed
    bl put
    b next
printed:
    ret x17
put:
    ldr w11, [x10, 0x18]        // UARTFR
    tbnz w11, 5, put            // TXFF: there is no room
    strb w0, [x10]              // UARTDR
    ret
digits: .ascii "0123456789ABCDEF"
name:   .hword 'B','o','o','t','C','u','r','r','e','n','t',0
vendor: .word 0x8BE4DF61
        .hword 0x93CA, 0x11D2
        .byte 0xAA,0x0D,0x00,0xE0,0x98,0x03,0x2B,0x8C
entry:  .asciz " entry="
mark:   .ascii "\nMARK "
tag:    .fill 64, 1, '@'
        .byte 0
