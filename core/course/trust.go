package course

import (
	"errors"
	"fmt"
	"slices"

	"latchkey/core/loader"
	"latchkey/core/machine"
)

// usualKeys are whose signatures firmware takes for good as it is delivered. Microsoft, "Windows
// Secure Boot Key Creation and Management Guidance", section 1.3.4.2, and "Windows Secure Boot
// certificate expiration and CA updates"; those of Debian's edk2 with keys are among them.
var usualKeys = []string{loader.WindowsAuthority, "Windows UEFI CA 2023",
	"Microsoft Corporation UEFI CA 2011", "Microsoft UEFI CA 2023"}

// Candidate is a program that is to be started where secure boot may be on.
type Candidate struct {
	Drive   *machine.Drive
	Path    string
	Program loader.Program
	Err     error // why its bytes could not be read
	Stage   Stage
	// Role is what it is to whom starts it: "loader", "next" or "kernel".
	Role string
	// Lenient: whether an unsigned one is refused hangs on how the loader before it was built, where no
	// shim started that.
	Lenient bool
}

// Refused says why secure boot keeps a program from being started; "" where it does not. It asks
// for what is not known: whether secure boot is on, and whom the machine trusts. A program of a
// shim's vendor is trusted behind that shim. UEFI Specification 2.10, section 32.5; the shim
// project's documentation.
func (k *Walk) Refused(a *Attempt, c Candidate) string {
	trusted, who := usualKeys, "the firmware"
	if a.shim != nil {
		trusted, who = slices.Concat(usualKeys, a.shim.Names), "the shim"
	}
	s := c.Program.Signature
	if c.Err == nil && slices.ContainsFunc(s.Names, func(name string) bool { return slices.Contains(trusted, name) }) {
		return ""
	}
	lacks := c.Path + " carries no signature"
	var none *loader.NoProgram
	unread := c.Err != nil && !errors.As(c.Err, &none) || s.Err != nil && !errors.Is(s.Err, loader.ErrSignature)
	switch {
	case unread:
		lacks = "who signed " + c.Path + " is not in evidence"
	case c.Program.Signed && s.Err != nil:
		lacks = fmt.Sprintf("of %s %v", c.Path, s.Err)
	case c.Program.Signed:
		lacks = fmt.Sprintf("%s is signed by %s, whom %s does not trust", c.Path, s.By(), who)
	}
	if !k.secure(c.Stage, lacks) || c.known(k, a, unread, who) {
		return ""
	}
	return lacks + ", and secure boot is on."
}

// secure reports whether secure boot is on, asking when it is unknown.
func (k *Walk) secure(stage Stage, because string) bool {
	on := k.Machine.Firmware.SecureBoot
	if told, known := on.Get(); known {
		return told
	}
	return k.World.Yes(on, Question{
		ID: "secure-boot", Stage: stage, Fact: FactName{Of: OfSecureBoot},
		Text: "Is secure boot switched on? " + machine.UpperFirst(because) + ".",
		How:  "In the firmware's setup under security or boot. In Windows: Confirm-SecureBootUEFI. In Linux: mokutil --sb-state.",
	})
}

// known asks whether the machine trusts a program for another reason than the usual keys.
func (c Candidate) known(k *Walk, a *Attempt, unread bool, who string) bool {
	q := Question{ID: "signed-" + c.Role + ":" + c.Drive.Name, Stage: c.Stage, Drive: c.Drive.Name,
		How: "In a running Linux: mokutil --db lists whom the firmware trusts, mokutil --list-enrolled the keys that the machine's owner added; sbverify --list shows who signed a program."}
	switch {
	case unread:
		q.Text = fmt.Sprintf("Is %s signed by somebody whom %s trusts?", c.Path, who)
	case c.Program.Signed && c.Program.Signature.Err == nil:
		by := c.Program.Signature.By()
		q.ID, q.Drive = Trusts(a.shim != nil, by), ""
		q.Text = fmt.Sprintf("Does %s trust %s, who signed %s?", who, by, c.Path)
	case c.Lenient && !c.Program.Signed && !a.strict:
		q.Text = fmt.Sprintf("Does the boot loader start kernels without a signature, such as %s, while secure boot is on?", c.Path)
		q.How = "One that its distribution signed does not since 2021; one that somebody built may. Start the machine once with the clone alone."
	default:
		return false
	}
	return k.World.Yes(UnknownBool, q)
}

// Trusts names the question whether the firmware, or a shim with the keys of the machine's owner, trusts
// somebody.
func Trusts(behindShim bool, name string) string {
	if behindShim {
		return "trusts-shim:" + name
	}
	return "trusts-firmware:" + name
}

// Follows notes that a shim was started: what it starts is held against its vendor's keys, too.
func (a *Attempt) Follows(shim loader.Program) {
	keys := shim.Vendor
	a.shim = &keys
}

// Starts notes that a shim started a boot loader, which starts no unsigned kernel then if it says by
// which fixes it is revoked.
func (a *Attempt) Starts(next loader.Program) { a.strict = next.Levels }

// Chained says why secure boot keeps a program from being started by another one.
func (k *Walk) Chained(a *Attempt, at machine.Spot, f loader.Found) string {
	return k.Refused(a, Candidate{Drive: at.Drive, Path: f.Path, Program: f.Program, Err: f.Err,
		Stage: StageConfiguration, Role: "next"})
}
