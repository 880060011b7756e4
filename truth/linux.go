package truth

import (
	_ "embed" // the first program
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/startup"
	"latchkey/internal/alone"
	"latchkey/internal/diskmaker"
)

//go:embed init.sh
var initScript []byte

// KernelFolder holds vmlinuz and busybox, taken from Debian's packages; set by
// scripts/truth.
func KernelFolder() string { return os.Getenv("LATCHKEY_KERNEL") }

// names are the identifiers that a Linux disk's configuration uses; the zero
// value of a field is the right one.
type names struct {
	grub  string // what GRUB's own start looks for
	menu  string // what the menu entry looks for
	root  string // root= of the kernel line
	fstab string // the second line of fstab
	uuid  string // of the root file system itself; "" is rootUUID
	drive string // what the system says that it is on; "" is b
	shim  string // how Debian's shim lies before GRUB, of shimLayouts; "" is without it
	// lacks are the files that are not in the folder of GRUB's modules; nil is a GRUB that has all built in.
	lacks []string
	// spoilt is what became of the kernel and of the initial RAM disk; nil is nothing.
	spoilt map[string]func([]byte) []byte
	// signed is how Debian's signed programs lie before the kernel; nil is without them.
	signed *signedCase
	// first is the menu on the boot partition that GRUB reads first, "-" for none; "" has GRUB go to the
	// root's by commands that are built in.
	first string
}

const (
	rootUUID  = "5d1190c1-2c07-4e1b-9a30-610e7f52c8c1"
	otherUUID = "0badc0de-0000-4000-8000-00000000dead"
	goneUUID  = "90de90de-0000-4000-8000-00000000dead"
)

// linuxScenarios start a small Linux by GRUB, from a copied disk.
func linuxScenarios() []Scenario {
	var all []Scenario
	for _, f := range []Firmware{OVMF, SeaBIOS} {
		for _, c := range []struct {
			name string
			n    names
		}{
			{"right names", names{}},
			{"root by partition", names{root: "PARTUUID=%partuuid"}},
			{"root by device name", names{root: "/dev/nvme0n1p2"}},
			{"GRUB looks for another file system", names{grub: otherUUID}},
			{"menu entry looks for another file system", names{menu: otherUUID}},
			{"kernel line names another file system", names{root: "UUID=" + otherUUID}},
			{"kernel line names another partition", names{root: "PARTUUID=0badc0de-02"}},
			{"kernel line names a SATA device", names{root: "/dev/sda2"}},
			{"mount table names another file system", names{fstab: "UUID=" + otherUUID}},
		} {
			all = append(all, linuxScenario(f, c.name, c.n))
		}
	}
	for _, name := range slices.Sorted(maps.Keys(shimLayouts(nil, nil))) {
		all = append(all, linuxScenario(OVMF, "shim: "+name, names{shim: name}))
	}
	for _, c := range [][2]string{{"", firstMenu}, {", empty", "\n"}, {", of zeros", strings.Repeat("\x00", 200)}, {", gone", "-"}} {
		all = append(all, linuxScenario(OVMF, "its first menu on the boot partition"+c[0], names{first: c[1]}))
	}
	return slices.Concat(all, tableScenarios(), spoiltScenarios(), moduleScenarios(), signedScenarios())
}

// firstMenu is that of Debian's families.
const firstMenu = "search.fs_uuid " + rootUUID + " root\nset prefix=($root)'/boot/grub'\nconfigfile $prefix/grub.cfg\n"

// shimFolder is where Debian's package of the shim keeps it.
const shimFolder = "/usr/lib/shim/"

