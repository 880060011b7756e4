package listing

import (
	_ "embed"
	"regexp"
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
	{regexp.MustCompile(`^Caution: invalid main GPT header, but valid backup|^Main (?:header|partition table): ERROR$`), disk.CodeGPTPrimaryToldDamaged},
	{regexp.MustCompile(`^Caution: invalid backup GPT header, but valid main header|^Backup (?:header|partition table): ERROR$`), disk.CodeGPTBackupToldDamaged},
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
	for i, s := range t.lines {
		s = strings.Trim(s, " \t\r\a") // gdisk rings the bell
		code := warning(s)
		switch d, sure := l.meant(t, i); {
		case code == "" || i+1 < len(t.lines) && mended.MatchString(t.lines[i+1]):
			if l.Lines[i].State == Unread && l.Lines[i].Means == "" && (banners.MatchString(s) || strings.Contains(s, "###")) {
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
