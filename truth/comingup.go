package truth

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"time"

	"latchkey/core/disk"
	"latchkey/internal/diskmaker"
)

// SystemdFolder holds a real Debian that comes up by systemd, made by scripts/debian systemd; "" where
// there is none.
func SystemdFolder() string { return os.Getenv("LATCHKEY_SYSTEMD") }

// DracutSystemdFolder holds one whose initial RAM disk is dracut's, made by scripts/debian dracut-systemd; ""
// where there is none.
func DracutSystemdFolder() string { return os.Getenv("LATCHKEY_DRACUT_SYSTEMD") }

// inVain is what a Debian shows that does not come up.
const inVain = "ALERT!|mergency [Mm]ode|escue [Mm]ode|Cannot open access to console|Kernel panic|" +
	`as root file system|No init found|can't access tty|(?m:^# )|` + "MARK read-only|Freezing execution|Attempted to kill init"

// called are the names of a file system of the drive.
type called struct{ uuid, label, part, name, kind string }

var volumesCalled = []called{
	{"B007-C0DE", "", "", "", "vfat"},
	{"a11ce000-0000-4000-8000-000000000002", "home", "a11ce000-0000-4000-8000-0000000000f2", "homes", "ext4"},
	{"a11ce000-0000-4000-8000-000000000003", "nap", "a11ce000-0000-4000-8000-0000000000f3", "naps", "swap"},
	{rootUUID, rootLabel, rootPart, rootLabel, "ext4"},
}

// homeVolume and napVolume are the file system for /home and the swap space, of all these drives.
var (
	homeVolume = sync.OnceValue(func() diskmaker.Volume {
		return formatted(64, "mkfs.ext4", "-q", "-F", "-U", volumesCalled[1].uuid, "-L", volumesCalled[1].label)
	})
	napVolume = sync.OnceValue(func() diskmaker.Volume {
		return formatted(16, "mkswap", "-q", "-U", volumesCalled[2].uuid, "-L", volumesCalled[2].label)
	})
)

// rootMounted is the root's line of a mount table.
const rootMounted = "UUID=" + rootUUID + " / ext4 errors=remount-ro 0 1\n"

// comesUp is a Debian, of a tree, on a drive with a file system for /home and swap space beside it: how it
// is started, what it mounts, and a command that changes it.
func comesUp(tree, name, line, fstab string, change ...string) Scenario {
	home, nap := volumesCalled[1], volumesCalled[2]
	l := layout{firmware: OVMF, prefix: "(,gpt4)/boot/grub", tree: tree, root: line, fstab: fstab}
	l.parts = []diskmaker.Partition{
		{Type: disk.TypeLinuxData, MiB: 64, Name: home.name, GUID: disk.MustGUID(home.part),
			Volume: homeVolume()},
		{Type: disk.MustGUID("0657FD6D-A4AB-43C4-84E5-0933C84B4F4F"), MiB: 16, Name: nap.name,
			GUID: disk.MustGUID(nap.part), Volume: napVolume()},
	}
	l.lay = func(dir, tree, volume string) error {
		if len(change) > 0 {
			if err := run("env", append([]string{"-C", tree}, change...)...); err != nil {
				return err
			}
		}
		return labelled(dir, tree, volume)
	}
	was := unplugged()
	return Scenario{Name: name, Firmware: OVMF, Whole: true, Limit: 5 * time.Minute, Shows: inVain,
		After: 12 * time.Second, Drives: []Drive{was, l.drive("b", 9, rootPart)}, Order: []string{"b", "a"},
		Answers: map[string]string{"built-in:b": "no"}}
}

// formatted is a volume of some MiB as a program makes it.
func formatted(mib int, program ...string) diskmaker.Volume {
	dir, err := os.MkdirTemp("", "formatted")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(dir)
	volume := filepath.Join(dir, "volume")
	err = run("truncate", "-s", fmt.Sprintf("%dM", mib), volume)
	if err == nil {
		err = run(program[0], append(program[1:], volume)...)
	}
	raw, read := os.ReadFile(volume)
	if err != nil || read != nil {
		panic(fmt.Sprint(err, read))
	}
	return diskmaker.Volume{Kind: "raw", Raw: raw}
}

