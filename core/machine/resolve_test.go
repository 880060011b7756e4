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

// resolved is what a name means on a disk: the addresses, and whether no other can be meant.
func resolved(c *machine.Contents, kind loader.SpecKind, value string) ([]machine.Address, bool) {
	found, known := (&machine.Drive{Contents: c, Bus: fact.Tell("nvme")}).Resolve(loader.Spec{Kind: kind, Value: value})
	var at []machine.Address
	for _, s := range found {
		at = append(at, s.Address())
	}
	return at, known
}

// A logical volume is found by the identifiers of its group and its own, hyphens or not.
func TestALogicalVolumeByItsIdentifiers(t *testing.T) {
	c := linuxDisk("E", "b", "g", "s")
	c.Volumes[2].Container.Set = "Group-1"
	c.Volumes[2].Inner[0].UUID, c.Volumes[2].Inner[1].UUID = "Vol-A", "Vol-B"
	at, known := resolved(c, loader.ByLogical, "Group1/Vol-B")
	assert.Equal(t, []machine.Address{{Index: 2, Inside: 2}}, at)
	assert.True(t, known)
	at, _ = resolved(c, loader.ByLogical, "Group1/Vol-C")
	assert.Empty(t, at)
	at, _ = resolved(c, loader.ByLogical, "Group2/Vol-B")
	assert.Empty(t, at, "of another group")
	at, _ = resolved(c, loader.ByLogical, "group1/vol-b")
	assert.Empty(t, at, "they are told apart by case")
}

// An encrypted volume by its UUID; what may be another one leaves it open.
func TestAnEncryptedVolumeByItsUUID(t *testing.T) {
	c := linuxDisk("E", "b", "g", "s")
	c.Volumes[3] = machine.Volume{Volume: volume.Volume{Kind: volume.KindLUKS, Serial: "aa-bb"}}
	at, known := resolved(c, loader.ByContainer, "AABB")
	assert.Equal(t, []machine.Address{{Index: 3}}, at)
	assert.True(t, known)
	at, known = resolved(c, loader.ByContainer, "cc")
	assert.Empty(t, at)
	assert.True(t, known, "it is not there")
	c.Volumes[3].Serial = ""
	_, known = resolved(c, loader.ByContainer, "cc")
	assert.False(t, known, "it may be the one whose UUID is not told")
	c.Volumes[3].Kind = volume.NotCaptured
	_, known = resolved(c, loader.ByContainer, "cc")
	assert.False(t, known, "a partition may hold it of which nothing is told")
	c.Volumes[3] = machine.Volume{Told: true}
	_, known = resolved(c, loader.ByContainer, "cc")
	assert.False(t, known)
	c.Volumes[3].Kind, c.Layout.Open = volume.KindSwap, true
	_, known = resolved(c, loader.ByContainer, "cc")
	assert.False(t, known, "there may be further partitions")
}

// A name is known to be on no disk only where the evidence tells it of every partition.
func TestANameThatNothingCarries(t *testing.T) {
	c := linuxDisk("E", "b", "g", "s")
	_, known := resolved(c, loader.ByFSUUID, "gone")
	assert.True(t, known)
	c.Volumes[1] = machine.Volume{Told: true, Volume: volume.Volume{Kind: volume.KindExt}}
	_, known = resolved(c, loader.ByFSUUID, "gone")
	assert.False(t, known, "a listing without it")
	at, known := resolved(c, loader.ByFSUUID, "root-g")
	assert.Equal(t, []machine.Address{{Index: 2, Inside: 1}}, at)
	assert.True(t, known)
	c = linuxDisk("E", "b", "g", "s")
	c.Volumes[2].Inner[1].Unread = true
	_, known = resolved(c, loader.ByFSUUID, "gone")
	assert.False(t, known, "a logical volume that lies elsewhere, too")
	at, _ = resolved(c, loader.ByFSUUID, "pv")
	assert.Empty(t, at, "a physical volume is no file system")
}

