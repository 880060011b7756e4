package tables_test

import (
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/machine"
	"latchkey/core/repair"
	"latchkey/core/tables"
	"latchkey/internal/diskmaker"
	"latchkey/internal/reference"
	"latchkey/internal/sample"
)

// Every problem that tables can have says what it means for a start.
func TestEveryProblemHasItsMeaning(t *testing.T) {
	source, err := os.ReadFile(filepath.Join("..", "disk", "problem.go"))
	require.NoError(t, err)
	codes := regexp.MustCompile(`ProblemCode = "([a-z-]+)"`).FindAllStringSubmatch(string(source), -1)
	require.Greater(t, len(codes), 30)
	for _, c := range codes {
		assert.NotEmpty(t, tables.Means(disk.ProblemCode(c[1])), c[1])
	}
}

type spoil func(m *diskmaker.Image)

func at(off int64, b ...byte) spoil {
	return func(m *diskmaker.Image) {
		where := off
		if off < 0 {
			where += m.Size
		}
		if _, err := m.WriteAt(b, where); err != nil {
			panic(err)
		}
	}
}

// header changes a copy of a GPT, told by its byte, and makes its checksums right again.
func header(where int64, change func(h, e []byte)) spoil {
	return func(m *diskmaker.Image) {
		le, off := binary.LittleEndian, where
		if off < 0 {
			off += m.Size
		}
		h, e := make([]byte, 92), make([]byte, 128*128)
		read := func(b []byte, from int64) {
			if _, err := m.ReadAt(b, from); err != nil {
				panic(err)
			}
		}
		read(h, off)
		array := int64(le.Uint64(h[72:])) * 512
		read(e, array)
		change(h, e)
		le.PutUint32(h[88:], crc32.ChecksumIEEE(e))
		le.PutUint32(h[16:], 0)
		le.PutUint32(h[16:], crc32.ChecksumIEEE(h))
		at(array, e...)(m)
		at(off, h...)(m)
	}
}

func both(change func(h, e []byte)) spoil {
	return func(m *diskmaker.Image) {
		header(512, change)(m)
		header(-512, change)(m)
	}
}

func add(b []byte, n uint64) { binary.LittleEndian.PutUint64(b, binary.LittleEndian.Uint64(b)+n) }

// What Debian's checkers find is found, each by its name; and a sound disk is sound to all
// of them. sgdisk(8), "--verify"; sfdisk(8), "--verify".
func TestAgainstDebiansCheckers(t *testing.T) {
	reference.Need(t, "sgdisk", "sfdisk")
	for name, c := range map[string]struct {
		disk  diskmaker.Disk
		spoil spoil
		says  string // of the checker, as a regular expression
		codes []disk.ProblemCode
	}{
		"sound GPT": {sample.WindowsDisk(1, 1), at(0), "No problems found", nil},
		"header":    {sample.WindowsDisk(1, 1), at(512+16, 1, 2, 3, 4), "main header", []disk.ProblemCode{disk.CodeGPTHeaderCRC}},
		"entries":   {sample.WindowsDisk(1, 1), at(1024+60, 9), "main partition table", []disk.ProblemCode{disk.CodeGPTArrayCRC}},
		"backup":    {sample.WindowsDisk(1, 1), at(-512+16, 1, 2, 3, 4), "backup", []disk.ProblemCode{disk.CodeGPTHeaderCRC}},
		"copies that differ": {sample.WindowsDisk(1, 1), header(-512, func(_, e []byte) { e[20] ^= 1 }),
			"main and backup partition tables differ|(?i)differ", []disk.ProblemCode{disk.CodeGPTCopiesDiffer}},
		"overlap": {sample.WindowsDisk(1, 1), both(func(_, e []byte) { add(e[40:], 4096) }), "overlap",
			[]disk.ProblemCode{disk.CodeOverlap}},
		"beyond the end": {sample.WindowsDisk(1, 1), both(func(_, e []byte) { add(e[128+40:], 1<<30) }), "too big|beyond",
			[]disk.ProblemCode{disk.CodeBeyondEnd}},
		"backwards": {sample.WindowsDisk(1, 1), both(func(_, e []byte) { binary.LittleEndian.PutUint64(e[40:], 2) }),
			"negative|ends before|after it ends", []disk.ProblemCode{disk.CodeGPTEntryBackwards}},
		"alignment": {sample.WindowsDisk(1, 1), both(func(_, e []byte) { add(e[32:], 1) }),
			"No problems found", []disk.ProblemCode{"alignment"}},
		"alternate": {sample.WindowsDisk(1, 1), header(512, func(h, _ []byte) { binary.LittleEndian.PutUint64(h[32:], 4000) }),
			"alternate|backup", []disk.ProblemCode{"alternate-lba"}},
		"sound MBR":   {sample.LegacyWindowsDisk(true), at(0), "No errors detected", nil},
		"MBR overlap": {sample.LegacyWindowsDisk(true), at(458, 0, 0, 0x10, 0), "overlap", []disk.ProblemCode{disk.CodeOverlap}},
		"MBR end": {sample.LegacyWindowsDisk(true), at(474, 0, 0, 0, 0x70), "greater than the maximum",
			[]disk.ProblemCode{disk.CodeBeyondEnd}},
	} {
		t.Run(name, func(t *testing.T) {
			image := c.disk.MustBuild()
			c.spoil(image)
			path := filepath.Join(t.TempDir(), "disk.img")
			require.NoError(t, image.WriteFile(path))
			tool := "sgdisk"
			if c.disk.Style == diskmaker.MBR {
				tool = "sfdisk"
			}
			out := checked(t, tool, path)
			require.Regexp(t, c.says, out)
			r := tables.Of(machine.Drive{Name: "disk", Contents: sample.Examine(t, image)})
			var codes []disk.ProblemCode
			for _, f := range r.Findings {
				codes = append(codes, f.Code)
				assert.NotEmpty(t, f.Means, f.Text)
			}
			for _, want := range c.codes {
				assert.Contains(t, codes, want, fmt.Sprint(r.Findings))
			}
			if c.codes == nil {
				assert.Empty(t, r.Findings)
				assert.Empty(t, r.Steps)
			}
		})
	}
}

