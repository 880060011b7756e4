package linux_test

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
	"latchkey/internal/sample"
)

// by is who vouches for a program of a test.
type by string

const (
	nobody  by = ""
	usual   by = diskmaker.UsualAuthority
	vendor  by = diskmaker.VendorAuthority
	another by = "Pier CA"
)

func (b by) signs(p diskmaker.Program) []byte {
	p.Signed, p.SignedBy = b != nobody, string(b)
	return p.Bytes()
}

// chain is a Linux behind a shim, or without one, each of whose programs somebody signed.
type chain struct {
	shim, grub, kernel by
	noShim, old        bool // old: a GRUB that does not say by which fixes it is revoked
}

func (c chain) disk() diskmaker.Disk {
	d := sample.LinuxDisk(1, 1)
	files := d.Partitions[0].Volume.Files
	grub := diskmaker.Program{Is: "grub", Prefix: "/EFI/debian", Size: 8192}
	if !c.old {
		grub.Sections = []diskmaker.Section{{Name: ".sbat", Data: []byte("sbat,1,SBAT Version\ngrub,3,Free Software Foundation,grub,2.06,\n")}}
	}
	files[sample.FallbackPath] = c.grub.signs(grub)
	if !c.noShim {
		files[`\EFI\BOOT\grubx64.efi`] = files[sample.FallbackPath]
		files[sample.FallbackPath] = c.shim.signs(diskmaker.Program{Is: "shim"})
	}
	d.Partitions[1].Volume.Files["boot/vmlinuz"] = c.kernel.signs(diskmaker.Program{})
	return d
}

// What secure boot lets start: the firmware what the usual keys vouch for, the shim what its vendor
// does, too. Debian's own programs show the same in OVMF with the usual keys (package truth); without
// secure boot all start, and where it is not known both answers are open.
func TestWhatSecureBootLetsStart(t *testing.T) {
	sound := chain{shim: usual, grub: vendor, kernel: vendor}
	change := func(f func(c *chain)) chain { c := sound; f(&c); return c }
	for name, c := range map[string]struct {
		chain   chain
		verdict startup.Verdict
		rule    course.Rule
		asks    string
	}{
		"all as they are to be": {sound, startup.Starts, "", ""},
		"an unsigned shim":      {change(func(c *chain) { c.shim = nobody }), startup.Stops, "loader-unsigned", ""},
		"a shim of another":     {change(func(c *chain) { c.shim = another }), startup.Depends, "", course.Trusts(false, "Pier CA")},
		"an unsigned GRUB":      {change(func(c *chain) { c.grub = nobody }), startup.Stops, "shim-refuses", ""},
		"a GRUB of another":     {change(func(c *chain) { c.grub = another }), startup.Depends, "", course.Trusts(true, "Pier CA")},
		"a GRUB of the usual":   {change(func(c *chain) { c.grub = usual }), startup.Starts, "", ""},
		"an unsigned kernel":    {change(func(c *chain) { c.kernel = nobody }), startup.Stops, "kernel-refused", ""},
		"a kernel of another":   {change(func(c *chain) { c.kernel = another }), startup.Depends, "", course.Trusts(true, "Pier CA")},
		"an old GRUB":           {change(func(c *chain) { c.kernel, c.old = nobody, true }), startup.Depends, "", "signed-kernel:clone"},
		"the vendor's GRUB alone": {change(func(c *chain) { c.noShim = true }), startup.Depends, "",
			course.Trusts(false, diskmaker.VendorAuthority)},
		"a GRUB of the usual alone, an unsigned kernel": {change(func(c *chain) { c.noShim, c.grub, c.kernel = true, usual, nobody }),
			startup.Depends, "", "signed-kernel:clone"},
	} {
		m := sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, c.chain.disk().MustBuild()))
		m.Firmware.SecureBoot = fact.Tell(true)
		trace := startup.Simulate(m)
		assert.Equal(t, c.verdict, trace.Verdict, "%s: %s", name, trace.Headline)
		if c.rule != "" {
			assert.Contains(t, rules(trace), c.rule, name)
		}
		if c.asks != "" {
			assert.Contains(t, asked(trace), c.asks, name)
			m.Answers = map[string]string{c.asks: "no"}
			assert.Equal(t, startup.Stops, startup.Simulate(m).Verdict, name)
			m.Answers[c.asks] = "yes"
			assert.NotEqual(t, startup.Stops, startup.Simulate(m).Verdict, name)
			m.Answers = nil
		}
		m.Firmware.SecureBoot = fact.Tell(false)
		assert.Equal(t, startup.Starts, startup.Simulate(m).Verdict, "%s, secure boot off", name)
		m.Firmware.SecureBoot = fact.Unknown[bool]()
		open := startup.Simulate(m)
		if c.verdict == startup.Starts {
			assert.Equal(t, startup.Starts, open.Verdict, "%s, secure boot not known", name)
			continue
		}
		assert.Equal(t, startup.Depends, open.Verdict, "%s, secure boot not known", name)
		assert.NotEmpty(t, asked(open), name)
	}
}

