package truth

import (
	"cmp"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"latchkey/core/disk"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
)

// TryGRUBs holds where GRUB's searches of seeds in a row lead against what is computed of them.
func TryGRUBs(from, count uint64, workers int, each func(Tried)) {
	tryParts(from, count, workers, randomGRUB, each)
}

// undecided reports whether the check leads to no program, because it says that it depends.
func undecided(r Report) bool {
	return r.Trace.Verdict == startup.Depends &&
		(strings.HasPrefix(r.Differs, "computed depends") || strings.HasPrefix(r.Differs, "computed  "))
}

// grubMaker writes GRUB's commands, without some of them.
type grubMaker struct {
	*chance
	without []int
	lines   int
	gpt     bool
	legacy  bool
	signed  bool // with Debian's signed GRUB, whose first commands are in its memory disk
}

// grubUUIDs are the file systems of the first drive; those of the second begin with 2 where it is no twin.
var grubUUIDs = []string{"1000-0001", "12000000-0000-0000-0000-000000000000", "13000000-0000-0000-0000-000000000000"}

// device is a partition as GRUB writes it.
func (m *grubMaker) device() string {
	kind, other := "gpt", "msdos"
	if !m.gpt {
		kind, other = other, kind
	}
	return fmt.Sprintf("hd%s,%s%d", m.some("0", "0", "0", "1", "7"), m.some(kind, kind, kind, kind, "", other), 1+m.IntN(4))
}

func (m *grubMaker) uuid() string {
	u := m.some(append(grubUUIDs, append(grubUUIDs, "dead-beef", strings.Replace(grubUUIDs[1], "1", "2", 1))...)...)
	if m.of(6) {
		u = strings.ToUpper(u)
	}
	return u
}

// command is one that may move GRUB's root, or another variable.
func (m *grubMaker) command() string {
	to := m.some("root", "root", "root", "r2")
	file := fmt.Sprintf("/only-%s-%d", m.some("a", "b", "b"), 1+m.IntN(3))
	label := m.some("top", "root", "data", "gone")
	hints := m.some("", "", " --hint "+m.device(), " --hint-efi="+m.device()+" --hint-bios="+m.device(), " --hint='"+m.device()+"'")
	line := m.some("set root="+m.device(), "set root='"+m.device()+"'",
		"search --no-floppy --fs-uuid --set="+to+hints+" "+m.uuid(), "search -u --set "+to+hints+" "+m.uuid(),
		"search"+hints+" --label "+label+" --set="+to, "search.fs_uuid "+m.uuid()+" "+to, "search.fs_label "+label+" "+to,
		"search --file --set="+to+" "+file, "search.file "+file+" "+to, "search --fs-uuid "+m.uuid(),
		"search --set --fs-uuid "+m.uuid())
	if m.of(8) {
		line = "if [ x$feature_platform_search_hint = xy ]; then " + line + "; else " + "set root=" + m.device() + "; fi"
	}
	return line
}

// commands are some, unless they are left out.
func (m *grubMaker) commands(most int) (text string) {
	for range m.IntN(most + 1) {
		line, place := m.command(), m.lines
		m.lines++
		if !slices.Contains(m.without, place) {
			m.said = append(m.said, line)
			text += line + "\n"
		}
	}
	return text
}

// program is what lies on each volume: under legacy firmware its boot sector.
func (m *grubMaker) program() string {
	if m.legacy {
		return "+1"
	}
	return "/m/m.efi"
}

// menu is a grub.cfg with one entry, or with commands that lead on to another.
func (m *grubMaker) menu(at string) string {
	m.said = append(m.said, at+":")
	text := "set timeout=0\n" + m.commands(2)
	if m.of(6) {
		next := m.some("/boot/grub2/grub.cfg", "($root)/boot/grub2/grub.cfg", "$prefix/../grub2/grub.cfg", "("+m.device()+")/boot/grub/grub.cfg")
		m.said = append(m.said, "configfile "+next)
		return text + "configfile " + next + "\n"
	}
	m.said = append(m.said, "{")
	entry := m.commands(3)
	program := m.some("", "", "", "($root)", "($r2)", "("+m.device()+")") + m.program()
	m.said = append(m.said, program, "}")
	return text + "menuentry 'x' {\n" + entry + "chainloader " + program + "\n}\n"
}

