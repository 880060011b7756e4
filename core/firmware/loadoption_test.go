package firmware_test

import (
	"encoding/binary"
	"strings"
	"testing"
	"unicode/utf16"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
)

var le = binary.LittleEndian

// node builds a device path node. UEFI Specification 2.10, section 10.2.
func node(kind, sub byte, data ...byte) []byte {
	return append([]byte{kind, sub, byte(4 + len(data)), byte((4 + len(data)) >> 8)}, data...)
}

func wide(s string) []byte {
	var b []byte
	for _, u := range append(utf16.Encode([]rune(s)), 0) {
		b = le.AppendUint16(b, u)
	}
	return b
}

var end = node(0x7F, 0xFF)

// option builds a load option. UEFI Specification 2.10, section 3.1.3.
func option(attributes uint32, description string, nodes ...[]byte) []byte {
	var path []byte
	for _, n := range nodes {
		path = append(path, n...)
	}
	b := le.AppendUint32(nil, attributes)
	b = le.AppendUint16(b, uint16(len(path)))
	return append(append(b, wide(description)...), path...)
}

// hardDrive builds a hard drive node. UEFI Specification 2.10, table 10.49.
func hardDrive(number uint32, start, size uint64, signature [16]byte, format, kind byte) []byte {
	b := le.AppendUint32(nil, number)
	b = le.AppendUint64(le.AppendUint64(b, start), size)
	return node(4, 1, append(append(b, signature[:]...), format, kind)...)
}

func TestALoadOptionIsDecodedFieldByField(t *testing.T) {
	g := disk.MustGUID("7E21B6D0-4C1A-4F0B-9A55-3C5A19E00072")
	e, err := firmware.DecodeLoadOption(0x12, option(1, "größer", hardDrive(3, 2048, 204800, g, 2, 2),
		node(4, 4, wide(`\EFI\debian\shimx64.efi`)...), end))
	require.NoError(t, err)
	assert.Equal(t, uint16(0x12), e.Number)
	assert.Equal(t, "größer", e.Description)
	assert.True(t, e.Active)
	assert.False(t, e.App)
	require.NotNil(t, e.Path.Partition)
	assert.Equal(t, firmware.PartitionNode{Number: 3, Start: 2048, Size: 204800, GUID: g}, *e.Path.Partition)
	assert.Equal(t, `\EFI\debian\shimx64.efi`, e.Path.File)
	assert.Equal(t, `HD(3,GPT,7e21b6d0-4c1a-4f0b-9a55-3c5a19e00072,0x800,0x32000)/File(\EFI\debian\shimx64.efi)`, e.Text)
	assert.Empty(t, e.Path.Bus)
	assert.Nil(t, e.Path.Port)
	assert.False(t, e.Path.Internal)

	e, err = firmware.DecodeLoadOption(1, option(0x101, "", hardDrive(1, 63, 9, [16]byte{0xFE, 0xCA}, 1, 1), end))
	require.NoError(t, err)
	assert.True(t, e.App, "of the category of applications")
	assert.Equal(t, firmware.PartitionNode{Number: 1, Start: 63, Size: 9, MBR: true, Signature: 0xCAFE},
		*e.Path.Partition)
	assert.Equal(t, "HD(1,MBR,0x0000cafe,0x3f,0x9)", e.Text)
	for attributes, active := range map[uint32]bool{0: false, 1: true, 8: false, 9: true} {
		e, err = firmware.DecodeLoadOption(1, option(attributes, "x", end))
		require.NoError(t, err)
		assert.Equal(t, active, e.Active)
		assert.False(t, e.App)
	}
}

