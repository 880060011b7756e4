; A boot sector that tells the serial port that it was started and ends the
; machine. It leaves room for a BIOS parameter block and for a partition table.
; Interrupts are off: the firmware's own output to the serial port runs off them.
bits 16
org 0x7C00
    jmp short start
    nop
    times 0x5A - ($ - $$) db 0
start:
    cli
    jmp 0:here
here:
    xor ax, ax
    mov ds, ax
    mov si, mark
    cld
print:
    lodsb
    test al, al
    jz ends
    mov ah, al
    mov dx, 0x3FD
wait_empty:
    in al, dx
    test al, 0x20
    jz wait_empty
    mov dx, 0x3F8
    mov al, ah
    out dx, al
    jmp print
ends:
    mov dx, 0xF4
    mov eax, 0x10
    out dx, eax
hang:
    hlt
    jmp hang
mark:   db 10, "MARK "
tag:    times 64 db '@'
        db " entry=", 10, 0
    times 440 - ($ - $$) db 0
