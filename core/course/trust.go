package course

import (
	"errors"
	"fmt"
	"hash/crc32"
	"slices"
	"strings"

	"latchkey/core/firmware"
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
	by, s := k.trusted(a), c.Program.Signature
	if c.Err == nil && by.vouching(s) != "" {
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
		lacks = fmt.Sprintf("%s is signed by %s, whom %s does not trust", c.Path, s.By(), by.who)
	}
	if !k.secure(c.Stage, lacks) {
		return ""
	}
	if c.known(k, a, by, unread) {
		return ""
	}
	if unread {
		lacks = c.Path + " is signed by nobody whom " + by.who + " trusts"
	}
	return lacks + ", and secure boot is on."
}

// trust is whose signatures are taken for good where a program is to be started, and by whom.
type trust struct {
	who   string
	names []string
	told  bool // the firmware's own list is in evidence; else it is the usual one
	whole bool // the names are all there are
	sums  bool // a list holds what is no certificate, such as the sums of programs
}

func (k *Walk) trusted(a *Attempt) trust {
	t := trust{who: "the firmware", names: usualKeys}
	var keys firmware.Keys
	if e := k.Machine.Firmware.Entries; e != nil && e.Keys != nil {
		keys = *e.Keys
	}
	if f := keys.Firmware; f != nil {
		t.names, t.told, t.whole, t.sums = f.Names, true, !f.More, f.More
	}
	if a.shim == nil {
		return t
	}
	t.who, t.names, t.whole = "the shim", slices.Concat(t.names, a.shim.Names), t.whole && a.shim.Err == nil
	if o := keys.Owner; o != nil {
		t.names, t.whole, t.sums = append(t.names, o.Names...), t.whole && !o.More, t.sums || o.More
	} else {
		t.whole = false
	}
	return t
}

// vouching is the name of those that are trusted who vouches for a program, "" for none.
func (t trust) vouching(s loader.Signature) string {
	for _, name := range s.Names {
		if slices.Contains(t.names, name) {
			return name
		}
	}
	return ""
}

// Vouches notes, where secure boot is on, on what the start of the first program hangs.
func (k *Walk) Vouches(a *Attempt, path string, p loader.Program, facts ...machine.Fact) {
	if on, _ := k.Machine.Firmware.SecureBoot.Get(); !on {
		return
	}
	by := k.trusted(a)
	text := fmt.Sprintf("%s is started on the word of a person: that the firmware trusts it.", path)
	switch name := by.vouching(p.Signature); {
	case name != "" && by.told:
		text = fmt.Sprintf("%s vouches for %s, and is in the firmware's list. Another list, of revoked programs, may still name this one.", name, path)
	case name != "":
		text = fmt.Sprintf("%s vouches for %s, whom firmware trusts as it is delivered. One from which that key was taken, or whose list of revoked programs names this one, refuses it.", name, path)
	}
	a.Risk("loader-trust", text, facts...)
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
func (c Candidate) known(k *Walk, a *Attempt, by trust, unread bool) bool {
	q := Question{ID: "signed-" + c.Role + ":" + c.Drive.Name, Stage: c.Stage, Drive: c.Drive.Name,
		How: "In a running Linux: mokutil --db lists whom the firmware trusts, mokutil --list-enrolled the keys that the machine's owner added; sbverify --list shows who signed a program."}
	switch {
	case unread:
		q.Text = fmt.Sprintf("Is %s signed by somebody whom %s trusts?", c.Path, by.who)
	case by.sums:
		q.Text = fmt.Sprintf("Is %s among the programs that the machine trusts one by one? Its lists hold more than certificates.", c.Path)
	case c.Program.Signed && c.Program.Signature.Err == nil && !by.whole:
		name := c.Program.Signature.By()
		q.ID, q.Drive = Trusts(a.shim != nil, name), ""
		q.Text = fmt.Sprintf("Does %s trust %s, who signed %s?", by.who, name, c.Path)
	case c.Lenient && !c.Program.Signed && !a.strict:
		q.Text = fmt.Sprintf("Does the boot loader start kernels without a signature, such as %s, while secure boot is on?", c.Path)
		q.How = "One that its distribution signed does not since 2021; one that somebody built may. Start the machine once with the clone alone."
	default:
		return false
	}
	return k.World.Yes(UnknownBool, q)
}

// Trusts names the question whether the firmware, or a shim with the keys of the machine's owner, trusts
// somebody. The name stands on the disk: it goes into an address by its letters and digits, and its sum.
func Trusts(behindShim bool, name string) string {
	plain := strings.Map(func(c rune) rune {
		if c >= 'a' && c <= 'z' || c >= '0' && c <= '9' {
			return c
		}
		return '-'
	}, strings.ToLower(name))
	by := "trusts-firmware:"
	if behindShim {
		by = "trusts-shim:"
	}
	return fmt.Sprintf("%s%s-%08x", by, plain, crc32.ChecksumIEEE([]byte(name)))
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
