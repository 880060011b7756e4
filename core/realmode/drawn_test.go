package realmode_test

import (
	"fmt"
	"math/rand/v2"
)

// Flags that instructions leave, of those that the model has.
const (
	cf, pf, zf, sf, df, of = 0x001, 0x004, 0x040, 0x080, 0x400, 0x800
	allFlags               = cf | pf | zf | sf | of
)

// operands of one size: a destination and a source each.
var (
	destinations = map[int][]string{1: {"al", "ah", "bl", "dh", "byte [0x600]"}, 2: {"ax", "bx", "dx", "word [0x600]"}, 4: {"eax", "ebx", "edx", "dword [0x600]"}}
	sources      = map[int][]string{1: {"cl", "bh", "dl"}, 2: {"cx", "bx", "ax"}, 4: {"ecx", "edx", "eax"}}
)

func oneOf[T any](r *rand.Rand, all ...T) T { return all[r.IntN(len(all))] }

// value is a number that instructions are likely to treat differently.
func value(r *rand.Rand) uint32 {
	switch r.IntN(4) {
	case 0:
		return oneOf[uint32](r, 0, 1, 0x7F, 0x80, 0xFF, 0x7FFF, 0x8000, 0xFFFF, 0x7FFFFFFF, 0x80000000, 0xFFFFFFFF)
	case 1:
		return r.Uint32N(40)
	}
	return r.Uint32()
}

// draw makes instructions at random with what they are run on.
func draw(r *rand.Rand, count int) []trial {
	var all []trial
	for range count {
		t := trial{flags: uint16(r.Uint32()) & (allFlags | df),
			eax: value(r), ebx: value(r), ecx: value(r), edx: value(r), cell: value(r)}
		kinds[r.IntN(len(kinds))](r, &t)
		all = append(all, t)
	}
	return all
}

// kinds are groups of instructions. Which flags an instruction leaves undefined: Intel 64 and IA-32 Architectures
// Software Developer's Manual, volume 1, appendix A, "EFLAGS cross-reference".
var kinds = []func(r *rand.Rand, t *trial){twoOperands, twoOperands, oneOperand, shifts, shifts, doubleShifts,
	products, quotients, extensions, flagInstructions, stack, stringInstructions, jumps, addresses, segments,
	otherInstructions}

func size(r *rand.Rand) int { return oneOf(r, 1, 2, 4) }

func twoOperands(r *rand.Rand, t *trial) {
	n := size(r)
	op := oneOf(r, "add", "adc", "sub", "sbb", "cmp", "and", "or", "xor", "test", "mov", "xchg")
	d, s := oneOf(r, destinations[n]...), oneOf(r, sources[n]...)
	t.tells = allFlags | df
	switch {
	case op != "xchg" && r.IntN(3) == 0:
		s = fmt.Sprint(int64(int32(value(r) << (32 - 8*n) >> (32 - 8*n))))
		if n < 4 {
			s = fmt.Sprint(value(r) & (1<<(8*n) - 1))
		}
	case op != "test" && r.IntN(3) == 0 && d[len(d)-1] == ']':
		d, s = s, d
	}
	t.source = fmt.Sprintf("%s %s, %s", op, d, s)
}

func oneOperand(r *rand.Rand, t *trial) {
	t.source, t.tells = oneOf(r, "inc", "dec", "neg", "not")+" "+oneOf(r, destinations[size(r)]...), allFlags|df
}

func shifts(r *rand.Rand, t *trial) {
	n := size(r)
	count := oneOf(r, 1, 1, r.IntN(34), r.IntN(8*n))
	by := fmt.Sprint(count)
	if r.IntN(2) == 0 {
		by, t.ecx = "cl", t.ecx&^0xFF|uint32(count)
	}
	op := oneOf(r, "shl", "shr", "sar", "rol", "ror", "rcl", "rcr")
	t.source, t.tells = fmt.Sprintf("%s %s, %s", op, oneOf(r, destinations[n]...), by), allFlags|df
	count &= 31
	if count > 1 {
		t.tells &^= of
	}
	if (op == "shl" || op == "shr") && count >= 8*n {
		t.tells &^= cf
	}
}

func doubleShifts(r *rand.Rand, t *trial) {
	n := oneOf(r, 2, 4)
	count := oneOf(r, 0, 1, r.IntN(8*n), 32)
	by := fmt.Sprint(count)
	if r.IntN(2) == 0 {
		by, t.ecx = "cl", t.ecx&^0xFF|uint32(count)
	}
	t.source = fmt.Sprintf("%s %s, %s, %s", oneOf(r, "shld", "shrd"), oneOf(r, destinations[n]...), oneOf(r, sources[n]...), by)
	t.tells = allFlags | df
	if count&31 > 1 {
		t.tells &^= of
	}
}

func products(r *rand.Rand, t *trial) {
	n := oneOf(r, 2, 4)
	t.tells = cf | of | df
	switch r.IntN(3) {
	case 0:
		t.source = oneOf(r, "mul", "imul") + " " + oneOf(r, destinations[size(r)]...)
	case 1:
		t.source = fmt.Sprintf("imul %s, %s", oneOf(r, sources[n]...), oneOf(r, destinations[n]...))
	default:
		t.source = fmt.Sprintf("imul %s, %s, %d", oneOf(r, sources[n]...), oneOf(r, destinations[n]...), int32(value(r))>>(32-8*n))
	}
}

