package truth

import (
	"bytes"
	"os"
	"path/filepath"
	"time"

	"latchkey/internal/diskmaker"
)

// spoilt is what became of a file that is loaded, which is there by its name: left empty by a full
// volume, zeros where a sector could not be read.
type spoilt struct {
	of, name string
	spoil    func([]byte) []byte
	shows    string
}

// spoiltFiles are such files; on a file system with holes GRUB has words of its own for zeros.
func spoiltFiles() []spoilt {
	empty := func([]byte) []byte { return nil }
	zeros := func(b []byte) []byte { return make([]byte, len(b)) }
	half := func(b []byte) []byte { return b[:len(b)/2] }
	text := func(b []byte) []byte { return bytes.Repeat([]byte("not this file.\n"), len(b)/15) }
	firstGone := func(b []byte) []byte { return append(make([]byte, 4096), b[4096:]...) }
	const refused = "premature end of file|invalid magic number|extent|rror loading|rror preparing|Unsupported|Booting kernel failed|Bad file"
	return []spoilt{
		{"kernel", "empty", empty, refused},
		{"kernel", "of zeros", zeros, refused},
		{"kernel", "a text", text, refused},
		{"kernel", "cut in half", half, "."},
		{"kernel", "its first sectors of zeros", firstGone, refused},
		{"RAM disk", "empty", empty, panics + "|Bad file"},
		{"RAM disk", "of zeros", zeros, panics},
		{"RAM disk", "a text", text, panics},
		{"RAM disk", "its first sectors of zeros", firstGone, panics},
	}
}

// ramDiskEmpty is which of them is the most frequent.
const ramDiskEmpty = 5

// named are the spoilt files as a disk's configuration has them.
func (c spoilt) named() names { return names{spoilt: map[string]func([]byte) []byte{c.of: c.spoil}} }

// spoiltScenarios start a small Linux of which what is loaded is not what it should be.
func spoiltScenarios() (all []Scenario) {
	for _, c := range spoiltFiles() {
		for _, s := range []Scenario{linuxScenario(OVMF, c.of+" "+c.name, c.named()),
			linuxScenario(SeaBIOS, c.of+" "+c.name, c.named()), c.bySystemdBoot(), c.bySyslinux()} {
			s.Shows = c.shows
			all = append(all, s)
		}
	}
	return all
}

func (c spoilt) bySyslinux() Scenario {
	s := linuxScenario(SeaBIOS, "Syslinux: "+c.of+" "+c.name, names{})
	s.Drives[1], s.Limit = syslinuxDiskOf(nil, c.named()), time.Minute
	return s
}

func (c spoilt) bySystemdBoot() Scenario {
	s := linuxScenario(OVMF, "systemd-boot: "+c.of+" "+c.name, names{})
	declared := s.Drives[1].Disk
	s.Drives[1].Make = func(dir string) (*diskmaker.Image, error) {
		dir = filepath.Join(dir, "of-b")
		n := c.named().filled()
		if err := writeTree(filepath.Join(dir, "root"), n); err != nil {
			return nil, err
		}
		program, err := systemdBoot()
		if err != nil {
			return nil, err
		}
		files := map[string][]byte{fallbackX64: program, `\loader\loader.conf`: []byte("timeout 0\n"),
			`\loader\entries\a.conf`: []byte("title a\nlinux /vmlinuz-6.1.0\ninitrd /initrd.img-6.1.0\noptions root=" + n.root +
				" ro console=ttyS0 panic=1\n")}
		for _, name := range []string{"vmlinuz-6.1.0", "initrd.img-6.1.0"} {
			if files[`\`+name], err = os.ReadFile(filepath.Join(dir, "root", "boot", name)); err != nil {
				return nil, err
			}
		}
		raw, err := ext4(dir, filepath.Join(dir, "root"), n.uuid, 64)
		if err != nil {
			return nil, err
		}
		made := declared
		made.Partitions = append([]diskmaker.Partition{}, declared.Partitions...)
		made.Partitions[0].Volume, made.Partitions[1].Volume.Raw = fat(files), raw
		return made.Build()
	}
	return s
}

// spoiltLayouts are real systems whose initial RAM disk is there by its name alone, or not at all.
func spoiltLayouts() (all []layout) {
	on := func(name, root, prefix string, c spoilt, lay func(dir, tree, volume string) error) {
		all = append(all, layout{name: name + ", " + c.of + " " + c.name, firmware: OVMF, root: root, prefix: prefix,
			shows: c.shows, spoilt: c, lay: lay})
	}
	const folder = "(,gpt2)/boot/grub"
	for _, c := range spoiltFiles() {
		if c.of == "RAM disk" {
			on("a plain file system", byUUID, folder, c, labelled)
		}
	}
	on("a plain file system", byUUID, folder, spoilt{"RAM disk", "gone", nil, "not found"}, labelled)
	empty := spoiltFiles()[ramDiskEmpty]
	on("root on LVM", "/dev/mapper/vg-root", onGroup, empty, onLVM())
	on("root in a subvolume of Btrfs", byUUID+" rootflags=subvol=@", "(,gpt2)/@/boot/grub", empty, inSubvolume(false, rootUUID))
	// GRUB's paths begin above all subvolumes.
	all[len(all)-1].menu = "set default=0\n" + menuEntry("Debian", "d", "/@@KERNEL@", "/@@RAM@", byUUID+" rootflags=subvol=@")
	return all
}

// spoil spoils a system's kernel or initial RAM disk.
func (l layout) spoil(tree, kernel, ram string) error {
	if l.spoilt.of == "" {
		return nil
	}
	// A new one is not packed for long: the processor is emulated.
	quick := filepath.Join(tree, "etc/initramfs-tools/conf.d/quick")
	if err := os.WriteFile(quick, []byte("COMPRESS=gzip\nCOMPRESSLEVEL=1\n"), 0o600); err != nil {
		return err
	}
	file := filepath.Join(tree, map[string]string{"kernel": kernel, "RAM disk": ram}[l.spoilt.of])
	switch {
	case l.spoilt.spoil == nil:
		return os.Remove(file)
	}
	raw, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	return os.WriteFile(file, l.spoilt.spoil(raw), 0o600)
}
