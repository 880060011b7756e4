// Package running reads what a running system answers after a start: what is told of it
// becomes facts, what is not recognised stays untold.
package running

import (
	"regexp"
	"slices"
	"strconv"
	"strings"

	"latchkey/capture/listing"
	"latchkey/core/handover"
	"latchkey/core/machine"
)

// MaxBytes bounds an answer.
const MaxBytes = 256 << 10

// Answer is what was recognised in a text.
type Answer struct {
	handover.Told
	Boots []Boot
	// Means are what was understood, in words.
	Means []string
}

// Read reads the answers of commands, one or several in a text. What nobody recognises
// tells nothing; that is no error.
func Read(text string) Answer {
	if len(text) > MaxBytes {
		text = text[:MaxBytes]
	}
	text = strings.NewReplacer("\r\r\n", "\n", "\r\n", "\n", "\r", "\n").Replace(text)
	var a Answer
	a.Disks = disks(text)
	for i := range a.Disks {
		a.Means = append(a.Means, "a disk with "+strconv.Itoa(len(a.Disks[i].Partitions))+" partitions")
	}
	for line := range strings.Lines(text) {
		a.line(strings.TrimSpace(line))
	}
	a.recoveryPlace(text)
	a.Boots = boots(text)
	if len(a.Boots) > 0 {
		a.Means = append(a.Means, "how long starts took")
	}
	return a
}

// disks are those that a listing tells of.
func disks(text string) []machine.Described {
	l, err := listing.Read("", []byte(text), "")
	if err != nil {
		return nil
	}
	var out []machine.Described
	for _, d := range l.Disks {
		placed := slices.ContainsFunc(d.Partitions, func(p machine.DescribedPartition) bool { return p.Start > 0 })
		if d.ID != "" || d.Size > 0 || placed {
			out = append(out, d)
		}
	}
	return out
}

// rule is a line that tells one fact.
type rule struct {
	is    *regexp.Regexp
	take  func(a *Answer, m []string) *bool
	means string
}

func yes(s string, words ...string) *bool {
	is := slices.Contains(words, strings.ToLower(s))
	return &is
}

// The lines that are known. The words of reagentc and manage-bde differ by language; those
// here are from memory. The properties of classes, the registry's values and what Linux
// and macOS print do not differ.
var rules = []rule{
	{regexp.MustCompile(`^(?:Windows RE status|Windows RE-Status|Statut de Windows RE|Estado de Windows RE|Stato Windows RE|Status systemu Windows RE)\s*:\s*(\S+)`), func(a *Answer, m []string) *bool {
		on := yes(m[1], "enabled", "aktiviert", "activé", "habilitado", "abilitato", "włączono")
		if !*on && !*yes(m[1], "disabled", "deaktiviert", "désactivé", "deshabilitado", "disabilitato", "wyłączono") {
			return nil
		}
		a.Recovery = on
		return on
	}, "the recovery environment"},
	// SoftwareLicensingProduct, LicenseStatus: 1 is licensed.
	{regexp.MustCompile(`^LicenseStatus\s*:\s*([0-6])$`), func(a *Answer, m []string) *bool {
		on := yes(m[1], "1")
		if a.Licensed != nil && *a.Licensed {
			return a.Licensed // of several products one is licensed
		}
		a.Licensed = on
		return on
	}, "the activation"},
	{regexp.MustCompile(`(?i)^HiberbootEnabled\s+REG_DWORD\s+0x([01])$`), func(a *Answer, m []string) *bool {
		a.FastStart = yes(m[1], "1")
		return a.FastStart
	}, "fast start-up"},
	{regexp.MustCompile(`^(?:Protection Status|ProtectionStatus|Schutzstatus|État de la protection|Estado de protección|Stato protezione)\s*:\s*(.+)$`), func(a *Answer, m []string) *bool {
		on := yes(m[1], "protection on", "on", "der schutz ist aktiviert", "protection activée", "protección activada", "protezione attivata")
		if !*on && !*yes(m[1], "protection off", "off", "der schutz ist deaktiviert", "protection désactivée", "protección desactivada", "protezione disattivata") {
			return nil
		}
		if a.Protected == nil || *a.Protected {
			a.Protected = on // one that is off decides
		}
		return on
	}, "the encryption's protection"},
	// findmnt(8), --verify.
	{regexp.MustCompile(`^Success, no errors or warnings detected$|^(\d+) parse errors?, (\d+) errors?, \d+ warnings?$`), func(a *Answer, m []string) *bool {
		on := (m[1] == "" || m[1] == "0") && (m[2] == "" || m[2] == "0")
		a.Mounts = &on
		return &on
	}, "the table of mounts"},
	// systemctl(1), is-system-running.
	{regexp.MustCompile(`^(running|degraded|maintenance)$`), func(a *Answer, m []string) *bool {
		a.Services = yes(m[1], "running")
		return a.Services
	}, "the services"},
	{regexp.MustCompile(`^FileVault is (On|Off)\.`), func(a *Answer, m []string) *bool {
		a.Encryption = yes(m[1], "on")
		return a.Encryption
	}, "FileVault"},
}

func (a *Answer) line(s string) {
	for _, r := range rules {
		if m := r.is.FindStringSubmatch(s); m != nil && r.take(a, m) != nil {
			a.Means = append(a.Means, r.means)
		}
	}
}

// recoveryPlace is where the recovery environment lies: reagentc tells it while it is on,
// in any language.
var recoveryPlace = regexp.MustCompile(`(?m)\\\\\?\\GLOBALROOT\\device\\harddisk\d+\\partition[1-9]\d*\\`)

func (a *Answer) recoveryPlace(text string) {
	if a.Recovery == nil && recoveryPlace.MatchString(text) {
		on := true
		a.Recovery = &on
		a.Means = append(a.Means, "the recovery environment")
	}
}