// quotients are of what has one: what is divided is less than the divisor beyond the quotient's size.
func quotients(r *rand.Rand, t *trial) {
	n := size(r)
	t.ecx |= 1 << (8*n - 1)
	t.source, t.tells = "div "+map[int]string{1: "cl", 2: "cx", 4: "ecx"}[n], df
	if n == 1 {
		t.eax &^= 0x8000
		return
	}
	t.edx &^= 1 << (8*n - 1)
}

func extensions(r *rand.Rand, t *trial) {
	t.tells = allFlags | df
	n := oneOf(r, 1, 2)
	to := oneOf(r, sources[4]...)
	if n == 1 && r.IntN(2) == 0 {
		to = oneOf(r, sources[2]...)
	}
	t.source = oneOf(r, "cbw", "cwde", "cwd", "cdq", fmt.Sprintf("%s %s, %s", oneOf(r, "movzx", "movsx"), to, oneOf(r, destinations[n]...)))
}

func flagInstructions(r *rand.Rand, t *trial) {
	t.source, t.tells = oneOf(r, "clc", "stc", "cmc", "cld", "std", "sahf", "lahf\n and ah, 0xC7"), allFlags|df
	if t.source[0] == 'l' {
		t.tells = df
	}
}

func stack(r *rand.Rand, t *trial) {
	t.source = oneOf(r, "push eax\n pop ebx", "push ax\n pop cx", "push word [0x600]\n pop dx", "pusha\n mov cx, 1\n popa",
		"pushad\n mov cx, 1\n popad", "push dword [0x600]\n pop eax", "push -3\n pop word [0x602]", "push ds\n pop ax",
		"push 0x1234\n push cx\n pop dword [0x600]", "push bp\n mov bp, sp\n push cx\n leave", "push ax\n push ss\n pop es\n pop bx")
	t.tells = allFlags | df
}

// stringInstructions go over the cell, both ways.
func stringInstructions(r *rand.Rand, t *trial) {
	t.tells, t.ecx = allFlags|df, uint32(r.IntN(5))|t.ecx&0xFFFF0000
	w := oneOf(r, "b", "w", "d")
	t.source = oneOf(r, "mov si, 0x600\n lods"+w, "mov di, 0x600\n stos"+w+"\n mov ax, di", "mov di, 0x601\n scas"+w+"\n mov ax, di",
		"mov si, 0x600\n rep lods"+w, "mov di, 0x600\n repne scas"+w, "mov di, 0x602\n repe scas"+w, "mov si, 0x600\n mov di, sp\n cmps"+w)
}

func jumps(r *rand.Rand, t *trial) {
	t.tells = allFlags | df
	t.source = oneOf(r, "jo", "jno", "jb", "jae", "je", "jne", "jbe", "ja", "js", "jns", "jp", "jnp", "jl", "jge", "jle", "jg", "jcxz",
		"jecxz", "loop", "loope", "loopne") + " %%there\n mov al, 0x5A\n%%there:"
	if r.IntN(3) == 0 {
		t.ecx = uint32(r.IntN(2)) + oneOf[uint32](r, 0, 0x10000)
	}
}

func addresses(r *rand.Rand, t *trial) {
	t.tells, t.eax = allFlags|df, t.eax&^0xFC
	t.source = oneOf(r, "lea eax, [bx+si+5]", "lea cx, [bx+di-9]", "lea edx, [bp+di]", "lea eax, [ebx+ecx*4+3]", "lea ax, [ebx*8+edx]",
		"mov bx, 0x5FE\n mov al, [bx+2]", "mov bx, 0x600\n xlatb\n mov bx, 1", "mov ebx, 0x5FC\n mov eax, [ebx+4]", "les bx, [0x600]\n push 0\n pop es",
		"mov si, 0x600\n mov [si+1], cl", "lea eax, [esp+8]", "mov al, [cs:0x601]", "mov ax, cs", "mov [0x600], ds")
}

// segments reach the cell by other segments than the data's: at 0 in 60h, at 600h in that of the stack.
func segments(r *rand.Rand, t *trial) {
	t.tells = allFlags | df
	t.source = oneOf(r, "push 0x60\n pop es\n mov ax, [es:0]", "push 0x60\n pop fs\n mov [fs:1], cl", "push 0x60\n pop gs\n mov eax, [gs:0]",
		"push 0x60\n pop ds\n mov bp, 0x600\n mov ax, [bp]", "mov ebp, 0x600\n push 0x60\n pop ds\n mov al, [ebp]",
		"push 0x60\n pop ds\n push cx\n mov ax, [esp]\n pop dx", "push 0x60\n pop ds\n mov cl, [1]", "push 0x60\n pop ds\n mov ax, [cs:0x600]",
		"lds bx, [0x600]\n mov cx, ds", "les bx, [0x600]\n mov cx, es", "lfs ax, [0x600]\n mov dx, fs", "lgs ebx, [0x600]\n mov cx, gs",
		"push 0x60\n pop es\n mov di, 1\n stosw", "push 0x60\n pop es\n mov si, 1\n es lodsw", "mov si, 0x600\n cs lodsd",
		"push 0x60\n pop ds\n mov bp, 0x5FF\n mov si, 1\n mov al, [bp+si]", "push 0x60\n pop ds\n mov si, 2\n mov al, [si]")
}

func otherInstructions(r *rand.Rand, t *trial) {
	n := oneOf(r, 2, 4)
	t.source, t.tells = oneOf(r, "nop", "pause", "wbinvd", fmt.Sprintf("bt %s, %d", oneOf(r, destinations[n]...), r.IntN(8*n)),
		fmt.Sprintf("bt %s, %s", oneOf(r, sources[n]...), oneOf(r, sources[n]...))), allFlags|df
	if t.source[0] == 'b' {
		t.tells = cf | zf | df
	}
}
