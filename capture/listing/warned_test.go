package listing_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/capture/listing"
	"latchkey/core/disk"
	"latchkey/core/machine"
	"latchkey/internal/reference"
)

// damagedGPT are what can be wrong with a GPT of which tools still list the partitions, with what
// each of the tools says of it.
var damagedGPT = []struct {
	name  string
	spoil func(raw []byte) []byte
	says  map[string]disk.ProblemCode // by tool; "" for all that list it
}{
	{"a header's checksum", func(raw []byte) []byte { copy(raw[512+16:], "XXXX"); return raw },
		map[string]disk.ProblemCode{"": disk.CodeGPTPrimaryToldDamaged}},
	{"an entry", func(raw []byte) []byte { copy(raw[1024+60:], "XXXX"); return raw },
		map[string]disk.ProblemCode{"": disk.CodeGPTPrimaryToldDamaged}},
	{"no header", func(raw []byte) []byte { clear(raw[512:1024]); return raw },
		map[string]disk.ProblemCode{"": disk.CodeGPTPrimaryToldDamaged}},
	{"the backup's header", func(raw []byte) []byte { copy(raw[len(raw)-512+16:], "XXXX"); return raw },
		map[string]disk.ProblemCode{"": disk.CodeGPTBackupToldDamaged}},
	{"copied to a larger disk", func(raw []byte) []byte { return append(raw, make([]byte, 16<<20)...) },
		map[string]disk.ProblemCode{
			"sgdisk -v": disk.CodeGPTBackupMisplaced,
			"fdisk":     disk.CodeGPTBackupMisplaced, "sfdisk": disk.CodeGPTBackupMisplaced, "parted": disk.CodeGPTBackupMisplaced,
		}},
	{"no protective record", func(raw []byte) []byte { clear(raw[:512]); return raw }, ofGdisk(disk.CodeMBRToldDamaged)},
	{"no 55 AA", func(raw []byte) []byte { clear(raw[510:512]); return raw }, ofGdisk(disk.CodeMBRToldDamaged)},
	{"an entry of the backup", func(raw []byte) []byte { copy(raw[len(raw)-33*512+60:], "XXXX"); return raw },
		map[string]disk.ProblemCode{"": disk.CodeGPTBackupToldDamaged}},
	{"cut off behind its partitions", func(raw []byte) []byte { return raw[:15<<20] }, ofGdisk(disk.CodeGPTBackupToldDamaged)},
	{"nothing", func(raw []byte) []byte { return raw }, nil},
}

// ofGdisk is what gdisk says, in each of its forms, and no other tool.
func ofGdisk(code disk.ProblemCode) map[string]disk.ProblemCode {
	return map[string]disk.ProblemCode{"gdisk": code, "sgdisk": code, "sgdisk -v": code}
}

// What Debian's tools say of a disk's tables is taken from what they print, is true of its bytes,
// and is lost with its line.
func TestWarningsOfDebiansToolsAgreeWithTheBytes(t *testing.T) {
	reference.Need(t, "fdisk", "sfdisk", "gdisk", "sgdisk", "parted")
	sound := reference.Image(t, 16<<20)
	reference.Run(t, "label: gpt\nstart=2048, size=8192, type=U\nsize=16384, type=L\n", "sfdisk", "-q", sound)
	raw, err := os.ReadFile(sound)
	require.NoError(t, err)
	for _, damage := range damagedGPT {
		path := filepath.Join(t.TempDir(), "sdb")
		require.NoError(t, os.WriteFile(path, damage.spoil(append([]byte(nil), raw...)), 0o600))
		f, err := os.Open(path)
		require.NoError(t, err)
		defer f.Close()
		info, err := f.Stat()
		require.NoError(t, err)
		d, err := disk.New(f, info.Size(), 512)
		require.NoError(t, err)
		bytes := machine.Examine(d)
		for tool, command := range map[string][]string{"fdisk": {"fdisk", "-l", path}, "sfdisk": {"sfdisk", "-d", path}, "gdisk": {"gdisk", "-l", path},
			"sgdisk": {"sgdisk", "-p", path}, "sgdisk -v": {"sgdisk", "-v", "-p", path}, "parted": {"parted", "-s", path, "unit", "s", "print"}} {
			t.Run(damage.name+", by "+tool, func(t *testing.T) {
				said, _ := exec.CommandContext(t.Context(), command[0], command[1:]...).CombinedOutput()
				text := strings.ReplaceAll(string(said), path, "/dev/sdb")
				l, err := listing.Read("", []byte(text), "")
				if err != nil || len(l.Disks) == 0 || len(l.Disks[0].Partitions) == 0 {
					t.Skipf("it lists nothing:\n%s", text)
				}
				told := l.Disks[0].Contents()
				want := damage.says[tool] + damage.says[""]
				saysTheSame(t, bytes, told, want)
				for _, line := range l.Lines {
					assert.False(t, line.State == listing.Unread && strings.TrimSpace(line.Text) != "", "%q", line.Text)
				}
			})
		}
	}
}