// What the root of a Linux is, and what keeps its /boot.
func TestWhatALinuxIsMadeOf(t *testing.T) {
	of := func(kind volume.Kind, kernels ...string) *machine.Volume {
		return &machine.Volume{Volume: volume.Volume{Kind: kind}, Kernels: kernels}
	}
	assert.True(t, of(volume.KindExt, "/vmlinuz").HasLinux())
	assert.False(t, of(volume.KindExt).HasLinux(), "no kernel, and no mount table")
	assert.False(t, of(volume.KindFAT32, "/vmlinuz").HasLinux(), "a FAT keeps no root")
	table := machine.Config{Kind: machine.ConfigFstab, Path: "/etc/fstab"}
	with := of(volume.KindXFS)
	with.Configs = []machine.Config{table}
	assert.True(t, with.HasLinuxRoot())
	assert.True(t, with.HasLinux())
	with.Configs[0].Kind = machine.ConfigGRUB
	assert.False(t, with.HasLinuxRoot(), "a menu is no system")
	ntfs := of(volume.KindNTFS)
	ntfs.Configs = []machine.Config{table}
	assert.False(t, ntfs.HasLinuxRoot())

	c := linuxDisk("E", "b", "g", "s")
	at, alone := c.LoneBoot()
	assert.True(t, alone)
	assert.Equal(t, machine.Address{Index: 1}, at)
	c.Volumes[1].Kernels = []string{"/boot/vmlinuz"}
	_, alone = c.LoneBoot()
	assert.False(t, alone, "its kernels lie below a folder of its own")
	c.Volumes[1].Kernels, c.Volumes[1].Kind, c.Volumes[1].Subvolumes = []string{"/vmlinuz"}, volume.KindBtrfs,
		&machine.Subvolumes{}
	_, alone = c.LoneBoot()
	assert.False(t, alone, "what a Btrfs with subvolumes has at its top is not told")
	empty := machine.Names{}
	assert.True(t, empty.Empty())
	for _, n := range []machine.Names{{Mounts: make([]machine.Rename, 1)}, {Menus: make([]machine.Rename, 1)},
		{Lax: make([]loader.Mount, 1)},
		{Mounts: make([]machine.Rename, 1), Menus: make([]machine.Rename, 1)}} {
		assert.False(t, n.Empty())
	}
}

// encryptedRoot is a disk whose root lies in an encrypted volume, with a menu in its /boot.
func encryptedRoot(root, options string) *machine.Drive {
	c := linuxDisk("E-1", "boot-1", "g", "s")
	c.Volumes[2] = machine.Volume{Volume: volume.Volume{Kind: volume.KindLUKS, Serial: "locked"}}
	spec := loader.ParseSpec(root)
	c.Volumes[1].Configs = []machine.Config{{Kind: machine.ConfigGRUB, Path: "/grub/grub.cfg",
		GRUB: &loader.GRUBConfig{Entries: []loader.GRUBEntry{
			{Linux: "/vmlinuz-6", Root: &spec, Options: options,
				Searches: []loader.GRUBSearch{{Spec: loader.Spec{Kind: loader.ByFSUUID, Value: "gone"}}}}}}}}
	return &machine.Drive{Contents: c, Bus: fact.Tell("nvme")}
}