// Hardware, as a path from the device names it. UEFI Specification 2.10, sections
// 10.3.2 to 10.3.5 and 10.6.1.6.
func TestNodesOfADevicePath(t *testing.T) {
	port := func(n int) *int { return &n }
	for text, c := range map[string]struct {
		node []byte
		path firmware.Path
	}{
		"PciRoot(0x2)":             {node(2, 1, 0xD0, 0x41, 3, 0x0A, 2, 0, 0, 0), firmware.Path{}},
		"Pci(0x1F,0x2)":            {node(1, 1, 2, 0x1F), firmware.Path{}},
		"Sata(0300FFFF0000)":       {node(3, 18, 3, 0, 0xFF, 0xFF, 0, 0), firmware.Path{Bus: "sata", Port: port(3)}},
		"USB(0500)":                {node(3, 5, 5, 0), firmware.Path{Bus: "usb", Port: port(5)}},
		"UsbClass(FFFFFFFFFFFFFF)": {node(3, 15, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF), firmware.Path{Bus: "usb"}},
		"NVMe(010000000011223344556677)": {node(3, 23, 1, 0, 0, 0, 0, 0x11, 0x22, 0x33, 0x44, 0x55, 0x66, 0x77),
			firmware.Path{Bus: "nvme"}},
		"Ata(00000000)":     {node(3, 1, 0, 0, 0, 0), firmware.Path{Bus: "ide"}},
		"Scsi(01000200)":    {node(3, 2, 1, 0, 2, 0), firmware.Path{Bus: "scsi"}},
		"Msg(11,AABB)":      {node(3, 11, 0xAA, 0xBB), firmware.Path{}},
		"Fv(0102)":          {node(4, 7, 1, 2), firmware.Path{Internal: true}},
		"Fv(03)":            {node(4, 6, 3), firmware.Path{Internal: true}},
		"Path(5,1,0200)":    {node(5, 1, 2, 0), firmware.Path{}},
		"Path(4,1,0100)":    {node(4, 1, 1, 0), firmware.Path{}}, // too short for a hard drive
		"Path(1,1,02)":      {node(1, 1, 2), firmware.Path{}},
		"Path(2,1,D04103)":  {node(2, 1, 0xD0, 0x41, 3), firmware.Path{}},
		"Sata(03)":          {node(3, 18, 3), firmware.Path{Bus: "sata"}},
		"USB()":             {node(3, 5), firmware.Path{Bus: "usb"}},
		`File(\a)/File(\b)`: {append(node(4, 4, wide(`\a`)...), node(4, 4, []byte{}...)...), firmware.Path{File: `\a`, Alone: true}},
	} {
		e, err := firmware.DecodeLoadOption(1, option(1, "x", c.node, end))
		require.NoError(t, err, text)
		if text != `File(\a)/File(\b)` {
			assert.Equal(t, text, e.Text)
		}
		assert.Equal(t, c.path, e.Path, text)
	}
	e, err := firmware.DecodeLoadOption(1, option(1, "x", node(4, 4, wide(`\a`)...), node(4, 4, wide(`\b`)...), end))
	require.NoError(t, err)
	assert.Equal(t, `\a\b`, e.Path.File, "a path in two nodes is one path")
}

// The way to a controller is told by the PCI nodes at the first root, in binary and in text.
func TestTheWayToAController(t *testing.T) {
	root := func(n byte) []byte { return node(2, 1, 0xD0, 0x41, 3, 0x0A, n, 0, 0, 0) }
	nvme := node(3, 23, 1, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0)
	e, err := firmware.DecodeLoadOption(1, option(1, "x", root(0), node(1, 1, 4, 0x1C), node(1, 1, 0, 0), nvme, end))
	require.NoError(t, err)
	assert.Equal(t, "Pci(0x1C,0x4)/Pci(0x0,0x0)", e.Path.Controller)
	assert.Regexp(t, firmware.Controller, e.Path.Controller)
	other, err := firmware.DecodeLoadOption(1, option(1, "x", root(1), node(1, 1, 4, 0x1C), nvme, end))
	require.NoError(t, err)
	assert.Empty(t, other.Path.Controller, "another root")
	for text, want := range map[string]string{
		"PciRoot(0x0)/Pci(0x1c,0x4)/Pci(0x0,0x0)/NVMe(0x1,00-00)": "Pci(0x1C,0x4)/Pci(0x0,0x0)",
		"PciRoot(0x0)/Pci(0x1f,0x2)/Sata(1,65535,0)/HD(1,GPT)":    "Pci(0x1F,0x2)",
		"PciRoot(0x1)/Pci(0x1f,0x2)/Sata(1,65535,0)":              "",
		"HD(1,GPT)/Pci(0x1f,0x2)/":                                "",
		"PciRoot(0x0)/Sata(1,65535,0)":                            "",
	} {
		assert.Equal(t, want, firmware.ControllerOf(text), text)
	}
}