// checked is all that a checker says of a disk.
func checked(t *testing.T, tool, path string) string {
	cmd := exec.Command("sh", "-c", tool+` --verify "$1"`, "sh", path)
	cmd.Env = append(os.Environ(), "LC_ALL=C", "PATH="+os.Getenv("PATH")+":/usr/sbin:/sbin")
	out, _ := cmd.CombinedOutput() // it fails where it finds something
	return string(out)
}

// Each copy says what it says, the one in force or not, and damaged tables get the steps
// that bring them into order.
func TestEachCopyAndItsSteps(t *testing.T) {
	image := sample.WindowsDisk(1, 1).MustBuild()
	header(-512, func(_, e []byte) { e[56] = 'X' })(image)
	r := tables.Of(machine.Drive{Name: "disk", Contents: sample.Examine(t, image)})
	require.Len(t, r.Copies, 3)
	assert.NotEqual(t, r.Copies[1].Entries[0].Name, r.Copies[2].Entries[0].Name)
	assert.Equal(t, r.Copies[1].Entries[1], r.Copies[2].Entries[1])
	at(512, make([]byte, 33*512)...)(image)
	r = tables.Of(machine.Drive{Name: "disk", Contents: sample.Examine(t, image)})
	require.NotEmpty(t, r.Steps)
	assert.True(t, slices.ContainsFunc(r.Steps, func(s repair.PlanStep) bool { return s.Action == "restore-primary" }))
	assert.Contains(t, strings.ToLower(r.Findings[0].Means), "firmware")
	assert.Empty(t, tables.Of(machine.Drive{}).Copies)
}

// What a listing tells of a table is shown as told, and of its copies nothing is said.
func TestATableThatIsTold(t *testing.T) {
	id := disk.MustGUID("0C0FFEE0-0000-4000-8000-000000000001")
	told := machine.Described{Size: 1 << 30, SectorSize: 512, Style: disk.StyleGPT, ID: "AB"}
	told.Partitions = []machine.DescribedPartition{
		{Number: 1, Start: 1 << 20, Length: 64 << 20, Type: disk.TypeESP, GUID: id, Name: "boot"},
		{Number: 2, Start: -1, Length: 100 << 20, Type: disk.TypeLinuxData}}
	r := tables.Of(machine.Drive{Name: "clone", Contents: told.Contents()})
	assert.Contains(t, r.Says, "A listing or a person tells of the table")
	require.Len(t, r.Copies, 1)
	assert.Equal(t, "as told", r.Copies[0].Name)
	require.Len(t, r.Copies[0].Entries, 2)
	first, second := r.Copies[0].Entries[0], r.Copies[0].Entries[1]
	assert.EqualValues(t, 2048, first.First)
	assert.EqualValues(t, 64<<11, first.Length)
	assert.Equal(t, id.String(), first.ID)
	assert.Equal(t, "boot", first.Name)
	assert.True(t, second.Unplaced)
	assert.Zero(t, second.First, "where it begins is not told")
	assert.Empty(t, second.ID)
	assert.Equal(t, tables.Report{}, tables.Of(machine.Drive{Name: "clone"}), "nothing is in evidence")
}
