package loader_test

import (
	"encoding/binary"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/loader"
)

// How a menu's entry is given: its options stand anywhere, and those with a value take the next word. GNU GRUB Manual,
// "menuentry".
func TestOptionsOfAMenuEntry(t *testing.T) {
	menu := func(text string) []loader.GRUBEntry { return loader.ParseGRUBConfig([]byte(text)).Entries }
	for text, want := range map[string][2]string{
		"menuentry 'a' --class x --id y { linux /k }":                {"a", "y"},
		"menuentry --id=y --users '' 'a' --unrestricted{ linux /k }": {"a", "y"},
		"menuentry --hotkey=h --class c --class d a { linux /k }":    {"a", ""},
		"menuentry a --source s --hotkey h { linux /k }":             {"a", ""},
		"menuentry \"a b\" --id { linux /k }":                        {"a b", ""},
		"menuentry a\\ b --id \"c d\" { linux /k }":                  {"a b", "c d"},
		"menuentry 'a'\\\n'b' { linux /k }":                          {"ab", ""},
	} {
		list := menu(text)
		require.Len(t, list, 1, text)
		assert.Equal(t, want, [2]string{list[0].Title, list[0].ID}, text)
	}
	// A word in quotation marks is no keyword, and a line that goes on counts as the lines that it is.
	list := menu("set a=\\\nb\n'if' x\nmenuentry x { linux /k }\nmenuentry y {\n linux /l\n}\n")
	require.Len(t, list, 2)
	assert.Equal(t, []int{4, 6}, []int{list[0].Line, list[1].Line}, "where the kernel is named")
}

// Entries of the Boot Loader Specification: each key's last line counts, options add up, and the root is that of the
// last line that has one. The UAPI group's specification, "Type #1 Boot Loader Specification Entries".
func TestLinesOfABootLoaderEntry(t *testing.T) {
	e := loader.ParseEntry([]byte("title A\n# title B\nsort-key s\nmachine-id m\nversion 6.1\nlinux /k\narchitecture x64\n" +
		"initrd /u.img /i.img\ninitrd $tuned_initrd\noptions root=UUID=1 ro\noptions quiet\n"))
	assert.Equal(t, []string{"A", "s", "m", "6.1", "/k", "x64"}, []string{e.Title, e.SortKey, e.MachineID, e.Version, e.Linux, e.Arch})
	assert.Equal(t, []string{"/u.img", "/i.img"}, e.Initrds)
	assert.Equal(t, "root=UUID=1 ro quiet", e.Options)
	require.NotNil(t, e.Root)
	assert.Equal(t, loader.Spec{Kind: loader.ByFSUUID, Value: "1"}, *e.Root)
	assert.Equal(t, 10, e.Line)
	assert.False(t, e.Program)
	e = loader.ParseEntry([]byte("efi \\EFI\\a.efi\noptions quiet\noptions root=LABEL=x\noptions rw\n"))
	assert.True(t, e.Program)
	assert.Equal(t, "/EFI/a.efi", e.Path())
	require.NotNil(t, e.Root)
	assert.Equal(t, 3, e.Line)
	assert.Empty(t, loader.Entry{}.Path())
	assert.Equal(t, "/k", loader.Entry{Linux: "k"}.Path())
	for text, by := range map[string]bool{"auto-entries no": true, "auto-entries 0": true, "auto-entries yes": false, "": false} {
		assert.Equal(t, by, loader.ParseLoaderSettings([]byte("default a-*\n"+text)).NoneByItself, text)
	}
	assert.Equal(t, "a-*", loader.ParseLoaderSettings([]byte("timeout 3\ndefault a-*\n")).Default)
}

