package machine_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/loader"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// linuxDisk is a disk with a boot partition, a /boot by itself, a volume group with root and
// home, and swap space, as an installation puts them.
func linuxDisk(esp, boot, group, swap string) *machine.Contents {
	c := &machine.Contents{}
	c.Layout.Style, c.Layout.SectorSize, c.Layout.Sectors = disk.StyleGPT, 512, 1<<30
	c.Layout.GPT = &disk.GPT{Primary: disk.GPTCopy{State: disk.CopyGood}}
	of := func(kind volume.Kind, serial string) machine.Volume {
		return machine.Volume{Volume: volume.Volume{Kind: kind, Serial: serial, Readable: true}}
	}
	c.Volumes = []machine.Volume{
		of(volume.KindFAT32, esp),
		of(volume.KindExt, boot),
		of(volume.KindLVM, "pv"),
		of(volume.KindSwap, swap),
	}
	for i := range c.Volumes {
		p := disk.Partition{Number: i + 1, Start: uint64(i+1) << 20, Length: 1 << 20}
		p.GUID[0], p.GUID[1] = 0xA0, byte(i)
		c.Layout.Partitions = append(c.Layout.Partitions, p)
	}
	c.Layout.Partitions[0].TypeGUID, c.Layout.Partitions[0].Type = disk.TypeESP, disk.GPTType(disk.TypeESP)
	c.Volumes[1].Kernels = []string{"/vmlinuz-6"}
	c.Volumes[2].Container = &volume.Container{Name: group, Members: 1}
	c.Volumes[2].Inner = []machine.Inner{
		{Of: group, Name: "root", Offset: 1 << 20, Length: 1 << 28, Volume: of(volume.KindXFS, "root-"+group)},
		{Of: group, Name: "home", Offset: 1 << 29, Length: 1 << 28, Volume: of(volume.KindXFS, "home-"+group)},
	}
	return c
}

func withTable(c *machine.Contents, fstab string) *machine.Contents {
	v := &c.Volumes[2].Inner[0].Volume
	v.Configs = append(
		v.Configs,
		machine.Config{Kind: machine.ConfigFstab, Path: "/etc/fstab", Mounts: loader.ParseFstab([]byte(fstab))},
	)
	return c
}

func namesOf(t *testing.T, c, original *machine.Contents) (machine.Names, *machine.Contents) {
	t.Helper()
	root, ok := c.LinuxRoot()
	require.True(t, ok)
	n := (&machine.Drive{Contents: c, Bus: fact.Tell("nvme")}).LinuxNames(0, root, original)
	return n, c.WithNames(n)
}

const oldTable = `/dev/mapper/rhel-root / xfs defaults 0 0
UUID=boot-1 /boot ext4 defaults 0 0
UUID=E-1 /boot/efi vfat umask=0077 0 2
/dev/mapper/rhel-home /home xfs defaults 0 0
UUID=swap-1 none swap defaults 0 0
UUID=data-1 /srv/my\040data ext4 defaults 0 0
LABEL=archive /archive ext4 defaults,nofail 0 0
//server/share /net cifs defaults 0 0
`

// What an old name means is known by its mount point, by the logical volume's own name, by
// the only swap space; what is nowhere the start goes on without.
func TestOldNamesAreGivenTheirNewOnes(t *testing.T) {
	c := withTable(linuxDisk("E-2", "boot-2", "new", "swap-2"), oldTable)
	n, then := namesOf(t, c, nil)
	got := map[string]string{}
	for _, r := range n.Mounts {
		got[r.Point] = machine.DeviceText(r.New)
	}
	assert.Equal(t, map[string]string{"/": "/dev/mapper/new-root", "/boot": "UUID=boot-2", "/boot/efi": "UUID=E-2",
		"/home": "/dev/mapper/new-home", "none": "UUID=swap-2"}, got)
	require.Len(t, n.Lax, 1)
	assert.Equal(t, "/srv/my data", n.Lax[0].Point)

	again, _ := namesOf(t, then, nil)
	assert.True(t, again.Empty(), "%+v", again)
	same, _ := namesOf(t, withTable(linuxDisk("E-1", "boot-1", "rhel", "swap-1"), oldTable), nil)
	assert.Empty(t, same.Mounts, "what the disk carries keeps its name")
}

