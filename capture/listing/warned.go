package listing

import (
	_ "embed"
	"regexp"
	"slices"
	"strings"
	"sync"

	"latchkey/core/disk"
	"latchkey/core/machine"
)

// What the tools say of a disk's tables before they list them: a tool that finds one copy damaged
// lists the other.

// said holds what fdisk and parted say, by what it begins with, in each of their languages: the
// catalogues of Debian's util-linux-locales 2.38.1 and libparted-i18n 3.5.
//
//go:embed warnings.txt
var said string

// spoken are the lines of said: a code, and a beginning.
var spoken = sync.OnceValue(func() (all [][2]string) {
	for line := range strings.Lines(said) {
		code, words, _ := strings.Cut(strings.TrimSpace(line), "\t")
		all = append(all, [2]string{code, words})
	}
	return all
})

// speaksOfOne is what some of each of these sentences has in it; GTP is the Swedish catalogue's.
var speaksOfOne = regexp.MustCompile(`GPT|GTP|ГПТ|/dev/`)

// forms are further sentences. gdisk is not translated: gpt.cc of 1.0.9. The last but one is
// parted's question, libparted/labels/gpt.c.
var forms = []struct {
	form *regexp.Regexp
	code disk.ProblemCode
}{
	{regexp.MustCompile(`^Caution: invalid main GPT header, but valid backup|^Main (?:header|partition table): ERROR$|^Problem: The CRC for the main `), disk.CodeGPTPrimaryToldDamaged},
	{regexp.MustCompile(`^Caution: invalid backup GPT header, but valid main header|^Backup (?:header|partition table): ERROR$|^(?:Problem|Caution): The CRC for the backup `), disk.CodeGPTBackupToldDamaged},
	{regexp.MustCompile(`^Problem: The secondary header's self-pointer indicates`), disk.CodeGPTBackupMisplaced},
	{regexp.MustCompile(`^Found valid GPT with corrupt MBR`), disk.CodeMBRToldDamaged},
	{regexp.MustCompile(`\bcontains GPT signatures, indicating that it has a GPT table\.`), disk.CodeMBRToldDamaged},
	{regexp.MustCompile(`^Found valid GPT with hybrid MBR`), disk.CodeMBRHybrid},
}

// banners are the lines around listings that tell nothing.
var banners = regexp.MustCompile(`(?i)^(GPT fdisk \(gdisk\) version|Partition table scan:$|(MBR|BSD|APM|GPT): [a-z ]+$|(Main|Backup) (header|partition table): OK$|` +
	`Warning: Invalid CRC on |Warning! (?:One or more CRCs|Main and backup partition tables differ|Main partition table CRC)|` +
	`Caution! After loading partitions|on the recovery & transformation menu|instead of main partition table!|from backup!$|(?:backup )?header from main header\.$|GPT PMBR size mismatch|Found valid MBR and|\d - (?:MBR|GPT|Create blank GPT)$|Microsoft DiskPart|\(C\) |Copyright \(C\)|On computer: |Fix/Ignore\?)`)

// warned gives each disk what was said of it: that stands before the disk. What stands before the
// first of several may be of any: where all was written to a file, the warnings come first.
func (l *Listing) warned(t *text) {
	small := slices.ContainsFunc(t.lines, tooSmall.MatchString)
	goesOn := false
	for i, s := range t.lines {
		s = bare(s)
		code := warning(s)
		goesOn = s != "" && (goesOn || isGdisk(s))
		switch d, sure := l.meant(t, i); {
		case code == "" || i+1 < len(t.lines) && mended.MatchString(t.lines[i+1]),
			small && code == disk.CodeGPTBackupMisplaced:
			silent := goesOn || banners.MatchString(s) || strings.Contains(s, "###")
			if silent && l.Lines[i].State == Unread && l.Lines[i].Means == "" {
				l.mark(i+1, Passed, "")
			}
		case d == nil || !sure:
			l.mark(i+1, Passed, "of which disk is not told")
		case d.Style == disk.StyleGPT:
			d.Warned = append(d.Warned, machine.Warning{Code: code, Line: i + 1})
			l.mark(i+1, Understood, "of %s: %s", d.Name, code)
		}
	}
}

// isGdisk reports whether a line begins something that gdisk says.
func isGdisk(s string) bool { return begins.MatchString(bare(s)) }

// bare is a line without what is around its words: gdisk rings the bell.
func bare(s string) string { return strings.Trim(s, " \t\r\a") }

// begins are the first lines of what gdisk says in several; tooSmall tells that a backup which is not
// at the end lies behind it.
var (
	begins   = regexp.MustCompile(`^(?:Problem|Warning|Caution)[:!] |^Found (?:valid|invalid) |^Partition\(s\) in the protective MBR are too big|^No problems found\.|^Identified \d+ problems!$`)
	tooSmall = regexp.MustCompile(`^Problem: (?:Disk is too small to hold all the data|GPT claims the disk is larger than it is)`)
)

// mended is the answer that has parted move the backup.
var mended = regexp.MustCompile(`(?i)^\s*Fix/Ignore\? *f`)

func warning(s string) disk.ProblemCode {
	for _, f := range forms {
		if f.form.MatchString(s) {
			return f.code
		}
	}
	if !speaksOfOne.MatchString(s) {
		return ""
	}
	for _, w := range spoken() {
		if strings.Contains(s, w[1]) {
			return disk.ProblemCode(w[0])
		}
	}
	return ""
}

// meant is the disk that follows a line, and whether the line can be of no other.
func (l *Listing) meant(t *text, line int) (next *machine.Described, sure bool) {
	if len(l.Disks) == 1 {
		return &l.Disks[0], true
	}
	first := true
	for i := range l.Disks {
		switch d := &l.Disks[i]; {
		case d.Line <= line:
			first = false
		case next == nil || d.Line < next.Line:
			next = d
		}
	}
	if next == nil || !first {
		return next, next != nil
	}
	for ; line >= 0; line-- {
		if command, is := prompted(t.lines[line]); is {
			return next, strings.HasSuffix(command, "/"+next.Name)
		}
	}
	return next, false
}
