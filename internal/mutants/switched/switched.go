// Package switched holds the operators of a package whose every operator can be another
// one: all changes stand in one program, and the environment says which of them is made.
// Only what the command mutants rewrites imports it.
package switched

import (
	"cmp"
	"os"
	"strconv"
	"syscall"
)

// Made names the variable that says which change is made: a number from 1 on.
const Made = "MUTANT"

// Seen names the variable with the path of a file of one byte for each change, which
// becomes 1 once its place is reached.
const Seen = "MUTANTS_SEEN"

var (
	made = number(os.Getenv(Made))
	seen = file(os.Getenv(Seen))
)

func number(text string) int {
	n, err := strconv.Atoi(text)
	if err != nil {
		return 0
	}
	return n
}

// file maps the file into memory, so that what is written stays when the program ends in
// whatever way.
func file(path string) []byte {
	if path == "" {
		return nil
	}
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		panic(err)
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		panic(err)
	}
	mapped, err := syscall.Mmap(int(f.Fd()), 0, int(info.Size()), syscall.PROT_READ|syscall.PROT_WRITE,
		syscall.MAP_SHARED)
	if err != nil {
		panic(err)
	}
	return mapped
}

// On reports whether a change is made, and notes that its place is reached.
func On(id int) bool {
	if seen != nil {
		seen[id] = 1
	}
	return id == made
}

// Number is what can be calculated with.
type Number interface {
	Integer | ~float32 | ~float64
}

// Integer is a whole number.
type Integer interface {
	~int | ~int8 | ~int16 | ~int32 | ~int64 | ~uint | ~uint8 | ~uint16 | ~uint32 | ~uint64 | ~uintptr
}

// Less is x < y; with the change id x >= y, with the next one x <= y.
func Less[T cmp.Ordered](id int, x, y T) bool { return moved(id, x < y, x == y) }

// AtLeast is x >= y; with the change id x < y, with the next one x > y.
func AtLeast[T cmp.Ordered](id int, x, y T) bool { return moved(id, x >= y, x == y) }

// More is x > y; with the change id x <= y, with the next one x >= y.
func More[T cmp.Ordered](id int, x, y T) bool { return moved(id, x > y, x == y) }

// AtMost is x <= y; with the change id x > y, with the next one x < y.
func AtMost[T cmp.Ordered](id int, x, y T) bool { return moved(id, x <= y, x == y) }

// moved is a bound's condition; with the change id the contrary, with the next one the
// same but for what is equal.
func moved(id int, holds, equal bool) bool {
	contrary, bound := On(id), On(id+1)
	return holds != (contrary || bound && equal)
}

// Add is x + y, with the change x - y.
func Add[T Number](id int, x, y T) T {
	if On(id) {
		return x - y
	}
	return x + y
}

// Sub is x - y, with the change x + y.
func Sub[T Number](id int, x, y T) T {
	if On(id) {
		return x + y
	}
	return x - y
}

// Mul is x * y, with the change x / y.
func Mul[T Number](id int, x, y T) T {
	if On(id) {
		return x / y
	}
	return x * y
}

// Quo is x / y, with the change x * y.
func Quo[T Number](id int, x, y T) T {
	if On(id) {
		return x * y
	}
	return x / y
}

// Rem is x % y, with the change x * y.
func Rem[T Integer](id int, x, y T) T {
	if On(id) {
		return x * y
	}
	return x % y
}

// Step is 1, with the change -1, as x is counted.
func Step[T Number](id int, x T) T {
	if On(id) {
		return x - (x + 1)
	}
	return 1
}
