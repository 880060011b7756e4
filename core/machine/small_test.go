package machine_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// A role is missing in a machine only where each drive of it is known to be unplugged.
func TestAMachineWithoutARole(t *testing.T) {
	drive := func(role machine.Role, attached fact.Of[bool]) machine.Drive {
		return machine.Drive{Name: string(role), Role: role, Attached: attached}
	}
	for name, c := range map[string]struct {
		drives []machine.Drive
		want   bool
	}{
		"attached":          {[]machine.Drive{drive(machine.RoleOriginal, fact.Tell(true))}, false},
		"unplugged":         {[]machine.Drive{drive(machine.RoleOriginal, fact.Tell(false))}, true},
		"not told":          {[]machine.Drive{drive(machine.RoleOriginal, fact.Unknown[bool]())}, false},
		"another, attached": {[]machine.Drive{drive(machine.RoleClone, fact.Tell(true))}, true},
		"another, not told": {[]machine.Drive{drive(machine.RoleClone, fact.Unknown[bool]())}, true},
		"none":              {nil, true},
		"one of two attached": {[]machine.Drive{drive(machine.RoleOriginal, fact.Tell(false)),
			drive(machine.RoleOriginal, fact.Tell(true))}, false},
	} {
		assert.Equal(t, c.want, machine.Machine{Drives: c.drives}.Without(machine.RoleOriginal), name)
	}
}

func TestLettersAtTheBeginningOfASentence(t *testing.T) {
	for s, want := range map[string]string{"The loader": "the loader", "GPT header": "GPT header",
		`\EFI\x`: `\EFI\x`, "Windows store": "Windows store",
		"Linux": "Linux", "Windowsill": "windowsill", "A": "A", "": "", "Ab": "ab"} {
		assert.Equal(t, want, machine.LowerFirst(s), s)
	}
	for s, want := range map[string]string{"the": "The", "": "", "GPT": "GPT", "z": "Z", "a": "A", "\\x": "\\x",
		"{a": "{a"} {
		assert.Equal(t, want, machine.UpperFirst(s), s)
	}
}

// A capacity is taken from one sector on up to the largest disk.
func TestTheBoundsOfACapacity(t *testing.T) {
	for size, known := range map[int64]bool{511: false, 512: true, disk.MaxSize: true, disk.MaxSize + 1: false} {
		d := machine.Described{Source: fact.Source{Origin: fact.Text}, Size: size, Style: disk.StyleGPT}
		_, told := d.Contents().Size()
		assert.Equal(t, known, told, "%d", size)
	}
}

// A protective record keeps the boot code and the signature of the disk that are there.
func TestAProtectiveRecordKeepsWhatStoodBeside(t *testing.T) {
	c := linuxDisk("E", "b", "g", "s")
	e := c.WithProtectiveMBR()
	require.NotNil(t, e.Layout.MBR)
	assert.EqualValues(t, disk.MBRTypeProtective, e.Layout.MBR.Entries[0].Type)
	assert.EqualValues(t, 1<<30-1, e.Layout.MBR.Entries[0].Length)
	c.Layout.MBR = &disk.MBR{BootCode: []byte{1, 2}, DiskSignature: 7}
	e = c.WithProtectiveMBR()
	assert.Equal(t, []byte{1, 2}, e.Layout.MBR.BootCode)
	assert.EqualValues(t, 7, e.Layout.MBR.DiskSignature)
}

// The folders in which a system is looked for: each once, and not without end.
func TestTheViewsOfSubvolumes(t *testing.T) {
	s := &machine.Subvolumes{Default: "/@", Whole: true, Paths: map[string]uint64{"/": 5, "/@": 256, "/@home": 257,
		"/@/snapshots/1": 300}}
	views := s.Views()
	assert.Equal(t, []string{"/@", ""}, views[:2])
	seen := map[string]bool{}
	for _, v := range views {
		assert.False(t, seen[v], v)
		seen[v] = true
	}
	assert.Nil(t, (*machine.Subvolumes)(nil).Views())
	for i := range 500 {
		s.Paths["/v"+string(rune('A'+i%26))+string(rune('A'+i/26))] = uint64(400 + i)
	}
	assert.Less(t, len(s.Views()), 200)
}