// drive has three volumes, each with a marker, and with a menu or not.
func (m *grubMaker) drive(name string, id byte, twin bool) Drive {
	volume := func(n int, kind, label string) diskmaker.Volume {
		files := map[string][]byte{"m/m.efi": MarkX64.Program(tag(name, n, "/m/m.efi")).Bytes(),
			fmt.Sprintf("only-%s-%d", name, n): []byte("here")}
		if !m.of(3) {
			files["boot/grub/grub.cfg"] = []byte(m.menu(fmt.Sprintf("%s%d", name, n)))
		}
		for _, name := range []string{"EFI/debian/grub.cfg", "EFI/BOOT/grub.cfg"} {
			if m.signed && n == 1 && !m.of(3) {
				files[name] = []byte(m.menu(name))
			}
		}
		if m.of(2) {
			files["boot/grub2/grub.cfg"] = []byte(m.menu(fmt.Sprintf("%s%d, 2", name, n)))
		}
		lead := byte(0x10)
		if !twin {
			lead = 0x20
		}
		return diskmaker.Volume{Kind: kind, Label: label, Files: files, Serial: uint64(lead)<<24 | 1,
			UUID: [16]byte{lead | byte(n)}}
	}
	first := esp(volume(1, "fat32", "TOP"))
	first.MiB = 40
	d := gptDisk(id, first,
		diskmaker.Partition{Type: disk.TypeLinuxData, MBRType: 0x83, MiB: 40, Volume: volume(2, "ext4", "root")},
		diskmaker.Partition{Type: disk.TypeLinuxData, MBRType: 0x83, MiB: 40, Volume: volume(3, "ext4", "data")})
	if !m.gpt {
		d.Style, d.Signature = diskmaker.MBR, uint32(id)
	}
	drive := Drive{Name: name, Disk: d}
	for n := 0; m.legacy && n < len(d.Partitions); n++ {
		drive = drive.spoiled(bootSector(name, n+1, int64(2048+40*2048*n)))
	}
	return drive
}

// signedGRUB is Debian's, from its package for it.
const signedGRUB = "/usr/lib/grub/x86_64-efi-signed/grubx64.efi.signed"

// grubModules are what reads the drives, and the commands.
var grubModules = []string{"part_gpt", "part_msdos", "ext2", "fat", "normal", "search", "search_fs_uuid", "search_fs_file", "search_label",
	"configfile", "test", "chain"}

// randomGRUB is a machine that starts GRUB from its second drive's boot partition, or from its
// only one, and of how many commands it is made; those whose places are named are left out.
func randomGRUB(seed uint64, without ...int) (Scenario, int) {
	m := &grubMaker{chance: &chance{Rand: rand.New(rand.NewPCG(seed, 62))}, without: without}
	m.legacy = seed%2 == 1
	m.gpt = !m.of(3) && !m.legacy
	m.signed = !m.legacy && m.of(4)
	kind := "msdos"
	if m.gpt {
		kind = "gpt"
	}
	prefix := m.some("/boot/grub", fmt.Sprintf("(,%s2)/boot/grub", kind),
		fmt.Sprintf("(hd0,%s%d)/boot/grub", kind, 1+m.IntN(3)), "(,gpt3)/boot/grub")
	if m.signed {
		prefix = "signed"
	}
	m.said = append(m.said, kind, prefix, "early")
	early := ""
	if m.of(2) {
		early = m.commands(2)
		then := m.some("", "set prefix=($root)/boot/grub\n", "set prefix=($root)'/boot/grub'\n") +
			m.some("", "", "configfile ($root)/boot/grub/grub.cfg\n", "normal\n")
		m.said, early = append(m.said, strings.ReplaceAll(then, "\n", "; ")), early+then
	}
	drives := []Drive{m.drive("b", 2, true)}
	if m.of(3) {
		twin := m.of(2)
		m.said = append(m.said, fmt.Sprintf("beside it (twin %v)", twin))
		a := m.drive("a", 1, twin)
		a.Role = "original"
		drives = append(drives, a)
		if m.of(2) {
			slices.Reverse(drives)
		}
	}
	starts := map[string]string{}
	for i := range drives {
		d := &drives[i]
		called := "the " + cmp.Or(d.Role, "clone")
		for n := range 3 {
			loader := "/m/m.efi"
			if m.legacy {
				loader = startup.LoaderBootSector
			}
			starts[fmt.Sprintf("%s on partition %d of %s", m.program(), n+1, called)] = tag(d.Name, n+1, loader)
		}
		if d.Name == "b" {
			d.Make = m.withGRUB(*d, prefix, early)
		}
	}
	s := Scenario{Name: fmt.Sprintf("GRUB %d: %s", seed, strings.Join(m.said, "; ")), Firmware: OVMF, Menu: starts,
		Order: []string{"b", "a"}[:len(drives)], Drives: drives, Shows: "grub>|grub rescue>|Press any key"}
	if m.legacy {
		s.Firmware, s.Limit = SeaBIOS, 12*time.Second
	}
	return s, m.lines
}

// withGRUB is a drive with GRUB as the fallback, or behind sector 0.
func (m *grubMaker) withGRUB(d Drive, prefix, early string) func(dir string) (*diskmaker.Image, error) {
	return func(dir string) (*diskmaker.Image, error) {
		if m.legacy {
			core := filepath.Join(dir, "core.img")
			if _, err := grubFor("i386-pc", core, prefix, early, append(grubModules, "biosdisk")...); err != nil {
				return nil, err
			}
			image, err := withCore(d.Disk, core)
			if err == nil {
				image = d.Spoil(image)
			}
			return image, err
		}
		program, err := grubWith(dir, prefix, early, grubModules...)
		if m.signed {
			program, err = os.ReadFile(signedGRUB)
		}
		if err != nil {
			return nil, err
		}
		d.Disk.Partitions[0].Volume.Files[fallbackX64] = program
		return d.Disk.Build()
	}
}
