# Code for the first sector of a disk with a table of the older kind: it makes room for itself, finds the partition that is marked to be started,
# reads that one's first sector to where firmware would have put it, and goes on there. Put together by
#   as --32 -o first-sector.o first-sector.s && ld -m elf_i386 --oformat binary -Ttext 0x600 -e start -o first-sector.bin first-sector.o
    .intel_syntax noprefix
    .code16
    .globl start
start:
    cli
    xor ax, ax
    mov ss, ax
    mov sp, 0x7c00
    mov ds, ax
    mov es, ax
    sti
    cld
    mov si, 0x7c00
    mov di, 0x600
    mov cx, 0x100
    rep movsw
    ljmp 0, moved
moved:
    # Some firmware says nothing of use here: what is not a disk becomes the first one.
    test dl, 0x80
    jnz named
    mov dl, 0x80
named:
    mov si, 0x600 + 446
    mov cx, 4
look:
    cmp byte ptr [si], 0x80
    je found
    add si, 16
    loop look
    mov si, offset none
    jmp say
found:
    mov eax, [si + 8]
    mov [place], eax
    mov bp, 5
again:
    push si
    mov si, offset packet
    mov word ptr [si + 2], 1
    mov ah, 0x42
    int 0x13
    pop si
    jnc done
    xor ah, ah
    int 0x13
    dec bp
    jnz again
    mov si, offset unread
    jmp say
done:
    cmp word ptr [0x7c00 + 510], 0xaa55
    mov di, offset unmarked
    jne wrong
    ljmp 0, 0x7c00
wrong:
    mov si, di
say:
    lodsb
    test al, al
    jz halt
    mov ah, 0x0e
    mov bx, 7
    int 0x10
    jmp say
halt:
    int 0x18
stay:
    hlt
    jmp stay
packet:
    .byte 16, 0
    .word 1
    .word 0x7c00, 0
place:
    .long 0, 0
none:
    .asciz "No partition is marked to be started.\r\n"
unread:
    .asciz "The partition to be started cannot be read.\r\n"
unmarked:
    .asciz "The partition to be started has no boot code.\r\n"
    .org start + 440