// Devices as mount tables and kernel lines name them. fstab(5); the kernel's admin-guide/kernel-parameters and devices.
func TestNamesOfDevices(t *testing.T) {
	for text, want := range map[string]loader.Spec{
		`UUID="a-b"`:                   {Kind: loader.ByFSUUID, Value: "a-b"},
		"'LABEL=x'":                    {Kind: loader.ByFSLabel, Value: "x"},
		"PARTUUID=c-01":                {Kind: loader.ByPartUUID, Value: "c-01"},
		"/dev/disk/by-partlabel/x":     {Kind: loader.ByPartLabel, Value: "x"},
		"/dev/disk/by-path/pci-1":      {Kind: loader.ByPath, Value: "pci-1"},
		"/dev/disk/by-id/ata-x":        {Kind: loader.ByOwnName, Value: "ata-x"},
		"/dev/disk/by-id/dm-name-vg-a": {Kind: loader.ByMapped, Value: "vg-a"},
		"/dev/disk/by-id/dm-uuid-x":    {Kind: loader.ByOther, Value: "/dev/disk/by-id/dm-uuid-x"},
		"/dev/mapper/vg-a":             {Kind: loader.ByMapped, Value: "vg-a"},
		"/dev/vg-x/a":                  {Kind: loader.ByMapped, Value: "vg--x-a"},
		"/dev/vg/a/b":                  {Kind: loader.ByDevice, Value: "/dev/vg/a/b"},
		"/dev/vg/":                     {Kind: loader.ByDevice, Value: "/dev/vg/"},
		"/dev/md127":                   {Kind: loader.ByArray, Value: "127"},
		"/dev/md/home":                 {Kind: loader.ByArray, Value: "home"},
		"/dev/md":                      {Kind: loader.ByDevice, Value: "/dev/md"},
		"/dev/block/8:1":               {Kind: loader.ByOther, Value: "/dev/block/8:1"},
		"/dev/sda1":                    {Kind: loader.ByDevice, Value: "/dev/sda1"},
		"tmpfs":                        {Kind: loader.ByOther, Value: "tmpfs"},
	} {
		assert.Equal(t, want, loader.ParseSpec(text), text)
	}
	for name, first := range map[string]bool{"/dev/sda1": true, "/dev/vda12": true, "/dev/nvme0n1p2": true, "/dev/mmcblk1p1": true,
		"/dev/sdb1": false, "/dev/sda": false, "/dev/nvme1n1p2": false, "/dev/xsda1": false, "/dev/sda1x": false} {
		assert.Equal(t, first, loader.FirstDevice(name), name)
	}
	for text, same := range map[string]bool{"0x10": true, "16": true, "10": false, "x": false} {
		assert.Equal(t, same, loader.SameNumber(text, 16), text)
	}
	root := loader.RootOf(`ro root=UUID=1 "root=LABEL=a" root=$other`)
	require.NotNil(t, root)
	assert.Equal(t, loader.Spec{Kind: loader.ByFSLabel, Value: "a"}, *root, "the last one that is told")
	assert.Nil(t, loader.RootOf("ro rootflags=x"))
	assert.Equal(t, []string{"a", "b"}, loader.KernelOptions(`x=a "x=b" xy=c x`, "x"))
	for line, on := range map[string]bool{"rd.auto": true, "rd.auto=1": true, "rd.auto=0": false, "rd.auto=off": false, "rd.auto rd.auto=no": false,
		"rd.auto=no rd.auto": true, "rd.autos": false} {
		assert.Equal(t, on, loader.KernelSwitch(line, "rd.auto", false), line)
	}
	assert.True(t, loader.KernelSwitch("quiet", "rd.auto", true))
	upper := loader.Spec{Kind: loader.ByFSUUID, Value: "AB"}
	assert.True(t, upper.Same("ab") && !upper.Same("") && !loader.Spec{Kind: loader.ByFSUUID}.Same(""))
	label := loader.Spec{Kind: loader.ByFSLabel, Value: "AB"}
	assert.True(t, label.Same("AB") && !label.Same("ab"))
}

// The name that Linux gives a partition, by the kind of its table. The kernel's block/partitions/msdos.c and efi.c.
func TestNamesThatLinuxGivesPartitions(t *testing.T) {
	gpt := disk.Partition{GUID: disk.MustGUID("AB000000-0000-4000-8000-000000000001"), Number: 2}
	assert.Equal(t, "ab000000-0000-4000-8000-000000000001", loader.PartUUID(&disk.Layout{}, gpt))
	mbr := &disk.Layout{MBR: &disk.MBR{DiskSignature: 0xAB}}
	assert.Equal(t, "000000ab-0c", loader.PartUUID(mbr, disk.Partition{Number: 12}))
	assert.Empty(t, loader.PartUUID(&disk.Layout{MBR: &disk.MBR{}}, disk.Partition{Number: 1}))
	assert.Empty(t, loader.PartUUID(&disk.Layout{}, disk.Partition{Number: 1}))
}

// Device elements of a store at their least lengths; the names of their bytes stand where the bytes are.
func TestDeviceElementsAtTheirBounds(t *testing.T) {
	le := binary.LittleEndian
	raw := make([]byte, 0x48)
	le.PutUint32(raw[0x10:], uint32(loader.DevicePartition))
	for n, wrong := range map[int]bool{0x13: true, 0x14: true, 0x47: true, 0x48: false} {
		_, err := loader.DecodeDevice(raw[:n])
		assert.Equal(t, wrong, err != nil, "%d bytes: %v", n, err)
	}
	d, err := loader.DecodeDevice(make([]byte, 0x14))
	require.NoError(t, err, "of another kind")
	assert.NotEqual(t, loader.DevicePartition, d.Kind)
	for style, mbr := range map[uint32]bool{0: false, 1: true} {
		le.PutUint32(raw[0x34:], style)
		for _, f := range loader.DeviceFields(mbr) {
			before, err := loader.DecodeDevice(raw)
			require.NoError(t, err)
			changed := append([]byte{}, raw...)
			changed[f.Offset] ^= 3
			after, err := loader.DecodeDevice(changed)
			assert.Equal(t, f.Name != "additional options", err != nil || *before != *after, "%s at %d", f.Name, f.Offset)
		}
	}
	le.PutUint32(raw[0x34:], 2)
	_, err = loader.DecodeDevice(raw)
	assert.ErrorContains(t, err, "style 2")
}
