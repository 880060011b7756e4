package listing

import (
	"regexp"
	"strconv"
	"strings"

	"latchkey/core/disk"
)

// Windows' commands that tell of one volume: manage-bde -status, fsutil fsinfo ntfsinfo,
// chkdsk, and reagentc /info, which tells where the recovery environment lies. Their words
// are translated; forms and figures are not. From memory.

var (
	bdeVolume  = regexp.MustCompile(`^\S+ "?([A-Z]):"? \[(.*)\]$`)
	bdeVersion = regexp.MustCompile(`^\s+[^:]*BitLocker[^:]*:\s+(\S.*?)\s*$`)
	bdeSize    = regexp.MustCompile(`^\s+[^:]+:\s+(\d[\d.,]* [KMGT]B)\s*$`)
	ofVolume   = regexp.MustCompile(`(?i)(?:ntfsinfo|chkdsk(?:\.exe)?)\s+"?([a-z]):`)
	ntfsField  = regexp.MustCompile(`(?i)^(NTFS[^:]*(?:serial|seriennummer|série|serie)[^:]*|[^:]+?)\s*:\s+(0x[0-9a-f]+|\d{1,3}(?:[.,' \x{a0}\x{202f}]\d{3})+|\d+)(?:\s|$)`)
	recoveryAt = regexp.MustCompile(`(?i)\\device\\harddisk(\d+)\\partition(\d+)`)
)

func isManageBDE(t *text) bool {
	return anyLine(t, bdeVersion.MatchString) || anyLine(t, bdeVolume.MatchString)
}

// readManageBDE takes from each volume whether it is encrypted: the version of the
// encryption is a figure there, and a word where there is none.
func readManageBDE(t *text, l *Listing) {
	var v *value
	for i, s := range t.lines {
		n := i + 1
		if m := bdeVolume.FindStringSubmatch(strings.TrimSpace(s)); m != nil {
			v = object(n, []string{"DriveLetter", "FileSystemLabel"}, []string{m[1], m[2]})
			l.volumes = append(l.volumes, v)
			continue
		}
		version, long := bdeVersion.FindStringSubmatch(s), bdeSize.FindStringSubmatch(s)
		switch {
		case v != nil && version != nil && version[1][0] >= '1' && version[1][0] <= '9':
			v.fields = append(v.fields, field{"FileSystem", n, &value{line: n, text: "BitLocker"}})
			l.mark(n, Understood, "volume %s is encrypted", v.str("DriveLetter"))
		case v != nil && version == nil && long != nil && v.get("Size") == nil:
			v.fields = append(v.fields, field{"Size", n, &value{line: n, text: long[1]}})
			l.mark(n, Understood, "its size")
		case strings.TrimSpace(s) != "":
			l.mark(n, Passed, "")
		}
	}
}

// isVolumeReport recognises what a command says of the volume that its own line names.
func isVolumeReport(t *text) bool {
	return ofVolume.MatchString(t.command) && anyLine(t, func(s string) bool {
		return ntfsField.MatchString(s) || strings.Contains(s, "NTFS")
	})
}

// readVolumeReport takes the size and what is free of an NTFS volume: its total clusters
// and the free ones, in the order in which every language has them.
func readVolumeReport(t *text, l *Listing) {
	of := ofVolume.FindStringSubmatch(t.command)
	if of == nil {
		l.Problem = "Which volume this speaks of is not told: paste the line with the command, too."
		return
	}
	at := 1
	figures := map[string]int64{}
	for i, s := range t.lines {
		m := ntfsField.FindStringSubmatch(s)
		if m == nil {
			if strings.TrimSpace(s) != "" {
				l.mark(i+1, Passed, "")
			}
			continue
		}
		at = i + 1
		n, err := strconv.ParseInt(ungrouped.Replace(m[2]), 0, 64)
		switch name := strings.ToLower(m[1]); {
		case err != nil:
		case strings.Contains(name, "total sectors"):
			figures["sectors"] = n
		case strings.Contains(name, "free clusters"):
			figures["free"] = n
		case strings.HasPrefix(name, "bytes per sector"):
			figures["sector"] = n
		case strings.HasPrefix(name, "bytes per cluster"):
			figures["cluster"] = n
		}
		l.mark(i+1, Passed, "")
	}
	names, texts := []string{"DriveLetter", "FileSystem"}, []string{of[1], "NTFS"}
	for name, n := range map[string]int64{"Size": product(figures["sectors"], figures["sector"]),
		"SizeRemaining": product(figures["free"], figures["cluster"])} {
		if n > 0 {
			names, texts = append(names, name), append(texts, strconv.FormatInt(n, 10))
		}
	}
	l.volumes = append(l.volumes, object(at, names, texts))
}

// ungrouped takes out the marks between groups of digits.
var ungrouped = strings.NewReplacer(".", "", ",", "", "'", "", " ", "", "\u00a0", "", "\u202f", "")

// product multiplies two figures of a listing; 0 where the result is beyond any disk.
func product(a, b int64) int64 {
	if a <= 0 || b <= 0 || a > disk.MaxSize/b {
		return 0
	}
	return a * b
}

func isReagentc(t *text) bool { return anyLine(t, recoveryAt.MatchString) }

// readReagentc takes the partition that holds the recovery environment.
func readReagentc(t *text, l *Listing) {
	for i, s := range t.lines {
		m := recoveryAt.FindStringSubmatch(s)
		if m == nil {
			if strings.TrimSpace(s) != "" {
				l.mark(i+1, Passed, "")
			}
			continue
		}
		number, err := strconv.Atoi(m[2])
		if d := l.disk("Disk "+m[1], i+1); d != nil && err == nil && number > 0 {
			if p := partition(d, number, i+1); p != nil && p.Type.IsZero() && p.MBRType == 0 {
				p.Name = "Windows recovery environment"
			}
			l.mark(i+1, Understood, "the recovery environment is in partition %d of disk %s", number, m[1])
		}
	}
}