// shimLayouts are the files of a boot partition by how Debian's shim and its fallback lie
// there; grub is the program, and files read the shim's own.
func shimLayouts(grub []byte, files map[string][]byte) map[string]map[string][]byte {
	shim, fallback, list := files["shimx64.efi"], files["fbx64.efi"], files["BOOTX64.CSV"]
	const beside, debian = `\EFI\BOOT\`, `\EFI\debian\`
	return map[string]map[string][]byte{
		"GRUB beside it":        {fallbackX64: shim, beside + "grubx64.efi": grub},
		"fallback and its list": {fallbackX64: shim, beside + "fbx64.efi": fallback, debian + "shimx64.efi": shim, debian + "grubx64.efi": grub, debian + "BOOTX64.CSV": list},
		"fallback, a list for every architecture": {fallbackX64: shim, beside + "fbx64.efi": fallback, debian + "shimx64.efi": shim,
			debian + "grubx64.efi": grub, debian + "boot.csv": list},
		"fallback without list":                 {fallbackX64: shim, beside + "fbx64.efi": fallback, debian + "shimx64.efi": shim, debian + "grubx64.efi": grub},
		"fallback without list, GRUB beside it": {fallbackX64: shim, beside + "fbx64.efi": fallback, beside + "grubx64.efi": grub},
		"fallback, its list names what is gone": {fallbackX64: shim, beside + "fbx64.efi": fallback, debian + "grubx64.efi": grub, debian + "BOOTX64.CSV": list},
	}
}

func linuxScenario(f Firmware, name string, n names) Scenario {
	d := linuxDisk(f, 9, n)
	was := unplugged()
	return Scenario{Name: "Linux, " + name, Firmware: f, Whole: true, Drives: []Drive{was, d}, Order: []string{"b", "a"}}
}

// linuxDisk declares a disk with a boot partition and a root file system, and
// GRUB's parts for the firmware; its identifiers go by a number.
func linuxDisk(f Firmware, id byte, n names) Drive {
	root := diskmaker.Partition{Type: disk.TypeLinuxData, MBRType: 0x83, MiB: 64,
		Volume: diskmaker.Volume{Kind: "raw", Raw: make([]byte, 512)}}
	var declared diskmaker.Disk
	if f.UEFI() {
		declared = gptDisk(id, esp(fat(nil)), root)
	} else {
		declared = mbrDisk(id, diskmaker.Partition{MBRType: 0x83, MiB: 64}, root)
	}
	n = n.filled()
	n.root = strings.ReplaceAll(n.root, "%partuuid", rootPartUUID(declared))
	d := Drive{Name: n.drive, Bus: "nvme", Disk: declared}
	d.Make = func(dir string) (*diskmaker.Image, error) {
		return makeLinux(filepath.Join(dir, "of-"+n.drive), f, declared, n)
	}
	return d
}

// rootPartUUID is the name of the root's partition as Linux tells it.
func rootPartUUID(d diskmaker.Disk) string {
	if d.Style == diskmaker.MBR {
		return fmt.Sprintf("%08x-02", d.Signature)
	}
	return strings.ToLower(d.PartitionGUID(1).String())
}

func (n names) filled() names {
	set := func(s *string, right string) {
		if *s == "" {
			*s = right
		}
	}
	set(&n.uuid, rootUUID)
	set(&n.drive, "b")
	set(&n.grub, n.uuid)
	set(&n.menu, n.uuid)
	set(&n.root, "UUID="+n.uuid)
	set(&n.fstab, "UUID="+n.uuid)
	return n
}

// makeLinux builds the disk with Debian's tools: mkfs.ext4 and grub-mkimage.
func makeLinux(dir string, f Firmware, declared diskmaker.Disk, n names) (*diskmaker.Image, error) {
	tree := filepath.Join(dir, "root")
	if err := writeTree(tree, n); err != nil {
		return nil, err
	}
	if err := n.modulesInto(tree, f); err != nil {
		return nil, err
	}
	volume := filepath.Join(dir, "root.ext4")
	if err := run("mkfs.ext4", "-q", "-F", "-U", n.uuid, "-d", tree, volume, "64M"); err != nil {
		return nil, err
	}
	raw, err := os.ReadFile(volume)
	if err != nil {
		return nil, err
	}
	load := filepath.Join(dir, "load.cfg")
	text := fmt.Sprintf("search.fs_uuid %s root\nset prefix=($root)/boot/grub\n", n.grub)
	if err := os.WriteFile(load, []byte(text), 0o600); err != nil {
		return nil, err
	}
	declared.Partitions = append([]diskmaker.Partition{}, declared.Partitions...)
	declared.Partitions[1].Volume.Raw = raw
	if n.lacks != nil {
		if f.UEFI() {
			return uefiLinux(dir, declared, load, fewModules, n)
		}
		return legacyLinux(dir, declared, load, fewModules)
	}
	modules := []string{"part_gpt", "part_msdos", "ext2", "fat", "normal", "search", "search_fs_uuid", "configfile", "linux", "echo", "test", "serial", "terminal"}
	if f.UEFI() {
		return uefiLinux(dir, declared, load, modules, n)
	}
	return legacyLinux(dir, declared, load, modules)
}

func uefiLinux(dir string, declared diskmaker.Disk, load string, modules []string,
	n names) (*diskmaker.Image, error) {
	out := filepath.Join(dir, "grub.efi")
	goes := []string{"-p", "/boot/grub", "-c", load}
	if n.first != "" {
		goes = []string{"-p", "/EFI/debian"}
	}
	if err := run("grub-mkimage", append(append([]string{"-O", "x86_64-efi", "-o", out}, goes...), modules...)...); err != nil {
		return nil, err
	}
	program, err := os.ReadFile(out)
	if err != nil {
		return nil, err
	}
	files := map[string][]byte{fallbackX64: program}
	switch {
	case n.signed != nil:
		if files, err = n.signed.boot(program); err != nil {
			return nil, err
		}
	case n.shim != "":
		of := map[string][]byte{}
		for _, name := range []string{"shimx64.efi", "fbx64.efi", "BOOTX64.CSV"} {
			if of[name], err = os.ReadFile(shimFolder + name); err != nil {
				return nil, err
			}
		}
		files = shimLayouts(program, of)[n.shim]
	case n.first != "" && n.first != "-":
		files[`\EFI\debian\grub.cfg`] = []byte(n.first)
	}
	declared.Partitions[0].Volume = fat(files)
	return declared.Build()
}

func legacyLinux(dir string, declared diskmaker.Disk, load string, modules []string) (*diskmaker.Image, error) {
	out := filepath.Join(dir, "core.img")
	if err := run("grub-mkimage", append([]string{"-O", "i386-pc", "-o", out, "-p", "/boot/grub", "-c", load, "biosdisk"}, modules...)...); err != nil {
		return nil, err
	}
	return withCore(declared, out)
}

// withCore builds a disk with GRUB's boot code in sector 0 and the core image of a file
// behind it.
func withCore(declared diskmaker.Disk, file string) (*diskmaker.Image, error) {
	core, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	boot, err := os.ReadFile("/usr/lib/grub/i386-pc/boot.img")
	if err != nil {
		return nil, err
	}
	m, err := declared.Build()
	if err != nil {
		return nil, err
	}
	if len(core) > mib-512 {
		return nil, fmt.Errorf("GRUB's core image has %d bytes: no room before the first partition", len(core))
	}
	write(m, 0, boot[:440]...)
	write(m, 512, core...) // where boot.img and diskboot.img look without being told
	return m, nil
}

func writeTree(tree string, n names) error {
	kernel, err := os.ReadFile(filepath.Join(KernelFolder(), "vmlinuz"))
	if err != nil {
		return fmt.Errorf("LATCHKEY_KERNEL: %w", err)
	}
	ram, err := initialRAMDisk()
	if err != nil {
		return err
	}
	grub := fmt.Sprintf(`set timeout=0
menuentry 'Debian GNU/Linux' {
	search --no-floppy --fs-uuid --set=root %s
	linux /boot/vmlinuz-6.1.0 root=%s ro console=ttyS0 panic=1
	initrd /boot/initrd.img-6.1.0
}
`, n.menu, n.root)
	fstab := fmt.Sprintf("# the root and a second name of it\n%s / ext4 ro 0 1\n%s /data ext4 ro 0 2\nUUID=%s /gone ext4 nofail 0 2\n", "UUID="+n.uuid, n.fstab, goneUUID)
	for of, spoil := range n.spoilt {
		switch of {
		case "kernel":
			kernel = spoil(kernel)
		case "RAM disk":
			ram = spoil(ram)
		}
	}
	for name, content := range map[string][]byte{
		"boot/vmlinuz-6.1.0": kernel, "boot/initrd.img-6.1.0": ram, "boot/grub/grub.cfg": []byte(grub),
		"etc/fstab": []byte(fstab), "etc/drive": []byte(n.drive),
	} {
		path := filepath.Join(tree, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(path, content, 0o600); err != nil {
			return err
		}
	}
	if n.signed != nil && n.signed.kernel {
		return withoutSignature(filepath.Join(tree, "boot/vmlinuz-6.1.0"))
	}
	return nil
}

func run(tool string, args ...string) error {
	cmd := exec.Command(tool, args...)
	cmd.Env = append(os.Environ(), "PATH="+os.Getenv("PATH")+":/usr/sbin:/sbin", alone.NoCache)
	if path, err := exec.LookPath(tool); err != nil {
		if _, err := os.Stat("/usr/sbin/" + tool); err == nil {
			cmd.Path, cmd.Err = "/usr/sbin/"+tool, nil
		}
	} else {
		cmd.Path = path
	}
	if msg, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%s: %w: %s", tool, err, msg)
	}
	return nil
}

// initialRAMDisk is a cpio archive with busybox and the first program. Linux
// documentation, driver-api/early-userspace/buffer-format.
func initialRAMDisk() ([]byte, error) {
	busybox, err := os.ReadFile(filepath.Join(KernelFolder(), "busybox"))
	if err != nil {
		return nil, err
	}
	var a diskmaker.Archive
	a.Add("bin", diskmaker.Folder, nil)
	a.Add("dev", diskmaker.Folder, nil)
	a.Add("bin/busybox", 0o100755, busybox)
	a.Add("init", 0o100755, initScript)
	return a.Bytes(), nil
}

// wholeDisagreement compares a start of the whole system.
func (s *Scenario) wholeDisagreement(t startup.Trace, r Result) string {
	switch started := strings.HasPrefix(r.Mark, "started:"); {
	case started && t.Verdict == startup.Starts && "started:"+t.Drive == r.Mark:
	case !started && t.Verdict == startup.Stops &&
		(t.Stage == course.StageLoader || t.Stage == course.StageConfiguration || t.Stage == course.StageSystem) &&
		regexp.MustCompile(s.Shows).MatchString(r.Serial):
	default:
		return fmt.Sprintf("computed %s, in fact %s (%s)", outcome(t), r.Mark, r.Ended)
	}
	return ""
}