// A pasted file lies on the volume that it names, else on the only one that can hold it; a
// volume whose own files are in evidence keeps them.
func TestWhereAPastedFileLies(t *testing.T) {
	fstab := func(root string) machine.Written {
		return machine.Written{Kind: machine.ConfigFstab, Path: "/etc/fstab",
			Bytes: []byte(root + " / ext4 defaults 0 1\n")}
	}
	told := func() *machine.Drive {
		c := linuxDisk("E", "b", "g", "s")
		c.Volumes[1] = machine.Volume{Told: true, Volume: volume.Volume{Kind: volume.KindExt, Serial: "b"}}
		c.Volumes[3] = machine.Volume{Told: true, Volume: volume.Volume{Kind: volume.KindExt, Serial: "s"}}
		return &machine.Drive{Contents: c}
	}
	s, ok := fstab("UUID=b").Home()
	assert.True(t, ok)
	assert.Equal(t, loader.Spec{Kind: loader.ByFSUUID, Value: "b"}, s)
	_, ok = fstab("tmpfs").Home()
	assert.False(t, ok, "a name of nothing")

	d := told()
	assert.True(t, d.TellWritten(fstab("UUID=s"), fact.Source{}))
	assert.Len(t, d.Contents.Volumes[3].Configs, 1)
	assert.Empty(t, d.Contents.Volumes[1].Configs)
	assert.True(t, d.TellWritten(fstab("UUID=s"), fact.Source{}), "once more")
	assert.Len(t, d.Contents.Volumes[3].Configs, 1, "it is there already")
	assert.False(t, told().TellWritten(fstab("UUID=gone"), fact.Source{}), "two can hold it")
	assert.False(t, (&machine.Drive{}).TellWritten(fstab("UUID=s"), fact.Source{}))
	d = told()
	d.Contents.Volumes[3].Readable, d.Contents.Volumes[3].Told = true, false
	assert.True(t, d.TellWritten(fstab("UUID=s"), fact.Source{}))
	assert.Empty(t, d.Contents.Volumes[3].Configs, "its own files are in evidence")
}

// What a store's device means on a drive.
func TestTheDeviceOfAStoreOnADrive(t *testing.T) {
	c := linuxDisk("E", "b", "g", "s")
	d := &machine.Drive{Contents: c}
	of := func(dev loader.BCDDevice) ([]int, bool) { return d.ResolveDevice(&dev) }
	found, known := of(loader.BCDDevice{Partition: c.Layout.Partitions[2].GUID})
	assert.Equal(t, []int{2}, found)
	assert.True(t, known)
	found, known = of(loader.BCDDevice{Partition: disk.MustGUID(guidOne)})
	assert.Empty(t, found)
	assert.True(t, known, "every partition's GUID is told")
	c.Layout.Partitions[1].GUID = disk.GUID{}
	c.Volumes[1].Told = true
	found, _ = of(loader.BCDDevice{})
	assert.Empty(t, found, "no GUID is none in common")
	c.Layout.Style, c.Layout.GPT, c.Layout.MBR = disk.StyleMBR, nil, &disk.MBR{DiskSignature: 9}
	found, known = of(loader.BCDDevice{MBR: true, Signature: 9, Start: uint64(c.Base(3))})
	assert.Equal(t, []int{3}, found)
	assert.True(t, known)
	found, _ = of(loader.BCDDevice{MBR: true, Signature: 8, Start: uint64(c.Base(3))})
	assert.Empty(t, found, "of another disk")
	found, _ = of(loader.BCDDevice{MBR: true, Signature: 9, Start: uint64(c.Base(3)) + 512})
	assert.Empty(t, found, "a sector off")
}

// A GPT takes the sectors behind sector 0, in which GRUB's core image lies on an MBR disk.
func TestAGPTOverwritesWhatLiesBehindSector0(t *testing.T) {
	for at, stays := range map[uint64]bool{1: false, 33: false, 34: true, 2048: true} {
		l := disk.Layout{SectorSize: 512, Sectors: 1 << 20, Style: disk.StyleMBR, MBR: &disk.MBR{}}
		c := &machine.Contents{Layout: l, Core: machine.GRUBCore{Sector: at, Present: true, Known: true}}
		assert.Equal(t, stays, c.WithTable(machine.Record{Style: disk.StyleGPT}).Core.Present, "sector %d", at)
		assert.True(t, c.WithTable(machine.Record{Style: disk.StyleMBR}).Core.Present, "sector %d", at)
	}
}

// A tool that knows no table does not tell that there is none.
func TestWhereNoTableIsKnownAPartitionMayBe(t *testing.T) {
	for _, open := range []bool{true, false} {
		d := machine.Drive{Contents: &machine.Contents{Layout: disk.Layout{Style: disk.StyleNone, Open: open}}}
		assert.Equal(t, open, d.MayCarry(&firmware.PartitionNode{}))
		assert.Equal(t, open, d.MayCarry(&firmware.PartitionNode{MBR: true}))
	}
}