// What the firmware's variables say of whom it trusts settles it; what one of them does not tell stays
// open.
func TestWhomTheMachineTrusts(t *testing.T) {
	usualList := &firmware.Trusted{Names: []string{diskmaker.UsualAuthority}}
	pier, nobodys := &firmware.Trusted{Names: []string{string(another)}}, &firmware.Trusted{}
	sound := chain{shim: usual, grub: vendor, kernel: vendor}
	kernel, shim, unsigned := sound, sound, sound
	kernel.kernel, shim.shim, unsigned.kernel = another, another, nobody
	sums := &firmware.Trusted{Names: usualList.Names, More: true}
	for name, c := range map[string]struct {
		chain   chain
		keys    firmware.Keys
		verdict startup.Verdict
	}{
		"the usual":                              {sound, firmware.Keys{Firmware: usualList}, startup.Starts},
		"the firmware lacks the usual":           {sound, firmware.Keys{Firmware: pier}, startup.Stops},
		"nothing of the firmware's":              {shim, firmware.Keys{Owner: nobodys}, startup.Depends},
		"the shim's signer in the firmware":      {shim, firmware.Keys{Firmware: pier}, startup.Starts},
		"the shim's signer nowhere":              {shim, firmware.Keys{Firmware: usualList}, startup.Stops},
		"the shim's signer with the owner":       {shim, firmware.Keys{Firmware: usualList, Owner: pier}, startup.Stops},
		"the kernel's signer with the owner":     {kernel, firmware.Keys{Firmware: usualList, Owner: pier}, startup.Starts},
		"the kernel's signer nowhere":            {kernel, firmware.Keys{Firmware: usualList, Owner: nobodys}, startup.Stops},
		"the owner's keys not told":              {kernel, firmware.Keys{Firmware: usualList}, startup.Depends},
		"the firmware's keys not told":           {kernel, firmware.Keys{Owner: nobodys}, startup.Depends},
		"sums besides, of the firmware's":        {kernel, firmware.Keys{Firmware: sums, Owner: nobodys}, startup.Depends},
		"an unsigned kernel, all told":           {unsigned, firmware.Keys{Firmware: usualList, Owner: nobodys}, startup.Stops},
		"an unsigned kernel, and sums besides":   {unsigned, firmware.Keys{Firmware: sums, Owner: nobodys}, startup.Depends},
		"an unsigned kernel, the owner's sums":   {unsigned, firmware.Keys{Firmware: usualList, Owner: sums}, startup.Depends},
		"an unsigned kernel, nothing told of it": {unsigned, firmware.Keys{}, startup.Stops},
	} {
		m := sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, c.chain.disk().MustBuild()))
		m.Firmware.SecureBoot, m.Firmware.Entries.Keys = fact.Tell(true), &c.keys
		trace := startup.Simulate(m)
		assert.Equal(t, c.verdict, trace.Verdict, "%s: %s", name, trace.Headline)
	}
}