// Of two lines for one point each keeps what it names.
func TestTwoSwapSpaces(t *testing.T) {
	c := withTable(
		linuxDisk("E", "b", "g", "swap-2"),
		"/dev/mapper/g-root / xfs x\nUUID=swap-2 none swap sw\nUUID=swap-1 none swap sw\n",
	)
	n, then := namesOf(t, c, nil)
	require.Len(t, n.Mounts, 1)
	assert.Equal(t, "swap-1", n.Mounts[0].Old.Value)
	table := then.Volumes[2].Inner[0].Volume.Configs[0].Mounts
	assert.Equal(t, "swap-2", table[1].Spec.Value)
	assert.Equal(t, "swap-2", table[2].Spec.Value)
}

// The original tells what a name meant: the partition of the same number, where it is of the
// same kind.
func TestTheOriginalTellsWhatANameMeant(t *testing.T) {
	original := linuxDisk("E-1", "boot-1", "rhel", "data-1")
	c := withTable(
		linuxDisk("E-2", "boot-2", "new", "swap-2"),
		"/dev/mapper/new-root / xfs defaults\nUUID=data-1 /data swap defaults\nUUID=E-1 /elsewhere vfat defaults\n",
	)
	n, _ := namesOf(t, c, original)
	require.Len(t, n.Mounts, 2)
	assert.Equal(t, "UUID=swap-2", machine.DeviceText(n.Mounts[0].New))
	assert.Equal(t, "UUID=E-2", machine.DeviceText(n.Mounts[1].New))
	c.Volumes[0].Kind = volume.KindExt
	n, _ = namesOf(t, c, original)
	assert.Len(t, n.Mounts, 1, "of another kind")
}

// Menus and kernel lines: what GRUB looks for is /boot, what the kernel is given is the root,
// and what the mount table calls by a name is what that means everywhere.
func TestMenusAreGivenNewNames(t *testing.T) {
	const line = "root=/dev/mapper/rhel-root ro rd.lvm.lv=rhel/root rd.lvm.lv=rhel/gone resume=UUID=swap-1 quiet"
	old := loader.ParseSpec("/dev/mapper/rhel-root")
	c := withTable(linuxDisk("E-2", "boot-2", "new", "swap-2"), oldTable)
	search := func(id string) loader.GRUBSearch {
		return loader.GRUBSearch{Spec: loader.Spec{Kind: loader.ByFSUUID, Value: id}}
	}
	label := loader.GRUBSearch{Spec: loader.Spec{Kind: loader.ByFSLabel, Value: "gone"}}
	hint := loader.GRUBSearch{Spec: loader.Spec{Kind: loader.ByGRUBDisk, Value: "hd0,gpt2"}, Device: true}
	c.Volumes[0].Configs = []machine.Config{{Kind: machine.ConfigGRUB, Path: "/EFI/x/grub.cfg",
		GRUB: &loader.GRUBConfig{Top: []loader.GRUBSearch{hint, search("never-heard-of"), label}}}}
	c.Volumes[1].Configs = []machine.Config{
		{
			Kind: machine.ConfigGRUB,
			Path: "/grub2/grub.cfg",
			GRUB: &loader.GRUBConfig{Entries: []loader.GRUBEntry{{Sub: []loader.GRUBEntry{
				{Root: &old, Options: line, Searches: []loader.GRUBSearch{search("swap-1"), search("boot-2")}}}}}},
		},
		{Kind: machine.ConfigEntry, Path: "/loader/entries/a.conf", Entry: &loader.Entry{Root: &old, Options: line}},
	}
	n, then := namesOf(t, c, nil)
	texts := map[string]string{}
	for _, r := range n.Menus {
		for _, x := range r.Texts() {
			texts[x.Old] = x.New
		}
	}
	assert.Equal(
		t,
		map[string]string{
			"never-heard-of":        "boot-2",
			"swap-1":                "swap-2",
			"/dev/mapper/rhel-root": "/dev/mapper/new-root",
			"/dev/rhel/root":        "/dev/mapper/new-root",
			"rd.lvm.lv=rhel/root":   "rd.lvm.lv=new/root",
		},
		texts,
	)

	entry := then.Volumes[1].Configs[1].Entry
	assert.Equal(
		t,
		"root=/dev/mapper/new-root ro rd.lvm.lv=new/root rd.lvm.lv=rhel/gone resume=UUID=swap-2 quiet",
		entry.Options,
	)
	assert.Equal(t, "new-root", entry.Root.Value)
	inMenu := then.Volumes[1].Configs[0].GRUB.Entries[0].Sub[0]
	assert.Equal(t, entry.Options, inMenu.Options)
	assert.Equal(t, []loader.GRUBSearch{search("swap-2"), search("boot-2")}, inMenu.Searches)
	assert.Equal(t, []loader.GRUBSearch{hint, search("boot-2"), label}, then.Volumes[0].Configs[0].GRUB.Top)
	assert.Equal(t, "rhel-root", c.Volumes[1].Configs[1].Entry.Root.Value, "the disk as it was stays as it was")
}