// The names of a Linux whose root is encrypted are those of its kernel lines; nothing is
// guessed.
func TestTheNamesOfAnEncryptedLinux(t *testing.T) {
	n, ok := encryptedRoot("/dev/mapper/g-root", "root=/dev/mapper/g-root rootflags=subvol=@").LockedNames(0)
	require.True(t, ok)
	assert.Equal(t, &machine.Within{Spec: loader.Spec{Kind: loader.ByMapped, Value: "g-root"}, Flags: "subvol=@"},
		n.Within)
	assert.Equal(t, machine.Address{Index: 2}, n.Root)
	assert.Equal(t, machine.Address{Index: 1}, n.Home)
	require.Len(t, n.Mounts, 2)
	assert.Equal(t, []string{"/boot", "boot-1", "/boot/efi", "E-1"}, []string{n.Mounts[0].Point,
		n.Mounts[0].New.Value, n.Mounts[1].Point, n.Mounts[1].New.Value})
	require.Len(t, n.Menus, 1, "GRUB looks for what is gone")
	assert.Equal(t, "boot-1", n.Menus[0].New.Value)
	n, ok = encryptedRoot("UUID=within", "").LockedNames(-1)
	require.True(t, ok)
	assert.Len(t, n.Mounts, 1)

	for name, change := range map[string]func(*machine.Drive){
		"the root is an option that more is done with": func(d *machine.Drive) {
			d.Contents.Volumes[1].Configs[0].GRUB.Entries[0].Options = "rootflags=subvol=a,dev"
		},
		"two encrypted volumes": func(d *machine.Drive) {
			d.Contents.Volumes[3] = machine.Volume{Volume: volume.Volume{Kind: volume.KindLUKS, Serial: "other"}}
		},
		"two of /boot": func(d *machine.Drive) {
			d.Contents.Volumes[3] = machine.Volume{Volume: volume.Volume{Kind: volume.KindExt},
				Kernels: []string{"/vmlinuz"}}
		},
		"two roots": func(d *machine.Drive) {
			e := &d.Contents.Volumes[1].Configs[0].GRUB.Entries
			other := (*e)[0]
			other.Root = &loader.Spec{Kind: loader.ByFSUUID, Value: "another"}
			*e = append(*e, loader.GRUBEntry{Submenu: true, Sub: []loader.GRUBEntry{other}})
		},
		"another root that no name reaches": func(d *machine.Drive) {
			e := &d.Contents.Volumes[1].Configs[0].GRUB.Entries
			other := (*e)[0]
			other.Root = &loader.Spec{Kind: loader.ByDevice, Value: "/dev/nvme0n1p4"}
			*e = append([]loader.GRUBEntry{other}, *e...)
		},
		"the root lies in the clear": func(d *machine.Drive) {
			d.Contents.Volumes[1].Configs[0].GRUB.Entries[0].Root = &loader.Spec{Kind: loader.ByFSUUID, Value: "s"}
		},
		"what lies in the clear is not told": func(d *machine.Drive) {
			d.Contents.Volumes[3] = machine.Volume{Told: true, Volume: volume.Volume{Kind: volume.NotCaptured}}
		},
		"no kernel line": func(d *machine.Drive) { d.Contents.Volumes[1].Configs = nil },
	} {
		d := encryptedRoot("UUID=within", "")
		change(d)
		_, ok := d.LockedNames(0)
		assert.False(t, ok, name)
	}
	for _, root := range []string{"/dev/nvme0n1p4", "LABEL=root", "/dev/mapper/../x", "UUID=-x", "UUID=a b",
		"PARTUUID=1"} {
		_, ok := encryptedRoot(root, "").LockedNames(0)
		assert.False(t, ok, root)
	}
}

// A store that a listing tells of lies where the firmware, or the boot code, starts from.
func TestATellStoreLiesWhereItIsStartedFrom(t *testing.T) {
	c := linuxDisk("E", "b", "g", "s")
	c.Layout.Partitions[1].Active = true
	src := fact.Source{Origin: fact.Text}
	c.TellStore(loader.StoreUEFI, &loader.Store{}, src)
	c.TellStore(loader.StoreLegacy, &loader.Store{}, src)
	assert.NotNil(t, c.Volumes[0].Config(machine.ConfigStore, loader.StoreUEFI))
	assert.NotNil(t, c.Volumes[1].Config(machine.ConfigStore, loader.StoreLegacy))
	assert.Len(t, c.Volumes[0].Configs, 1)
	assert.Len(t, c.Volumes[1].Configs, 1)
	c.TellStore(loader.StoreUEFI, &loader.Store{}, src)
	assert.Len(t, c.Volumes[0].Configs, 1, "what is known already is not told again")
}

// What is copied file by file is another file system: nothing of it starts by its place.
func TestFilesThatAreCopied(t *testing.T) {
	c := linuxDisk("E", "b", "g", "s")
	c.Layout.Style, c.Layout.GPT = disk.StyleMBR, nil
	c.Layout.MBR = &disk.MBR{Signature: true}
	for i := range c.Layout.MBR.Entries {
		c.Layout.MBR.Entries[i] = disk.MBREntry{Number: i + 1, Status: 0x80, Type: 7, Start: uint64(i+1) << 20,
			Length: 1 << 20}
	}
	c.Layout.Partitions[1].Active = true
	e := c.WithFilesCopied(1)
	assert.Equal(t, []byte{0x80, 0, 0x80, 0x80}, []byte{e.Layout.MBR.Entries[0].Status,
		e.Layout.MBR.Entries[1].Status, e.Layout.MBR.Entries[2].Status, e.Layout.MBR.Entries[3].Status})
	assert.False(t, e.Layout.Partitions[1].Active)
	assert.EqualValues(t, 0x80, c.Layout.MBR.Entries[1].Status, "the disk stays as it was")
	assert.NotEqual(t, c.Volumes[1].Serial, e.Volumes[1].Serial)
	c.Volumes[3].Kind = volume.KindLUKS
	assert.Equal(t, volume.NotCaptured, c.WithFilesCopied(3).Volumes[3].Kind)
	c.Layout.MBR = nil
	assert.NotPanics(t, func() { c.WithFilesCopied(1) })
}
