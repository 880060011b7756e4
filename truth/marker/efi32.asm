; The same program for ia32. UEFI Specification 2.10, section 2.3.2.
bits 32
start:
    push ebp
    mov ebp, esp
    sub esp, 16
    push ebx
    push esi
    push edi
    call here
here:
    pop edi                     ; where we are
    mov eax, [ebp + 12]         ; EFI_SYSTEM_TABLE
    mov ebx, [eax + 56]         ; RuntimeServices
    mov dword [ebp - 4], 2
    mov dword [ebp - 8], 0
    lea eax, [ebp - 8]
    push eax
    lea eax, [ebp - 4]
    push eax
    push 0
    lea eax, [edi + vendor - here]
    push eax
    lea eax, [edi + name - here]
    push eax
    call [ebx + 48]             ; GetVariable
    add esp, 20
    mov ebx, eax
    lea esi, [edi + mark - here]
    call print
    lea esi, [edi + entry - here]
    call print
    test ebx, ebx
    jnz ends
    mov bx, [ebp - 8]
    mov ecx, 4
digit:
    rol bx, 4
    mov eax, ebx
    and eax, 15
    mov al, [edi + eax + digits - here]
    call put
    loop digit
ends:
    mov al, 10
    call put
    mov dx, 0xF4
    mov eax, 0x10
    out dx, eax
hang:
    hlt
    jmp hang
print:
    lodsb
    test al, al
    jz done
    call put
    jmp print
put:
    push eax
wait_empty:
    mov dx, 0x3FD
    in al, dx
    test al, 0x20
    jz wait_empty
    pop eax
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