func TestLoadOptionsThatAreRefused(t *testing.T) {
	sound := option(1, "x", node(4, 4, wide(`\a`)...), end)
	for says, raw := range map[string][]byte{
		"Boot0007 has 7 bytes":                    sound[:7],
		"the description does not end":            append(append([]byte{}, sound[:6]...), 'x', 0, 'y', 0),
		"the device path is said to have":         sound[:len(sound)-1],
		"breaks off before its end node":          option(1, "x", node(4, 4, wide(`\a`)...)),
		"a device path node is said to have 3":    option(1, "x", []byte{4, 4, 3, 0}, end),
		"a device path node is said to have 9000": option(1, "x", []byte{4, 4, 0x28, 0x23}, end),
		"more than 64 nodes": option(1, "x",
			append([]byte{}, []byte(strings.Repeat(string(node(1, 1, 0, 0)), 65))...), end),
	} {
		_, err := firmware.DecodeLoadOption(7, raw)
		assert.ErrorContains(t, err, says)
		assert.ErrorContains(t, err, "Boot0007")
	}
	_, err := firmware.DecodeLoadOption(7, option(1, "x", []byte(strings.Repeat(string(node(1, 1, 0, 0)), 63)), end))
	assert.NoError(t, err, "63 nodes and their end")
	e, err := firmware.DecodeLoadOption(7, option(1, "", end))
	require.NoError(t, err)
	assert.Empty(t, e.Description)
}

// How Linux' efivarfs names and stores boot variables.
func TestVariables(t *testing.T) {
	const vendor = "-8be4df61-93ca-11d2-aa0d-00e098032b8c"
	with := func(b ...byte) []byte { return append([]byte{7, 0, 0, 0}, b...) }
	loader := option(1, "x", node(4, 4, wide(`\a.efi`)...), end)
	files := map[string][]byte{"BootOrder" + vendor: with(2, 0, 0x0B, 0xA0), "BootNext" + vendor: with(0x0B, 0xA0),
		"Boot0002" + vendor: with(loader...), "BootA00B" + strings.ToUpper(vendor): with(loader...),
		"BootCurrent" + vendor: with(2, 0), "Timeout" + vendor: with(5, 0), "Boot0002-other": with(1),
		"Bootzzzz" + vendor: with(1)}
	e, err := firmware.DecodeVariables(files)
	require.NoError(t, err)
	assert.Equal(t, []uint16{2, 0xA00B}, e.Order)
	assert.EqualValues(t, 0xA00B, *e.Next)
	assert.EqualValues(t, 2, *e.Current)
	require.Len(t, e.All, 2)
	assert.Equal(t, `\a.efi`, e.All[0xA00B].Path.File)
	assert.Equal(t, fact.Source{Origin: fact.Text, Structure: "BootA00B", Field: "FilePathList"}, e.All[0xA00B].Source)

	e, err = firmware.DecodeVariables(map[string][]byte{"Boot0002" + vendor: with(loader...), "Boot0003" + vendor: with(1, 2),
		"Boot0004" + vendor: {7, 0, 0}})
	assert.ErrorContains(t, err, "Boot0003")
	assert.ErrorContains(t, err, "has 3 bytes: expected its attributes first")
	assert.Len(t, e.All, 1, "the rest is kept")
	assert.Nil(t, e.Next)

	_, err = firmware.DecodeVariables(map[string][]byte{"LoaderEntryDefault-" + firmware.LoaderVendor: {7}})
	assert.ErrorContains(t, err, "has 1 bytes: expected its attributes first")
	keeps := map[string][]byte{}
	for i, name := range firmware.LoaderVariables {
		keeps[strings.ToUpper(name+"-"+firmware.LoaderVendor)] = with(wide(string(rune('a' + i)))...)
	}
	assert.Equal(t, &firmware.LoaderMenu{}, e.Menu, "nothing is kept")
	e, err = firmware.DecodeVariables(keeps)
	require.NoError(t, err)
	assert.Equal(t, &firmware.LoaderMenu{Once: "a", Default: "b", Last: "c"}, e.Menu)

	for name, is := range map[string]bool{"Boot0001" + vendor: true, "LoaderEntryDefault-" + firmware.LoaderVendor: true,
		"LoaderInfo-" + firmware.LoaderVendor: false, "bootorder" + vendor: true, "Timeout" + vendor: false,
		"Boot0001": false, "Boot0001-00000000-93ca-11d2-aa0d-00e098032b8c": false} {
		assert.Equal(t, is, firmware.IsBootVariable(name), name)
	}
}

// UEFI Specification 2.10, sections 3.1.1 and 3.3.
func TestTheSequenceOfEntries(t *testing.T) {
	entry := func(n uint16, active, app bool) firmware.Entry {
		return firmware.Entry{Number: n, Active: active, App: app, Path: firmware.Path{File: `\x`}}
	}
	next := uint16(4)
	e := firmware.Entries{Next: &next, Order: []uint16{3, 9, 1, 2}, All: map[uint16]firmware.Entry{
		1: entry(1, true, false), 2: entry(2, true, true), 3: entry(3, false, false), 4: entry(4, false, false)}}
	numbers := func() (list []uint16) {
		for _, x := range e.Sequence() {
			list = append(list, x.Number)
		}
		return list
	}
	assert.Equal(t, []uint16{4, 1}, numbers(), "BootNext though inactive; then those that are active and no applications")
	next = 8
	assert.Equal(t, []uint16{1}, numbers(), "BootNext names nothing")
	e.Next = nil
	assert.Equal(t, []uint16{1}, numbers())
}

