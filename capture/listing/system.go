package listing

import (
	"regexp"
	"slices"
	"strings"

	"latchkey/core/fact"
	"latchkey/core/firmware"
)

// What systems tell of the machine as such: msinfo32 and systeminfo of Windows,
// dmidecode(8) and lspci(8) of Linux, bootctl(1) and mokutil(1).

// systemField is a fact of the machine: how a line names it, in the languages that are
// known, and which values it has.
type systemField struct {
	names  []string
	values map[string]string // "" is any
	take   func(l *Listing, word string, at fact.Source)
}

var systemFields = []systemField{
	{[]string{"bios mode", "bios-modus", "mode bios", "modo de bios", "modo bios", "modalità bios", "bios-modus", "tryb systemu bios", "режим bios", "biosfirmwaretype"},
		map[string]string{"uefi": "uefi", "legacy": "legacy", "bios": "legacy", "vorgängerversion": "legacy", "hérité": "legacy", "heredado": "legacy",
			"legado": "legacy", "starsza wersja": "legacy", "устаревший": "legacy"},
		func(l *Listing, word string, at fact.Source) { l.Mode = fact.Known(firmware.Mode(word), at) }},
	{[]string{"secure boot state", "sicherer startzustand", "status für sicheres starten", "état du démarrage sécurisé",
		"estado de arranque seguro", "secure boot", "secureboot", "stato avvio protetto"},
		map[string]string{"on": "yes", "off": "no", "ein": "yes", "aus": "no", "activé": "yes", "désactivé": "no", "activado": "yes",
			"desactivado": "no", "enabled": "yes", "disabled": "no", "unsupported": "no", "nicht unterstützt": "no", "enabled (user)": "yes",
			"disabled (setup)": "no", "disabled (disabled)": "no", "attivato": "yes", "disattivato": "no"},
		func(l *Listing, word string, at fact.Source) { l.SecureBoot = fact.Known(word == "yes", at) }},
	{[]string{"system model", "systemmodell", "modèle du système", "modelo del sistema", "modello sistema", "product name", "csmodel"}, nil,
		func(l *Listing, word string, _ fact.Source) {
			if l.Model == "" { // dmidecode tells the board's after the machine's
				l.Model = word
			}
		}},
}

var systemLine = regexp.MustCompile(`^\s*([^\t:]+?)\s*(?:\t|:\s*)\s*(\S.*?)\s*$`)

// systemFact finds which fact of the machine a line tells, and its value.
func systemFact(s string) (f *systemField, word string, known bool) {
	m := systemLine.FindStringSubmatch(s)
	if m == nil {
		// Columns that blanks part.
		name, val, cut := strings.Cut(strings.TrimSpace(s), "  ")
		if !cut {
			return nil, "", false
		}
		m = []string{s, name, strings.TrimSpace(val)}
	}
	for i := range systemFields {
		f := &systemFields[i]
		if !slices.Contains(f.names, strings.ToLower(strings.TrimSpace(m[1]))) {
			continue
		}
		if f.values == nil {
			return f, m[2], true
		}
		word, known := f.values[strings.ToLower(m[2])]
		return f, word, known
	}
	return nil, "", false
}

// Single lines that tell a fact of the machine: mokutil(1) --sb-state, bootctl(1), what Windows'
// setup wrote down, what lies in /sys/firmware/efi, and, behind their own commands, what
// PowerShell and a shell answer. From memory; the kernel's ABI/testing/sysfs-firmware-efi.
var (
	mokutilLine  = regexp.MustCompile(`^\s*SecureBoot (enabled|disabled)\s*$`)
	bootctlLine  = regexp.MustCompile(`^\s*Firmware: UEFI \d`)
	confirmAsks  = regexp.MustCompile(`(?i)^(?:\$?\w+\s*=\s*)?Confirm-SecureBootUEFI\s*$`)
	confirmsLine = regexp.MustCompile(`^\s*(True|False)\s*$`)
	setupLine    = regexp.MustCompile(`Detected boot environment: (UEFI|EFI|BIOS)\b`)
	efiFolder    = regexp.MustCompile(`(?:^|\s)fw_platform_size(?:\s|$)`)
	noEFIFolder  = regexp.MustCompile(`^ls: (?:.*[\s'‘"])?/sys/firmware/efi['’"]?(?::| .*:) `)
	modeAsks     = regexp.MustCompile(`(?i)/sys/firmware/efi\b|^\$env:firmware_type$|\bBiosFirmwareType\b`)
	modeLine     = regexp.MustCompile(`(?i)^\s*(UEFI|EFI|BIOS|Legacy)(?: (?:mode|boot))?\s*$`)
)

