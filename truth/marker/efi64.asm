; An EFI program for x64 that tells the serial port that it was started, by which
; boot entry, and ends the machine; with NEXT it goes back to the firmware, which then tries
; what is next. UEFI Specification 2.10, sections 3.1.2, 4.3, 8.2, appendix D.
bits 64
start:
    push rbx
    push rsi
    push rdi
    sub rsp, 0x60
    mov rbx, [rdx + 88]         ; EFI_SYSTEM_TABLE.RuntimeServices
    mov qword [rsp + 0x30], 2   ; DataSize
    mov qword [rsp + 0x38], 0   ; Data
    lea rcx, [rel name]
    lea rdx, [rel vendor]
    xor r8, r8
    lea r9, [rsp + 0x30]
    lea rax, [rsp + 0x38]
    mov [rsp + 0x20], rax
    call [rbx + 72]             ; GetVariable
    mov rbx, rax
    lea rsi, [rel mark]
    call print
    lea rsi, [rel entry]
    call print
    test rbx, rbx
    jnz ends                    ; no BootCurrent
    mov di, [rsp + 0x38]
    mov ecx, 4
digit:
    rol di, 4
    mov eax, edi
    and eax, 15
    lea rsi, [rel digits]
    mov al, [rsi + rax]
    call put
    loop digit
ends:
    mov al, 10
    call put
%ifdef NEXT
    mov rax, 0x8000000000000015 ; EFI_ABORTED
    add rsp, 0x60
    pop rdi
    pop rsi
    pop rbx
    ret
%else
    mov dx, 0xF4                ; QEMU's isa-debug-exit
    mov eax, 0x10
    out dx, eax
hang:
    hlt
    jmp hang
%endif
print:
    lodsb
    test al, al
    jz done
    call put
    jmp print
put:
    push rax
wait_empty:
    mov dx, 0x3FD
    in al, dx
    test al, 0x20
    jz wait_empty
    pop rax
    mov dx, 0x3F8
    out dx, al
done:
    ret
digits: db "0123456789ABCDEF"
name:   dw 'B','o','o','t','C','u','r','r','e','n','t',0
vendor: dd 0x8BE4DF61
        dw 0x93CA, 0x11D2
        db 0xAA,0x0D,0x00,0xE0,0x98,0x03,0x2B,0x8C
entry:  db " entry=", 0
mark:   db 10, "MARK "
tag:    times 64 db '@'
        db 0