func TestListingsOfEntriesFillEachOther(t *testing.T) {
	two, three := uint16(2), uint16(3)
	e := firmware.Entries{All: map[uint16]firmware.Entry{1: {Number: 1, Description: "mine"}}, NextOpen: true}
	e.Fill(&firmware.Entries{Next: &two, Order: []uint16{1, 2}, All: map[uint16]firmware.Entry{1: {Description: "theirs"},
		2: {Number: 2}}}, 7)
	assert.Equal(t, "mine", e.All[1].Description)
	assert.Zero(t, e.All[1].Source.Evidence)
	assert.EqualValues(t, 7, e.All[2].Source.Evidence)
	e.Fill(&firmware.Entries{Next: &three, Order: []uint16{2}}, 8)
	assert.Equal(t, two, *e.Next)
	assert.Equal(t, []uint16{1, 2}, e.Order)
}

func TestPathsAsFirmwareTakesThem(t *testing.T) {
	for file, program := range map[string]string{"": "", `\EFI\a.efi`: `\EFI\a.efi`, `EFI\\a.efi`: `\EFI\a.efi`, `\\EFI\`: `\EFI`, "EFI/a.efi": `\EFI/a.efi`} {
		assert.Equal(t, program, firmware.Path{File: file}.Program(), file)
	}
	e := firmware.Entries{All: map[uint16]firmware.Entry{1: {Path: firmware.Path{File: `a\b`}},
		2: {Path: firmware.Path{File: "a/b"}}, 3: {}}}
	assert.Equal(t, []string{`\a\b`}, e.Files())
}

// The rows of the table are whole, and each choice is told for itself.
func TestChoices(t *testing.T) {
	require.Len(t, firmware.Choices, 23)
	keys := map[string]bool{}
	for _, c := range firmware.Choices {
		assert.False(t, keys[c.Key], c.Key)
		keys[c.Key] = true
		assert.Same(t, c, firmware.ChoiceOf(c.Key))
		assert.True(t, strings.HasSuffix(c.Question, "?"), c.Key)
		for _, text := range []string{c.Label, c.Means, c.How} {
			assert.NotEmpty(t, text, c.Key)
		}
		var none firmware.Behaviour
		_, known := none.Of(c).Get()
		assert.False(t, known)
		told := none.Tell(map[string]bool{c.Key: true, "readsMinds": true})
		for _, other := range firmware.Choices {
			made, known := told.Of(other).Get()
			assert.Equal(t, other == c, known)
			assert.Equal(t, other == c, made)
		}
		_, known = none.Of(c).Get()
		assert.False(t, known, "the receiver stays as it is")
	}
	assert.Nil(t, firmware.ChoiceOf("readsMinds"))
	for name, want := range map[string]bool{"": true, "generic": true, "edk2": true, "seabios": true, "other": false} {
		b, ok := firmware.Named(name)
		assert.Equal(t, want, ok, name)
		backup := b.Of(firmware.UsesBackupGPT)
		_, known := backup.Get()
		assert.Equal(t, name == "edk2", known, name)
		if known {
			assert.Equal(t, fact.Source{Origin: fact.Assumed, Structure: "edk2"}, backup.Source())
		}
	}
}

// What edk2 keeps behind the entries that it makes itself is given to no program: a unified kernel that
// is started by one goes by its own line, as in package truth.
func TestTheMarkOfAnEntryThatTheFirmwareMade(t *testing.T) {
	mark := []byte{0x4E, 0xAC, 0x08, 0x81, 0x11, 0x9F, 0x59, 0x4D, 0x85, 0x0E, 0xE2, 0x1A, 0x52, 0x2C, 0x59, 0xB2}
	path := append(node(4, 4, wide(`\a.efi`)...), end...)
	for name, c := range map[string]struct {
		data []byte
		open bool
	}{"the mark": {mark, false}, "another one": {append([]byte{0x4F}, mark[1:]...), true}, "the mark and more": {append(mark, 0, 1), true}} {
		e, err := firmware.DecodeLoadOption(1, append(option(1, "x", path), c.data...))
		require.NoError(t, err)
		assert.Empty(t, e.Options, name)
		assert.Equal(t, c.open, e.OptionsOpen, name)
	}
}
