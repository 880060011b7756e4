package fit_test

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/fit"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/core/volume"
	"latchkey/internal/diskmaker"
	"latchkey/internal/reference"
	"latchkey/internal/sample"
)

func open(t *testing.T, path string) *disk.Disk {
	t.Helper()
	f, err := os.Open(path)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	info, err := f.Stat()
	require.NoError(t, err)
	d, err := disk.New(f, info.Size(), 512)
	require.NoError(t, err)
	return d
}

// leastOf is what a volume in a file can be brought to.
func leastOf(t *testing.T, path string) int64 {
	t.Helper()
	d := open(t, path)
	p := disk.Partition{Number: 1, Length: d.Sectors(), Type: disk.GPTType(disk.TypeBasicData)}
	v := volume.Examine(d, p)
	parts := fit.Parts(&machine.Contents{Layout: disk.Layout{SectorSize: 512, Partitions: []disk.Partition{p}},
		Volumes: []machine.Volume{{Volume: v.Volume}}})
	least, known := parts[0].Least.Get()
	require.True(t, known, "%+v", parts[0])
	return least
}

func figure(t *testing.T, form, text string) int64 {
	t.Helper()
	m := regexp.MustCompile(form).FindStringSubmatch(text)
	require.NotNil(t, m, text)
	n, err := strconv.ParseInt(m[1], 10, 64)
	require.NoError(t, err)
	return n
}

// Our least size is never below what resize2fs(8) and ntfsresize(8) say; how far above is
// told by -v.
func TestLeastSizesAgainstTheTools(t *testing.T) {
	if testing.Short() {
		t.Skip("writes gigabytes")
	}
	for size, shares := range map[int64][]int64{256 << 20: {0, 20, 60}, 2 << 30: {15, 40}, 8 << 30: {6}} {
		for _, share := range shares {
			folder := t.TempDir()
			file := filepath.Join(folder, "filled")
			require.NoError(t, os.WriteFile(file, bytes.Repeat([]byte{0xA5}, int(size*share/100)), 0o600))

			ext := reference.Image(t, size)
			reference.Run(t, "", "mke2fs", "-q", "-t", "ext4", "-d", folder, ext)
			blocks := figure(t, `(\d+)\s*$`, strings.TrimSpace(reference.Run(t, "", "resize2fs", "-P", ext)))
			block := figure(t, `Block size:\s+(\d+)`, reference.Run(t, "", "dumpe2fs", "-h", ext))
			ours := leastOf(t, ext)
			assert.GreaterOrEqual(t, ours, blocks*block)
			t.Logf("ext4, %d MiB, %d %% in use: %d MiB, the tool says %d MiB", size>>20, share, ours>>20, blocks*block>>20)

			ntfs := reference.Image(t, size)
			reference.Run(t, "", "mkntfs", "-F", "-Q", "-q", ntfs)
			if share > 0 {
				reference.Run(t, "", "ntfscp", "-f", "-q", ntfs, file, "filled")
			}
			theirs := figure(t, `You might resize at (\d+) bytes`, reference.Run(t, "", "ntfsresize", "--info", "-f", ntfs))
			ours = leastOf(t, ntfs)
			assert.GreaterOrEqual(t, ours, theirs)
			t.Logf("NTFS, %d MiB, %d %% in use: %d MiB, the tool says %d MiB", size>>20, share, ours>>20, theirs>>20)
		}
	}
}

// The planned table is the one that sfdisk(8) writes, and sgdisk(8) finds nothing wrong
// with it; the last partition ends where sgdisk lets it end.
func TestThePlannedTableWrittenByTheTools(t *testing.T) {
	c := described(fit.Sold(1000), efi, windows(914*gib, 118*gib), recovery)
	parts := fit.Parts(c)
	drives := []int64{240, 250, 480, 1000, 2000}
	if testing.Short() {
		drives = drives[:1]
	}
	for _, gb := range drives {
		path := reference.Image(t, fit.Sold(gb))
		reference.Run(t, "", "sgdisk", "-o", path)
		last := figure(t, `(\d+)\s*$`, strings.TrimSpace(reference.Run(t, "", "sgdisk", "-E", path)))
		for _, s := range []fit.Strategy{fit.Main, fit.Proportion} {
			l := fit.Lay(parts, disk.StyleGPT, target(fit.Sold(gb)), s, nil)
			require.Equal(t, "yes", l.Fits, l.Says)
			script := "label: gpt\n"
			for _, p := range l.Placed {
				script += fmt.Sprintf("start=%d, size=%d, type=EBD0A0A2-B9E5-4433-87C0-68B6B72699C7\n", p.Start/512, p.Size/512)
			}
			reference.Run(t, script, "sfdisk", "--quiet", path)
			assert.Contains(t, reference.Run(t, "", "sgdisk", "-v", path), "No problems found")
			d := open(t, path)
			layout := disk.ReadLayout(d)
			require.Len(t, layout.Partitions, len(l.Placed))
			for i, p := range l.Placed {
				assert.EqualValues(t, p.Start/512, layout.Partitions[i].Start)
				assert.EqualValues(t, p.Size/512, layout.Partitions[i].Length)
			}
			end := l.Placed[len(l.Placed)-1].Start + l.Placed[len(l.Placed)-1].Size
			assert.LessOrEqual(t, end/512-1, last)
			assert.Less(t, last-end/512, int64(3*fit.MiB/512))
			assert.EqualValues(t, last, disk.LastUsable(d.Sectors(), 512))
		}
	}
}

