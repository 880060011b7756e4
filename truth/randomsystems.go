package truth

import (
	"cmp"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
)

// TrySystems holds how real Debians come up, with the mount tables and kernel lines of seeds in a row,
// against what is computed of them.
func TrySystems(from, count uint64, workers int, each func(Tried)) {
	tryParts(from, count, workers, randomSystem, each)
}

// systemMaker writes what a Debian is started with, without some of it.
type systemMaker struct {
	*chance
	without []int
	parts   int
}

// part is a text, or nothing where this part of the system is left out.
func (m *systemMaker) part(text string) string {
	m.parts++
	if slices.Contains(m.without, m.parts-1) {
		return ""
	}
	m.said = append(m.said, text)
	return text
}

// one is one of the lines of a text.
func (m *systemMaker) one(text string) string { return m.some(strings.Split(text, "\n")...) }

// spec names a file system, or one that is not there.
func (m *systemMaker) spec(n int) string {
	v := volumesCalled[n]
	switch {
	case m.of(6):
		return m.some("UUID="+otherUUID, "LABEL=gone", "PARTUUID="+otherUUID, "PARTLABEL=gone", "/dev/sda2",
			"/dev/disk/by-uuid/"+otherUUID, "/dev/mapper/gone", "/dev/vg/gone", "/dev/md0", "UUID=0BAD-0BAD",
			"/dev/disk/by-id/ata-gone-part1", "/gone.img")
	case m.of(12):
		return "UUID=" + strings.ToUpper(v.uuid)
	}
	names := []string{"UUID=" + v.uuid, "UUID=" + v.uuid, `UUID="` + v.uuid + `"`, "/dev/disk/by-uuid/" + v.uuid,
		fmt.Sprintf("/dev/nvme0n1p%d", n+1)}
	if v.label != "" {
		names = append(names, "LABEL="+v.label, `LABEL="`+v.label+`"`, "PARTUUID="+v.part, "PARTLABEL="+v.name,
			"/dev/disk/by-label/"+v.label, "/dev/disk/by-partuuid/"+v.part, "/dev/disk/by-partlabel/"+v.name)
	}
	return m.some(names...)
}

// mountOptions are some that file systems take, that others do, and that systemd goes by.
const mountOptions = `defaults
defaults
defaults
nofail
noauto
defaults,nofail,x-systemd.device-timeout=5
x-systemd.automount
noauto,x-systemd.automount
_netdev
ro
noatime,nodiratime
user,exec
errors=remount-ro
umask=0077
bogus
discard
x-systemd.device-timeout=5s
subvol=@home
defaults,X-mount.mkdir
sw
acl,user_xattr
usrquota
x-initrd.mount
auto
rw,relatime
comment=x
nofail,bogus
pri=5
data=journal
codepage=437
uid=1000`

// mount is a line of the mount table.
func (m *systemMaker) mount() string {
	n := []int{0, 1, 1, 1, 2, 2}[m.IntN(6)]
	v := volumesCalled[n]
	point := m.some("/home", "/srv", "/mnt/a", `/mnt/a\040b`, "/var/tmp", "/data", "/boot/efi", "/home/", "//srv")
	kind := m.some(v.kind, v.kind, v.kind, v.kind, "auto", "auto", "ext3", "xfs", "ext4,ext3", "ext2", "gone")
	if v.kind == "swap" {
		point, kind = m.some("none", "none", "swap", "/swap"), m.some("swap", "swap", "swap", "auto")
	}
	line := m.spec(n) + m.some(" ", "\t", "  \t") + point + " " + kind
	numbers := m.some("", " 0 0", " 0 2", " 0 1", " 0", " 1 2", " 0 2 # x")
	if options := " " + m.one(mountOptions) + numbers; !m.of(8) {
		line += options
	}
	return line
}

// fstab is a mount table.
func (m *systemMaker) fstab() (text string) {
	root := m.spec(3) + " " + m.some("/", "/", "/", "/", "//", "none") + " " +
		m.some("ext4", "ext4", "auto", "ext3", "xfs") + " " +
		m.some("errors=remount-ro", "defaults", "rw", "bogus", "nofail", "noauto", "subvol=@") +
		m.some(" 0 1", " 0 0", " 0 1", "")
	if m.of(3) {
		root = strings.TrimSpace(rootMounted)
	}
	lines := []string{root}
	for range 1 + m.IntN(3) {
		line := m.mount()
		if m.of(3) {
			line = m.one(mountLines + "\n" + openLines)
		}
		lines = append(lines, line)
	}
	for _, l := range lines {
		end := m.some("\n", "\n", "\n\n", " \n")
		if l = m.part(l); l != "" {
			text += l + end
		}
	}
	return text
}

// line is what the kernel is started with.
func (m *systemMaker) line() string {
	root := byUUID
	if m.of(3) {
		root = cmp.Or(m.part(m.spec(3)), byUUID)
	}
	for range m.IntN(6) / 3 {
		root += " " + m.part(m.one(lineWords+"\nrootwait\nrootdelay=3\nrootfstype=auto\nrootflags=noatime\nresume=$gone"+
			"\nnoresume\nfsck.mode=skip\nquiet splash\nnosuchoption=1\nmount.usr=$gone"+
			"\nsystemd.unit=gone.target\nrootflags=bogus\nsystemd.mask=home.mount"))
	}
	return root
}

// randomSystem is the copy of a Debian that comes up by systemd, or does not, and of how many parts it is
// made; those whose places are named are left out.
func randomSystem(seed uint64, without ...int) (Scenario, int) {
	tree := SystemdFolder()
	if dracut := DracutSystemdFolder(); dracut != "" && seed%2 == 0 {
		tree = dracut
	}
	m := &systemMaker{chance: &chance{Rand: rand.New(rand.NewPCG(seed, 63))}, without: without}
	fstab, line, change := m.fstab(), m.line(), ""
	if m.of(6) {
		change = m.part(m.one(treeChanges))
	}
	s := comesUp(tree, "", calledByUUID.Replace(line), calledByUUID.Replace(fstab), strings.Fields(change)...)
	s.Name = fmt.Sprintf("system %d, %s: %s", seed, filepath.Base(filepath.Dir(tree)), strings.Join(m.said, "; "))
	return s, m.parts
}