// The shim that the fallback starts is held against the first one's keys, as what lies beside it is.
func TestTheShimThatTheFallbackStarts(t *testing.T) {
	for second, want := range map[by]startup.Verdict{
		usual: startup.Starts, nobody: startup.Stops, another: startup.Depends} {
		d := chain{shim: usual, grub: vendor, kernel: vendor}.disk()
		files := d.Partitions[0].Volume.Files
		files[`\EFI\debian\grubx64.efi`] = files[`\EFI\BOOT\grubx64.efi`]
		files[`\EFI\debian\shimx64.efi`] = second.signs(diskmaker.Program{Is: "shim"})
		files[`\EFI\debian\BOOTX64.CSV`] = []byte("shimx64.efi,debian,,\n")
		files[`\EFI\BOOT\fbx64.efi`] = vendor.signs(diskmaker.Program{})
		m := sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, d.MustBuild()))
		m.Firmware.SecureBoot = fact.Tell(true)
		trace := startup.Simulate(m)
		assert.Equal(t, want, trace.Verdict, "%q: %s", second, trace.Headline)
	}
}

// A kernel that is refused is one that GRUB falls back from.
func TestARefusedKernelAndTheMenusFallback(t *testing.T) {
	d := chain{shim: usual, grub: vendor}.disk()
	files := d.Partitions[1].Volume.Files
	menu := string(files["boot/grub/grub.cfg"])
	files["boot/signed"] = vendor.signs(diskmaker.Program{})
	files["boot/grub/grub.cfg"] = []byte("set fallback=1\n" + menu + strings.ReplaceAll(menu, "/boot/vmlinuz", "/boot/signed"))
	m := sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, d.MustBuild()))
	m.Firmware.SecureBoot = fact.Tell(true)
	trace := startup.Simulate(m)
	assert.Equal(t, startup.Starts, trace.Verdict, trace.Headline)
	assert.Contains(t, rules(trace), course.Rule("default-falls-back"))
}

// A question's name has no sign in it that an address would take for its own, whatever stands on the disk.
func TestNamesOfSignersInQuestions(t *testing.T) {
	for _, name := range []string{"Pier CA", "a/b?c#d", "..", "%2F", "船", "舟", ""} {
		assert.Regexp(t, `^trusts-(shim|firmware):[a-z0-9-]+$`, course.Trusts(true, name))
	}
	assert.NotEqual(t, course.Trusts(true, "船"), course.Trusts(true, "舟"))
}

func asked(trace startup.Trace) (ids []string) {
	for _, q := range trace.Missing {
		ids = append(ids, q.ID)
	}
	return ids
}

// Evidence that lacks what tells of a signature leaves open what it decides: never is another
// answer certain.
func TestSignaturesThatAreNotInEvidence(t *testing.T) {
	each := 3
	if testing.Short() {
		each = 9
	}
	for part, c := range []chain{{shim: usual, grub: vendor, kernel: vendor}, {shim: usual, grub: vendor},
		{shim: usual, kernel: vendor}} {
		r := &without512{Image: c.disk().MustBuild(), not: -1, read: map[int64]bool{}}
		headline := ""
		answer := func() startup.Verdict {
			d, err := disk.New(r, r.Size, r.SectorSize)
			require.NoError(t, err)
			drive := sample.Drive(t, machine.RoleClone, nil)
			drive.Contents = machine.Examine(d)
			m := sample.Whole(firmware.UEFI, drive)
			m.Firmware.SecureBoot = fact.Tell(true)
			trace := startup.Simulate(m)
			headline = trace.Headline
			return trace.Verdict
		}
		certain := answer()
		sectors, lost := slices.Sorted(maps.Keys(r.read)), 0
		for i := part; i < len(sectors); i += each {
			r.not = sectors[i]
			switch got := answer(); got {
			case certain:
			case startup.Depends:
				lost++
			default:
				assert.Fail(t, fmt.Sprintf("%v without sector %d: %s, with it %s: %s", c, r.not, got, certain, headline))
			}
		}
		assert.Positive(t, lost, "of %d", len(sectors))
	}
}

// without512 is a disk of which a sector is not in evidence, -1 for none; it keeps which were read.
type without512 struct {
	*diskmaker.Image
	not  int64
	read map[int64]bool
}

func (w *without512) ReadAt(p []byte, off int64) (int, error) {
	for at := off / 512; at*512 < off+int64(len(p)); at++ {
		if at == w.not {
			return 0, &disk.Spent{}
		}
		w.read[at] = true
	}
	return w.Image.ReadAt(p, off)
}
