package listing

import (
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"
)

// part is a piece of a text that one command printed: the lines from one to another,
// counted from 0.
type part struct {
	format   Format
	from, to int
	command  string // as the prompt before it shows it
	after    bool   // something follows it in the text
	begins   bool   // its beginning is seen: a prompt stands before it
}

// maxParts bounds the pieces of a text.
const maxParts = 64

// parts splits a text at the prompts of a terminal and where another command's output
// begins. What no command is recognised for belongs to what stands before it.
func (t *text) parts() []part {
	var list []part
	prompt, command, fresh := -1, "", true
	for from := 0; from < len(t.lines); {
		s := t.lines[from]
		if c, is := prompted(s); is {
			prompt, command, fresh = from, c, true
		}
		if strings.TrimSpace(s) == "" || prompt == from {
			from++
			continue
		}
		to := from
		for to < len(t.lines) && strings.TrimSpace(t.lines[to]) != "" {
			if _, is := prompted(t.lines[to]); is {
				break
			}
			to++
		}
		block := t.beginning(from, to)
		block.command = command
		format := recognise(block)
		var last *part
		if len(list) > 0 {
			last = &list[len(list)-1]
		}
		switch {
		case last != nil && (!fresh && goesOnWith(last.format, format, t.lines[from]) || len(list) == maxParts):
			last.to = to
		case last != nil && !fresh && last.format == "" && format == Sgdisk &&
			slices.ContainsFunc(t.lines[last.from:last.to], isGdisk):
			last.to, last.format = to, format // what it said before the list
		default:
			list = append(list, part{format: format, from: from, to: to, command: command, begins: fresh &&
				prompt >= 0})
		}
		from, fresh = to, false
	}
	for i := range list {
		list[i].after = i+1 < len(list) || prompt >= list[i].to
	}
	return list
}

// Bounds of what a block is recognised by: its first lines, and their beginnings.
const (
	maxSeen      = 300
	maxSeenWidth = 4096
)

// beginning is what the block of lines is recognised by.
func (t *text) beginning(from, to int) *text {
	to = min(to, from+maxSeen)
	lines := t.lines[from:to]
	for i, s := range lines {
		if len(s) > maxSeenWidth {
			lines = slices.Clone(lines)
			for j := i; j < len(lines); j++ {
				lines[j] = lines[j][:min(len(lines[j]), maxSeenWidth)]
			}
			break
		}
	}
	return &text{name: t.name, raw: t.raw, lines: lines}
}

// goesOnWith reports whether a block of a format belongs to the one before it.
func goesOnWith(before, format Format, first string) bool {
	first = strings.TrimSpace(first)
	switch {
	case strings.HasPrefix(first, "{") || strings.HasPrefix(first, "[") || strings.HasPrefix(first, "<?xml"):
		return false
	case format == "" || format == before:
		return true
	}
	// A table within what diskpart prints may look like another command's.
	return before == Diskpart && (format == PowerShell || format == KeyedList) || before == PowerShell &&
		format == KeyedList ||
		before == DiskManagement && format == KeyedList
}

// each hands over part by part, with all other lines emptied so that its lines keep their
// numbers.
func (t *text) each(parts []part, do func(p part, only *text)) {
	lines := make([]string, len(t.lines))
	for _, p := range parts {
		copy(lines[p.from:p.to], t.lines[p.from:p.to])
		do(p, &text{name: t.name, raw: t.raw, lines: lines[:p.to], after: p.after, begins: p.begins,
			command: p.command, broken: t.broken && p.to == len(t.lines)})
		clear(lines[p.from:p.to])
	}
}

var promptForms = []*regexp.Regexp{
	regexp.MustCompile(`^(?:\([^()]*\) ?)?[\w.-]+@[\w.-]+(?::| )\S*\s?[$#%] ?(.*)$`), // user@host:~$
	regexp.MustCompile(`^\[[\w.-]+@[\w.-]+ [^\]]*\][$#] ?(.*)$`),                     // [user@host dir]$
	regexp.MustCompile(`^(?:PS )?[A-Za-z]:\\[^>]*>\s?(.*)$`),                         // C:\> and PS C:\>
	regexp.MustCompile(`^(?:bash|sh|zsh)-[\d.]+[$#] ?(.*)$`),
	regexp.MustCompile(`^PS ?> ?(.*)$`),
	regexp.MustCompile(`^\$ (\S.*)$`),
	// A comment of a file begins like the prompt of a bare root shell.
	regexp.MustCompile(`^# ((?:sudo |/\S*/)?(?:[sc]?fdisk|[sc]?gdisk|lsblk|blkid|parted|efibootmgr|efivar|cat|mount|findmnt|mdadm|pv\w+|lv\w+|vg\w+|cryptsetup|lspci|dmidecode|bootctl|mokutil|df|smartctl|uname|ls|clear|exit|exec|dmesg|lshw)\b.*)$`),
	regexp.MustCompile(`^~ [$#] ?(.*)$`),
	regexp.MustCompile(`^-?(?:(?:bash|sh)?[$>]|(?:bash|sh)#)\s*()$`),
}

// prompted reports whether a line is a terminal's prompt, with the command behind it.
func prompted(s string) (command string, is bool) {
	s = strings.TrimSpace(s)
	for _, form := range promptForms {
		if m := form.FindStringSubmatch(s); m != nil {
			return strings.TrimPrefix(m[1], "sudo "), true
		}
	}
	return "", false
}

// isPrompt recognises lines of a terminal around a listing.
func isPrompt(s string) bool {
	_, is := prompted(s)
	return is || strings.HasPrefix(strings.TrimSpace(s), "DISKPART>") || strings.HasPrefix(strings.TrimSpace(s), "sudo ")
}

// unwrapped is a line as it was before a window broke it.
type unwrapped struct {
	text string
	line int  // from 1
	last bool // nothing follows it
}

// maxJoined bounds the lines of a record.
const maxJoined = 64

// unwrap joins lines that a window broke at its edge: such a line is as long as the
// longest one, and the next begins no record.
func (t *text) unwrap(begins func(string) bool) []unwrapped {
	widest := 0
	for _, s := range t.lines {
		widest = max(widest, utf8.RuneCountInString(s))
	}
	var out []unwrapped
	joined := 0
	full := false // the line before ended at the edge
	for i, s := range t.lines {
		if joined++; full && s != "" && joined < maxJoined && !begins(s) && !isPrompt(s) {
			out[len(out)-1].text += s
		} else {
			out, joined = append(out, unwrapped{text: s, line: i + 1}), 0
		}
		out[len(out)-1].last = i == len(t.lines)-1
		full = widest >= 40 && utf8.RuneCountInString(s) == widest && begins(out[len(out)-1].text)
	}
	return out
}