// The prediction of each way equals what the check says of a copy that Debian's tools made
// in that way.
func TestPredictionsAgainstRealCopies(t *testing.T) {
	if testing.Short() {
		t.Skip("writes gigabytes")
	}
	type original struct {
		mode firmware.Mode
		disk diskmaker.Disk
	}
	originals := map[string]original{
		"Windows under UEFI": {firmware.UEFI, sample.WindowsDisk(1, 1)}, "Windows under legacy firmware": {firmware.Legacy, sample.LegacyWindowsDisk(true)},
		"Linux under UEFI": {firmware.UEFI, sample.LinuxDisk(1, 1)},
	}
	withRecovery := sample.WindowsDisk(2, 2)
	withRecovery.Partitions[1].MiB = 700
	withRecovery.Partitions = append(withRecovery.Partitions,
		diskmaker.Partition{Type: disk.TypeWinRE, Volume: diskmaker.Volume{Kind: "ntfs"}})
	originals["Windows with a recovery partition"] = original{firmware.UEFI, withRecovery}
	// A Mac's own restore is none of Debian's tools.
	ways := map[string]func(c reference.Copying, style string){
		"image":      func(c reference.Copying, _ string) { c.ThroughAnImage() },
		"needed":     func(c reference.Copying, _ string) { c.Some(3) },
		"files":      func(c reference.Copying, _ string) { c.Files() },
		"to-uefi":    func(c reference.Copying, _ string) { c.Blocks() },
		"whole":      func(c reference.Copying, _ string) { c.Whole() },
		"blocks":     func(c reference.Copying, _ string) { c.Blocks() },
		"blocks-new": func(c reference.Copying, _ string) { c.BlocksWithNewIdentifiers() },
		"main":       reference.Copying.Main,
	}
	for name, o := range originals {
		for way, copied := range ways {
			t.Run(name+" by "+way, func(t *testing.T) {
				image := o.disk.MustBuild()
				from := filepath.Join(t.TempDir(), "from.img")
				require.NoError(t, image.WriteFile(from))
				original := sample.Drive(t, machine.RoleOriginal, image)
				m := planned(t, o.mode, original)
				among := fit.WaysOf(original.Contents)
				switch {
				case !slices.ContainsFunc(among, func(w fit.Way) bool { return w.Key == way }):
					t.Skip("not offered for it")
				case way == "files" && !strings.HasPrefix(name, "Linux"):
					t.Skip("no tool of Debian's copies files of NTFS without mounting it")
				}
				size, _ := original.Contents.Size()
				to := reference.Image(t, 2*size)
				c := reference.Copying{T: t, From: from, To: to}
				style := "gpt"
				for _, p := range original.Contents.Layout.Partitions {
					kind := p.TypeGUID.String()
					if p.MBRType != 0 {
						style, kind = "dos", fmt.Sprintf("%x", p.MBRType)
					}
					c.Parts = append(c.Parts,
						reference.Part{Number: p.Number, Start: p.Start, Length: p.Length, Type: kind})
				}
				copied(c, style)
				real := machine.Examine(open(t, to))

				p := predict(m, way, target(2*size), fit.Keep)
				require.NotNil(t, p.Clone, p.Says)
				assert.Empty(t, fit.Held(p.Way, p.Clone, real))
				m.Drives[1].Contents = real
				if p.Way.ToUEFI {
					m.Firmware.Mode = fact.Tell(firmware.UEFI)
				}
				trace := startup.Simulate(m)
				assert.Equal(t, trace.Reaches, p.Verdict, p.Says)
				assert.Equal(t, trace.Verdict, p.Trace.Verdict)
				assert.Equal(t, trace.Stage, p.Trace.Stage)
				assert.Equal(t, trace.SymptomID, p.Trace.SymptomID)
			})
		}
	}
}