// modeOf is the firmware's mode as a single line tells it; "" for none.
func modeOf(t *text, s string) firmware.Mode {
	word := match(setupLine, s)
	if modeAsks.MatchString(t.command) && word == "" {
		word = match(modeLine, s)
	}
	switch {
	case bootctlLine.MatchString(s), efiFolder.MatchString(s), strings.HasSuffix(strings.ToUpper(word), "EFI"):
		return firmware.UEFI
	case noEFIFolder.MatchString(s), word != "":
		return firmware.Legacy
	}
	return ""
}

// loneFact takes a fact of the machine that a line tells by itself.
func (l *Listing) loneFact(t *text, s string, at fact.Source) bool {
	mokutil, confirms, mode := mokutilLine.FindStringSubmatch(s), confirmsLine.FindStringSubmatch(s), modeOf(t, s)
	switch {
	case mokutil != nil:
		l.SecureBoot = fact.Known(mokutil[1] == "enabled", at)
	case mode != "":
		l.Mode = fact.Known(mode, at)
	case confirms != nil && confirmAsks.MatchString(t.command):
		l.SecureBoot = fact.Known(confirms[1] == "True", at)
	default:
		return false
	}
	return true
}

func isSystemSummary(t *text) bool {
	return anyLine(t, func(s string) bool {
		f, _, _ := systemFact(s)
		return f != nil || (&Listing{}).loneFact(t, s, fact.Source{})
	}) || anyLine(t, controllerLine.MatchString)
}

func readSystemSummary(t *text, l *Listing) {
	for i, s := range t.lines {
		at := fact.Source{Origin: fact.Text, Structure: "the system's summary", Line: i + 1}
		f, word, known := systemFact(s)
		switch {
		case known:
			f.take(l, word, at)
			l.mark(i+1, Understood, "%s", strings.TrimSpace(s))
		case l.loneFact(t, s, at):
			l.mark(i+1, Understood, "%s", strings.TrimSpace(s))
		case f != nil:
			l.unread(i+1, "expected one of the values that are known")
		case controllerLine.MatchString(s):
			mode := controllerMode(s)
			if mode == "" {
				l.mark(i+1, Passed, "a controller whose mode its name does not tell")
				continue
			}
			if _, told := l.StorageMode.Get(); !told || mode == "raid" {
				l.StorageMode = fact.Known(mode, at)
			}
			l.mark(i+1, Understood, "the storage controller works as %s", mode)
		case strings.TrimSpace(s) != "":
			l.mark(i+1, Passed, "")
		}
	}
}

// controllerLine is lspci's line of a storage controller; a listing with -nn has the class
// 0104 for RAID and 0106 for AHCI: PCI Code and ID Assignment Specification, base class 01.
var controllerLine = regexp.MustCompile(`^(?:[0-9a-f]{4}:)?[0-9a-f]{2}:[0-9a-f]{2}\.[0-7] (SATA controller|RAID bus controller|IDE interface)(?: \[[0-9a-f]{4}\])?: `)

func controllerMode(s string) string {
	switch controllerLine.FindStringSubmatch(s)[1] {
	case "SATA controller":
		return "ahci"
	case "RAID bus controller":
		return "raid"
	}
	return ""
}
