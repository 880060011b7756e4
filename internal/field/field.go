// Package field holds machines as technicians meet them, of families that no firmware here can start, with what
// someone with years of them says.
package field

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/startup"
	turns "latchkey/internal/alone"
	"latchkey/internal/diskmaker"
	"latchkey/internal/reference"
)

// Met is a machine as someone meets it.
type Met struct {
	Name string
	At   func(t *testing.T) machine.Machine
	Says string // what an experienced technician says of it: common practice, no source
	// What Latchkey is to say.
	Verdict startup.Verdict
	Stage   course.Stage
	Words   string // of which " | " parts, in what it says
	First   string // the first step of the plan; "-" is none
	Remains string // what the plan says then
}

// Groups are the machines by what they have in common.
var Groups = map[string]func(t *testing.T) []Met{
	"Fedora": fedoras, "Red Hat's servers": redHats, "Ubuntu": ubuntus, "openSUSE": suses, "Arch": arches, "Other Linuxes": otherLinuxes,
	"Linux by legacy firmware": legacyLinuxes, "Variants of Linux": variants, "Secure boot": securedOnes, "Names of a root": namesOfARoot,
	"Windows": windowses, "Windows by legacy firmware": legacyWindowses, "Macs": macs, "Two systems": twoSystemsEach,
	"Across drives": acrossDrives, "Other systems": otherSystems,
	"Boot partitions that lost a file": lostFiles,
}

var (
	imagesMu sync.Mutex
	images   = map[*machine.Contents]io.ReaderAt{}
)

// Image is the disk of which the contents of a drive of these machines were read.
func Image(c *machine.Contents) io.ReaderAt {
	imagesMu.Lock()
	defer imagesMu.Unlock()
	return images[c]
}

// pc is a computer of which the firmware's own ways are not known, with boot entries.
func pc(mode firmware.Mode, entries []firmware.Entry, drives ...machine.Drive) machine.Machine {
	none := &firmware.Entries{All: map[uint16]firmware.Entry{}, Menu: &firmware.LoaderMenu{}}
	m := machine.Machine{Drives: drives, Firmware: firmware.Settings{Mode: fact.Tell(mode),
		Arch: fact.Tell(firmware.X64), SecureBoot: fact.Tell(false), Entries: none}}
	for i, e := range entries {
		e.Number = uint16(i)
		m.Firmware.Entries.All[e.Number] = e
		m.Firmware.Entries.Order = append(m.Firmware.Entries.Order, e.Number)
	}
	return m
}

// entry is a boot entry that leads to a program on a partition of a disk as it was.
func entry(t *testing.T, name string, d diskmaker.Disk, partition int, program string) firmware.Entry {
	t.Helper()
	placed, err := d.Placed()
	require.NoError(t, err)
	p, guid := placed.Partitions[partition], placed.PartitionGUID(partition)
	path := append(diskmaker.HardDriveNode(uint32(partition+1), p.Start, p.MiB<<11, &guid, 0),
		diskmaker.FileNode(program)...)
	e, err := firmware.DecodeLoadOption(0, diskmaker.Entry{Description: name, Path: path}.Bytes())
	require.NoError(t, err)
	return e
}

// on is a drive of a role on a bus.
func on(t *testing.T, role machine.Role, bus string, d diskmaker.Disk) machine.Drive {
	t.Helper()
	image := d.MustBuild()
	whole, err := disk.New(image, image.Size, image.SectorSize)
	require.NoError(t, err)
	c := machine.Examine(whole, `\EFI\opensuse\shim.efi`)
	imagesMu.Lock()
	defer imagesMu.Unlock()
	images[c] = image
	return machine.Drive{Name: string(role), Role: role, Bus: fact.Tell(bus), Attached: fact.Tell(true), Contents: c}
}

// tree is what a file system holds, by paths without a leading one: "-> x" is a link, "/" a folder.
type tree map[string]string

func (f tree) with(more tree) tree {
	all := tree{}
	for name, text := range f {
		all[name] = text
	}
	for name, text := range more {
		if text == "" {
			delete(all, name)
		} else {
			all[name] = text
		}
	}
	return all
}

func (f tree) write(t *testing.T, dir string) {
	t.Helper()
	for name, text := range f {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		switch target, is := strings.CutPrefix(text, "-> "); {
		case is:
			require.NoError(t, os.Symlink(target, path))
		case text == "/":
			require.NoError(t, os.MkdirAll(path, 0o755))
		default:
			require.NoError(t, os.WriteFile(path, []byte(text), 0o755))
		}
	}
}

var (
	madeMu sync.Mutex
	made   = map[string]*diskmaker.Image{}
)

// volume is a file system of some MiB as its own tools make it.
func volume(t *testing.T, kind, uuid string, mib int64, f tree, args ...string) diskmaker.Volume {
	t.Helper()
	madeMu.Lock()
	defer madeMu.Unlock()
	key := fmt.Sprint(kind, uuid, mib, f, args)
	if made[key] == nil {
		path := reference.Image(t, mib<<20)
		dir := t.TempDir()
		switch kind {
		case "ext4":
			f.write(t, dir)
			reference.Run(t, "", "mkfs.ext4", append(args, "-q", "-F", "-U", uuid, "-d", dir, path)...)
		case "xfs":
			f.write(t, dir)
			reference.MakeXFS(t, path, dir, append(args, "-m", "uuid="+uuid)...)
		case "swap":
			reference.Run(t, "", "mkswap", append(args, "-q", "-U", uuid, path)...)
		}
		image, err := diskmaker.ReadImage(path)
		require.NoError(t, err)
		made[key] = image
	}
	return diskmaker.Volume{Kind: "laid", Laid: made[key]}
}

// btrfs is one with subvolumes, the first of which is the default one where its name ends with "!".
func btrfs(t *testing.T, uuid string, mib int64, subvolumes []string, holds map[string]tree) diskmaker.Volume {
	t.Helper()
	madeMu.Lock()
	defer madeMu.Unlock()
	key := fmt.Sprint("btrfs", uuid, mib, subvolumes, holds)
	if made[key] == nil {
		release, err := turns.Lock("mkfs")
		require.NoError(t, err)
		defer release()
		path := reference.Image(t, mib<<20)
		reference.Run(t, "", "mkfs.btrfs", "-q", "-U", uuid, path)
		reference.Mounted(t, path, "", func(at string) {
			for _, s := range subvolumes {
				name, byDefault := strings.CutSuffix(s, "!")
				require.NoError(t, os.MkdirAll(filepath.Dir(at+"/"+name), 0o755))
				reference.Run(t, "", "btrfs", "subvolume", "create", at+"/"+name)
				if byDefault {
					reference.Run(t, "", "btrfs", "subvolume", "set-default", at+"/"+name)
				}
			}
			for s, f := range holds {
				f.write(t, at+"/"+s)
			}
		})
		image, err := diskmaker.ReadImage(path)
		require.NoError(t, err)
		made[key] = image
	}
	return diskmaker.Volume{Kind: "laid", Laid: made[key]}
}
