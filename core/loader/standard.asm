; Boot code for sector 0 of an MBR disk: runs the first sector of the one active
; partition. Written for this project; assemble with
;   nasm -f bin -o standard.bin standard.asm
; The steps are those of every classic boot record (common practice).
        org 0x600
        bits 16
        cli
        xor ax, ax
        mov ss, ax
        mov sp, 0x7C00
        mov ds, ax
        mov es, ax
        mov si, 0x7C00          ; move out of the way of the next boot sector
        mov di, 0x600
        mov cx, 256
        cld
        rep movsw
        jmp 0:start
start:  sti
        mov [drive], dl
        mov si, 0x600 + 446
        mov cx, 4
        xor bx, bx              ; bx: the active record
scan:   cmp byte [si], 0x80
        je found
        cmp byte [si], 0
        jne invalid
        jmp next
found:  test bx, bx
        jnz invalid
        mov bx, si
next:   add si, 16
        loop scan
        test bx, bx
        jnz load
        int 0x18                ; none is active: hand back to the firmware
        mov si, missing
        jmp say
load:   mov eax, [bx + 8]
        mov [packet + 8], eax
        mov si, packet
        mov dl, [drive]
        mov ah, 0x42
        push bx
        int 0x13
        pop bx
        mov si, error
        jc say
        cmp word [0x7DFE], 0xAA55
        mov si, missing
        jne say
        mov si, bx              ; the record's address, for the boot sector
        mov dl, [drive]
        jmp 0:0x7C00
invalid:
        mov si, bad
say:    lodsb
        test al, al
        jz hang
        mov ah, 0x0E
        mov bx, 7
        int 0x10
        jmp say
hang:   hlt
        jmp hang
bad:     db "Invalid partition table", 0
error:   db "Error loading operating system", 0
missing: db "Missing operating system", 0
drive:   db 0
        align 4
packet: db 16, 0
        dw 1, 0x7C00, 0
        dq 0
        times 440 - ($ - $$) db 0
