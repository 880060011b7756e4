; Stand-in for the boot sector of a volume that loads Windows in legacy mode: it
; says so and stops. Only its messages matter to those who read it. Assemble with
;   nasm -f bin -o ntfsboot.bin ntfsboot.asm
; The first 84 bytes, jump and BIOS parameter block, are filled in by diskmaker.
        org 0x7C54
        bits 16
        xor ax, ax
        mov ds, ax
        mov si, text
say:    lodsb
        test al, al
        jz hang
        mov ah, 0x0E
        mov bx, 7
        int 0x10
        jmp say
hang:   hlt
        jmp hang
text:   db "BOOTMGR is missing", 13, 10, 0
        times 426 - ($ - $$) db 0