func saysTheSame(t *testing.T, bytes, told *machine.Contents, want disk.ProblemCode) {
	t.Helper()
	var codes []disk.ProblemCode
	for _, p := range told.Layout.Problems {
		codes = append(codes, p.Code)
		assert.Positive(t, p.Source.Line)
	}
	if want == "" {
		assert.Empty(t, codes)
		return
	}
	assert.Equal(t, []disk.ProblemCode{want}, codes)
	g := bytes.Layout.GPT
	switch want {
	case disk.CodeGPTPrimaryToldDamaged:
		assert.True(t, g.Primary.Lost() && told.Layout.GPT.Primary.Lost())
		assert.False(t, g.Backup.Lost() || told.Layout.GPT.Backup.Lost())
	case disk.CodeGPTBackupToldDamaged:
		assert.True(t, g.Backup.Lost() && told.Layout.GPT.Backup.Lost())
		assert.False(t, g.Primary.Lost() || told.Layout.GPT.Primary.Lost())
	case disk.CodeMBRToldDamaged:
		_, unprotected := bytes.Layout.Find(disk.CodeGPTUnprotected)
		_, unsigned := bytes.Layout.Find(disk.CodeGPTProtectiveUnsigned)
		assert.True(t, unprotected || unsigned)
		assert.Nil(t, told.Layout.MBR)
	default:
		_, there := bytes.Layout.Find(want)
		assert.True(t, there, "the bytes have no such problem")
	}
	_, contradictions := machine.Merge("x", bytes, told)
	assert.Empty(t, contradictions)
}

// Of several disks a warning belongs to the one behind it; one before the first may be of any.
func TestWhichDiskAWarningIsOf(t *testing.T) {
	const warning = "The primary GPT table is corrupt, but the backup appears OK, so that will be used.\n"
	one := func(name string) string {
		return "Disk /dev/" + name + ": 64 MiB, 67108864 bytes, 131072 sectors\nUnits: sectors of 1 * 512 = 512 bytes\nDisklabel type: gpt\n\n" +
			"Device     Start    End Sectors Size Type\n/dev/" + name + "1   2048  22527   20480  10M EFI System\n\n\n"
	}
	for text, want := range map[string][]int{
		one("sda") + warning + one("sdb"): {0, 1},
		warning + one("sda") + one("sdb"): {0, 0},
		"root@live:~# fdisk -l /dev/sda\n" + warning + one("sda") + "root@live:~# fdisk -l /dev/sdb\n" + one("sdb"): {1, 0},
		"root@live:~# fdisk -l\n" + warning + one("sda") + one("sdb"):                                               {0, 0},
		warning + one("sda"): {1},
		one("sda") + warning: {1},
	} {
		l, err := listing.Read("", []byte(text), "")
		require.NoError(t, err)
		var got []int
		for _, d := range l.Disks {
			got = append(got, len(d.Warned))
		}
		assert.Equal(t, want, got, text)
	}
}