// mountLines are of mount tables beside the root's, rootLines the root's own, lineWords words of kernel lines, and
// treeChanges what is done to the tree, each by itself; $home, $nap and $gone are file systems by their UUID.
var (
	mountLines = `/opt /srv none bind 0 0
/gone /srv none bind 0 0
/gone.img /srv ext4 loop 0 0
/gone.img /srv ext4 loop,nofail 0 0
/swapfile none swap sw 0 0
nas:/export /srv nfs defaults 0 0
//nas/share /srv cifs user 0 0
proc /proc proc bogus 0 0
nonsense
$home /home ext4 umask=0077 0 2
$home /home ext4 data=journal,noatime,commit=60,barrier=1,discard 0 2
$home none swap sw 0 0
$home /mnt/new/folder ext4 defaults 0 0
$home /home/ auto defaults 0 2
$home home ext4 defaults 0 2
LABEL=home /home ext2 defaults 0 2
PARTLABEL=homes /home ext4 usrquota 0 2
UUID=B007-C0DE /boot/efi vfat acl 0 1
UUID=B007-C0DE /boot/efi vfat umask=0077,shortname=winnt,codepage=437,iocharset=ascii,utf8,errors=remount-ro 0 1
$nap /srv ext4 defaults 0 0
$nap /srv auto defaults 0 0
$gone /home ext4 x-systemd.device-timeout=5s 0 2
$gone /home ext4 defaults,nofail 0 2
$gone none swap sw 0 0`
	// openLines end in one way, and are told to be open.
	openLines = `overlay /srv overlay lowerdir=/opt,upperdir=/gone,workdir=/gone2 0 0
none /srv tmpfs bogus=1 0 0
/dev/sr0 /media udf,iso9660 user 0 0
$home /home gone defaults 0 2
$home /home ext4 bogus 0 2
$home /home ext4 x-systemd.requires=gone.mount 0 2
UUID=A11CE000-0000-4000-8000-000000000002 /home ext4 defaults 0 2`
	rootLines = `$gone / ext4 errors=remount-ro 0 1
LABEL=gone / ext4 defaults 0 0
/dev/sda2 / ext4 defaults 0 1
$home / ext4 defaults 0 1
$root / xfs defaults 0 1
$root / ext4 umask=0077 0 1
$root / ext4 noauto 0 1
# none`
	lineWords = `emergency
single
1
3
systemd.unit=rescue.target
init=/gone
init=/bin/sh
init=/lib/systemd/systemd
rw
fstab=no
rootflags=umask=0`
	treeChanges = `rm -rf dev proc sys run
rm -rf dev
rm -rf proc
rm -rf sys
rm -rf run
rm sbin/init
rm lib/systemd/systemd
truncate -s0 lib/systemd/systemd
rm lib64
rm etc/fstab
rm -rf var
rm -rf usr
rm -rf lib/modules
rm etc/machine-id
rm -rf tmp home mnt media srv opt root
find . -maxdepth 1 -type l -delete
find . -xdev -type l -delete`
)

// comingUpRepaired are those of them that a plan repairs.
var comingUpRepaired = regexp.MustCompile(`rm -rf (dev|proc|sys|run)|gone.img /srv ext4 loop 0|` +
	`the root's line, (.gone|LABEL=gone) |ext2|` +
	`umask=0077 0 2$|vfat acl|.nap /srv|.gone /home ext4 x-systemd|the second is right`)

// calledByUUID puts the UUIDs in the places of $home, $nap, $gone and $root.
var calledByUUID = strings.NewReplacer("$home", "UUID="+volumesCalled[1].uuid, "$nap", "UUID="+volumesCalled[2].uuid,
	"$gone", "UUID="+otherUUID, "$root", "UUID="+rootUUID)

// How the names of its scenarios begin.
const (
	comingUpName       = layoutName + "coming up: "
	behindDracutPrefix = "behind dracut, "
)

// comingUpScenarios are real Debians that come up by systemd, or do not.
func comingUpScenarios() (all []Scenario) {
	if tree := SystemdFolder(); tree != "" {
		all = comingUpOf(tree, comingUpName)
		moved := comesUp(tree, comingUpName+"from SATA to NVMe", byUUID, rootMounted)
		moved.Drives[0].Bus = "sata" // of the original, which is unplugged
		all = append(all, moved, toBus(tree, "sata"), toBus(tree, "usb"))
	}
	if tree := DracutSystemdFolder(); tree != "" {
		all = append(all, comingUpOf(tree, comingUpName+behindDracutPrefix)...)
	}
	return all
}

// toBus is a Debian that was copied from NVMe to another bus, for which its kernel has no driver: one of those that
// Debian makes for virtual machines has none for SATA and USB.
func toBus(tree, bus string) Scenario {
	s := comesUp(tree, comingUpName+"from NVMe to "+bus, byUUID, rootMounted)
	for i := range s.Drives {
		if !s.Drives[i].Detached {
			s.Drives[i].Bus = bus
		}
	}
	return s
}

func comingUpOf(tree, begin string) (all []Scenario) {
	add := func(name, line, fstab string, change ...string) {
		all = append(all, comesUp(tree, begin+name, byUUID+line, calledByUUID.Replace(fstab), change...))
	}
	for l := range strings.SplitSeq(mountLines, "\n") {
		add(l, "", rootMounted+l+"\n")
	}
	for l := range strings.SplitSeq(rootLines, "\n") {
		add("the root's line, "+l, "", l+"\n")
	}
	for o := range strings.SplitSeq(lineWords, "\n") {
		add("the kernel line, "+o, " "+o, rootMounted)
	}
	for c := range strings.SplitSeq(treeChanges, "\n") {
		add(c, "", rootMounted, strings.Fields(c)...)
	}
	const home = " /home ext4 defaults 0 2\n"
	add("two lines for one point, the first is right", "", rootMounted+"$home"+home+"$gone"+home)
	add("two lines for one point, the second is right", "", rootMounted+"$gone"+home+"$home"+home)
	add("the kernel line, fstab=no, a mount that is not there", " fstab=no rw", rootMounted+"$gone"+home)
	const gone = "data UUID=" + otherUUID + " none luks"
	opens := func(line string) []string {
		return []string{"sh", "-c", "echo '" + line + "' > etc/crypttab"}
	}
	add("an encrypted volume that is not there", "", rootMounted, opens(gone)...)
	add("an encrypted volume that is not there, mounted", "", rootMounted+"/dev/mapper/data /srv ext4 defaults 0 2\n", opens(gone)...)
	add("an encrypted volume that is not there, mounted where it is", "", rootMounted+"/dev/mapper/data /srv ext4 nofail 0 2\n", opens(gone+",nofail")...)
	add("the kernel line, rw, the root's line names another", " rw", "$gone / ext4 errors=remount-ro 0 1\n")
	return all
}