// Where /boot lies when the mount table names what is not there, and when it is not known.
func TestWhereBootLies(t *testing.T) {
	c := withTable(linuxDisk("E", "boot-2", "g", "s"), "UUID=gone /boot ext4 defaults\n")
	root, _ := c.LinuxRoot()
	home, folder, known := c.BootHome(root)
	assert.True(t, known)
	assert.Equal(t, 1, home.Index)
	assert.Empty(t, folder)

	c.Volumes[3].Kind, c.Volumes[3].Kernels = volume.KindExt, []string{"/vmlinuz-7"}
	_, _, known = c.BootHome(root)
	assert.False(t, known, "two may be meant")
	n, _ := namesOf(t, c, nil)
	assert.True(t, n.Empty(), "it is not guessed which")

	c.Volumes[1].Kernels, c.Volumes[3].Kernels = nil, nil
	c.Volumes[0].Configs = []machine.Config{
		{Kind: machine.ConfigEntry, Path: "/loader/entries/a.conf", Entry: &loader.Entry{}},
	}
	home, _, known = c.BootHome(root)
	assert.True(t, known)
	assert.Equal(t, 0, home.Index, "the boot partition, with entries of a loader")

	within := withTable(linuxDisk("E", "b", "g", "s"), "/dev/mapper/g-root / xfs defaults\n")
	root, _ = within.LinuxRoot()
	home, folder, known = within.BootHome(root)
	assert.True(t, known)
	assert.Equal(t, root, home)
	assert.Equal(t, "/boot", folder)
}

// A name that is not known to be gone is left alone: it may lie in what cannot be looked into.
func TestWhatMayBeThereKeepsItsName(t *testing.T) {
	c := withTable(linuxDisk("E-2", "boot-2", "new", "swap-2"), oldTable)
	c.Volumes[3] = machine.Volume{Volume: volume.Volume{Kind: volume.KindLUKS, Serial: "locked"}}
	n, _ := namesOf(t, c, nil)
	assert.Empty(t, n.Lax)
	for _, r := range n.Mounts {
		assert.NotEqual(t, loader.ByFSUUID, r.Old.Kind, r.Old.Value)
	}
}

func TestAVolumeOnSeveralDevicesIsNotWhole(t *testing.T) {
	c := withTable(linuxDisk("E", "b", "g", "s"), "")
	root, _ := c.LinuxRoot()
	assert.True(t, c.Whole(root))
	c.Volumes[2].Container.Members = 2
	assert.False(t, c.Whole(root))
	c.Volumes[2].Container.Level = "raid1"
	assert.True(t, c.Whole(root), "each device of a mirror holds all")
	assert.Equal(t, []machine.Address{{Index: 2}}, c.Around(root))
	assert.Empty(t, c.Around(machine.Address{Index: 1}))
}

func TestATextIsReplacedWhereItStandsAsAWhole(t *testing.T) {
	assert.Equal(t, "x=b,b c-a a1 b", machine.Renamed{Old: "a", New: "b"}.In("x=A,a c-a a1 a"))
	assert.Equal(t, "/dev/mapper/a", machine.Renamed{Old: "/dev/mapper/a", New: "/dev/mapper/a"}.In("/dev/mapper/a"))
	assert.Equal(t, "LABEL=X UUID=1", machine.Renamed{Old: "LABEL=x", New: "UUID=1"}.In("LABEL=X LABEL=x"))
}

// Swap space that is opened anew each time is not given up for one that is not encrypted; a volume that is opened from
// what is not there is not waited for any more. crypttab(5).
func TestWhatCrypttabOpensKeepsItsName(t *testing.T) {
	const table = "/dev/mapper/vg-root / xfs defaults 0 1\n/dev/mapper/crypt none swap sw 0 0\n/dev/mapper/data /srv xfs defaults 0 2\n"
	for from, lax := range map[string]int{"UUID=swap-1": 0, "UUID=gone": 1} {
		c := withTable(linuxDisk("AA-1", "boot-1", "vg", "swap-1"), table)
		v := &c.Volumes[2].Inner[0].Volume
		v.Configs = append(v.Configs, machine.Config{Kind: machine.ConfigCrypttab, Path: "/etc/crypttab",
			Opened: loader.ParseCrypttab([]byte("crypt " + from + " /dev/urandom swap\ndata " + from + " none luks\n"))})
		n, _ := namesOf(t, c, nil)
		assert.Len(t, n.Lax, lax, from)
		assert.Equal(t, lax, len(n.Mounts), "%s: %v", from, n.Mounts)
	}
}
