; An EFI program for x64 that starts what firmware looks for on every volume that it reads, one
; after the other, tells the serial port that all are tried, and ends the machine. UEFI
; Specification 2.10, sections 4.4, 7.3, 7.4, 10.3.5.4, 13.4.
bits 64
%define HANDLE rbp
start:
    push rbx
    push rbp
    push rsi
    push rdi
    push r12
    push r13
    push r14
    push r15
    sub rsp, 0x468              ; 0x00 calls, 0x40 variables, 0x60 a path
    mov r15, rcx                ; ImageHandle
    mov r14, [rdx + 96]         ; EFI_SYSTEM_TABLE.BootServices
    mov ecx, 2                  ; ByProtocol
    lea rdx, [rel volumes]
    xor r8, r8
    lea r9, [rsp + 0x40]        ; how many
    lea rax, [rsp + 0x48]       ; the handles
    mov [rsp + 0x20], rax
    call [r14 + 312]            ; LocateHandleBuffer
    test rax, rax
    jnz ends
    mov r13, [rsp + 0x40]
    mov r12, [rsp + 0x48]
next:
    test r13, r13
    jz ends
    dec r13
    mov HANDLE, [r12]
    add r12, 8
    mov rcx, HANDLE
    lea rdx, [rel paths]
    lea r8, [rsp + 0x50]
    call [r14 + 152]            ; HandleProtocol
    test rax, rax
    jnz next
    mov rsi, [rsp + 0x50]
    lea rdi, [rsp + 0x60]
node:
    cmp byte [rsi], 0x7F        ; the end of the path
    je file
    movzx ecx, word [rsi + 2]
    rep movsb
    jmp node
file:
    lea rsi, [rel program]
    mov ecx, program_end - program
    rep movsb
    xor ecx, ecx                ; BootPolicy
    mov rdx, r15
    lea r8, [rsp + 0x60]
    xor r9, r9
    mov qword [rsp + 0x20], 0
    lea rax, [rsp + 0x58]
    mov [rsp + 0x28], rax
    call [r14 + 200]            ; LoadImage
    test rax, rax
    jnz next
    mov rcx, [rsp + 0x58]
    xor rdx, rdx
    xor r8, r8
    call [r14 + 208]            ; StartImage
    jmp next
ends:
    lea rsi, [rel words]
said:
    lodsb
    test al, al
    jz off
    push rax
busy:
    mov dx, 0x3FD
    in al, dx
    test al, 0x20
    jz busy
    pop rax
    mov dx, 0x3F8
    out dx, al
    jmp said
off:
    mov dx, 0xF4                ; QEMU's isa-debug-exit
    mov eax, 0x10
    out dx, eax
hang:
    hlt
    jmp hang
words:   db 10, "All are tried", 10, 0
volumes: dd 0x964E5B22
         dw 0x6459, 0x11D2
         db 0x8E,0x39,0x00,0xA0,0xC9,0x69,0x72,0x3B
paths:   dd 0x09576E91
         dw 0x6D3F, 0x11D2
         db 0x8E,0x39,0x00,0xA0,0xC9,0x69,0x72,0x3B
program: db 4, 4
         dw program_text_end - program
         dw '\','E','F','I','\','B','O','O','T','\','B','O','O','T','X','6','4','.','E','F','I',0
program_text_end:
         db 0x7F, 0xFF, 4, 0
program_end:
