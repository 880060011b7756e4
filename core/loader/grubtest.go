package loader

import (
	"slices"
	"strconv"
	"strings"
)

// truth is a condition's value.
type truth int

const (
	unsure truth = iota
	yes
	no
)

func truthOf(b bool) truth {
	if b {
		return yes
	}
	return no
}

func (t truth) not() truth { return [...]truth{unsure, no, yes}[t] }

// test evaluates a condition. GNU GRUB Manual 2.06, "test".
func (r *grubRun) test(args []string) truth {
	if n := len(args); n > 0 && args[n-1] == "]" {
		args = args[:n-1]
	}
	t := &grubTest{run: r, args: args}
	v := t.or()
	if len(t.args) > 0 {
		return unsure
	}
	return v
}

type grubTest struct {
	run   *grubRun
	args  []string
	depth int
}

func (t *grubTest) or() truth {
	v := t.and()
	for len(t.args) > 0 && t.args[0] == "-o" {
		t.args = t.args[1:]
		switch w := t.and(); {
		case v == yes || w == yes:
			v = yes
		case v == no && w == no:
		default:
			v = unsure
		}
	}
	return v
}

func (t *grubTest) and() truth {
	v := t.one()
	for len(t.args) > 0 && t.args[0] == "-a" {
		t.args = t.args[1:]
		switch w := t.one(); {
		case v == no || w == no:
			v = no
		case v == yes && w == yes:
		default:
			v = unsure
		}
	}
	return v
}

func (t *grubTest) one() truth {
	if t.depth++; len(t.args) == 0 || t.depth > maxGRUBDepth {
		return no
	}
	defer func() { t.depth-- }()
	a := t.args
	switch {
	case a[0] == "!":
		t.args = a[1:]
		return t.one().not()
	case a[0] == "(" && len(a) > 1:
		t.args = a[1:]
		v := t.or()
		if len(t.args) > 0 && t.args[0] == ")" {
			t.args = t.args[1:]
		}
		return v
	case len(a) >= 3 && compares(a[1]):
		t.args = a[3:]
		return compared(a[0], a[1], a[2])
	case len(a) >= 2 && (a[0] == "-n" || a[0] == "-z"):
		t.args = a[2:]
		if strings.Contains(a[1], open) {
			return unsure
		}
		return truthOf((a[1] != "") == (a[0] == "-n"))
	case len(a) >= 2 && (a[0] == "-f" || a[0] == "-e" || a[0] == "-s" || a[0] == "-d"):
		t.args = a[2:]
		raw, there, known := t.run.file(a[1])
		if !known || a[0] == "-d" {
			return unsure
		}
		return truthOf(there && (a[0] != "-s" || len(raw) > 0))
	}
	t.args = a[1:]
	if strings.Contains(a[0], open) {
		return unsure
	}
	return truthOf(a[0] != "")
}

func compares(op string) bool {
	return slices.Contains([]string{"=", "==", "!=", "<", "<=", ">", ">=", "-eq", "-ne", "-lt", "-le", "-gt", "-ge"}, op)
}

func compared(a, op, b string) truth {
	if strings.Contains(a+b, open) {
		return unsure
	}
	switch op {
	case "=", "==":
		return truthOf(a == b)
	case "!=":
		return truthOf(a != b)
	}
	x, err1 := strconv.ParseInt(a, 0, 64)
	y, err2 := strconv.ParseInt(b, 0, 64)
	if err1 != nil || err2 != nil {
		return unsure
	}
	switch op {
	case "-eq":
		return truthOf(x == y)
	case "-ne":
		return truthOf(x != y)
	case "-lt":
		return truthOf(x < y)
	case "-le":
		return truthOf(x <= y)
	case "-gt":
		return truthOf(x > y)
	case "-ge":
		return truthOf(x >= y)
	}
	return unsure
}
