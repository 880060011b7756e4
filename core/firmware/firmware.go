// Package firmware holds what is known of a machine's firmware: its settings,
// its boot entries, and the choices that the standards leave to it.
package firmware

import "latchkey/core/fact"

// Mode is how the firmware starts an operating system.
type Mode string

// The firmware modes.
const (
	UEFI    Mode = "uefi"
	Legacy  Mode = "legacy"
	UEFICSM Mode = "uefi-csm" // UEFI with compatibility support: both kinds of start
)

// Arch is the architecture the firmware runs programs of.
type Arch string

// The architectures.
const (
	X64   Arch = "x64"
	IA32  Arch = "ia32"
	ARM64 Arch = "arm64"
)

// Settings are what the firmware's screens tell, each perhaps unknown.
type Settings struct {
	Mode       fact.Of[Mode]
	Arch       fact.Of[Arch]
	SecureBoot fact.Of[bool]
	// StorageMode is how the storage controller works now, StorageModeBefore how it
	// worked when the system last ran: "ahci" or "raid".
	StorageMode       fact.Of[string]
	StorageModeBefore fact.Of[string]
	Behaviour         Behaviour
	Entries           *Entries // nil when nothing is known of the boot entries
}
