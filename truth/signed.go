package truth

import (
	"debug/pe"
	"encoding/binary"
	"fmt"
	"os"
	"path/filepath"

	"latchkey/internal/diskmaker"
)

// What a start shows that secure boot stops.
const (
	refusedByFirmware = "Access Denied|Security Violation"
	refusedByShim     = "Verification failed|Security Violation|Failed to open .*mmx64"
	refusedByGRUB     = "bad shim signature"
)

// signedCase is a Linux in firmware with secure boot on and the usual keys, with Debian's
// signed programs or some that nobody signed.
type signedCase struct {
	name  string
	shows string // what a start that stops must show
	// files are those of the boot partition: of Debian's signed programs, and of a GRUB that was
	// built here.
	files func(of map[string][]byte, own []byte) map[string][]byte
	// kernel: the kernel's signature is taken off.
	kernel bool
	// entry: a boot entry leads to the shim in its own folder.
	entry bool
}

const (
	signedFolder = `\EFI\debian\`
	signedShim   = signedFolder + "shimx64.efi"
)

var signedCases = []signedCase{
	{name: "shim and GRUB", files: besideShim},
	{name: "shim, its fallback and GRUB", files: behindFallback},
	{name: "an entry to the shim", files: behindFallback, entry: true},
	{name: "GRUB without the shim", shows: refusedByFirmware,
		files: func(of map[string][]byte, _ []byte) map[string][]byte {
			return map[string][]byte{fallbackX64: of["grub"]}
		}},
	{name: "a GRUB that nobody signed behind the shim", shows: refusedByShim,
		files: func(of map[string][]byte, own []byte) map[string][]byte {
			return map[string][]byte{fallbackX64: of["shim"], `\EFI\BOOT\grubx64.efi`: own}
		}},
	{name: "a GRUB that nobody signed alone", shows: refusedByFirmware,
		files: func(_ map[string][]byte, own []byte) map[string][]byte {
			return map[string][]byte{fallbackX64: own}
		}},
	{name: "a kernel that nobody signed", shows: refusedByGRUB, files: besideShim, kernel: true},
}

func besideShim(of map[string][]byte, _ []byte) map[string][]byte {
	return map[string][]byte{fallbackX64: of["shim"], `\EFI\BOOT\grubx64.efi`: of["grub"]}
}

func behindFallback(of map[string][]byte, _ []byte) map[string][]byte {
	return map[string][]byte{fallbackX64: of["shim"], `\EFI\BOOT\fbx64.efi`: of["back"],
		signedShim: of["shim"], signedFolder + "grubx64.efi": of["grub"], signedFolder + "BOOTX64.CSV": of["list"]}
}

// boot returns the files of the boot partition, with the configuration that Debian's signed GRUB
// looks for.
func (c signedCase) boot(own []byte) (map[string][]byte, error) {
	of := map[string][]byte{}
	for name, path := range map[string]string{"shim": shimFolder + "shimx64.efi.signed", "back": shimFolder + "fbx64.efi.signed",
		"list": shimFolder + "BOOTX64.CSV", "grub": "/usr/lib/grub/x86_64-efi-signed/grubx64.efi.signed"} {
		var err error
		if of[name], err = os.ReadFile(path); err != nil {
			return nil, err
		}
	}
	files := c.files(of, own)
	files[signedFolder+"grub.cfg"] = []byte("search.fs_uuid " + rootUUID + " root\nset prefix=($root)/boot/grub\nconfigfile $prefix/grub.cfg\n")
	return files, nil
}

// entries are the firmware's, for a disk.
func (c signedCase) entries(d diskmaker.Disk) []diskmaker.Entry {
	if !c.entry {
		return nil
	}
	return []diskmaker.Entry{entry(3, d, 1, signedShim)}
}

// signedScenarios start a small Linux under secure boot.
func signedScenarios() (all []Scenario) {
	for _, c := range signedCases {
		s := linuxScenario(OVMFSecure, "secure boot: "+c.name, names{signed: &c})
		s.Entries, s.Shows = c.entries(s.Drives[1].Disk), c.shows
		s.Smoke = c.name == "shim and GRUB"
		all = append(all, s)
	}
	return all
}

// signedBroken are small Linuxes under secure boot whose configuration names what is not there: the stick
// repairs them, and they start under secure boot.
func signedBroken() (all []Scenario) {
	const another = "UUID=" + otherUUID
	for _, n := range []names{{root: another}, {menu: otherUUID, root: another}, {fstab: another}} {
		n.signed = &signedCases[0]
		all = append(all, linuxScenario(OVMFSecure, fmt.Sprintf("secure boot, broken, %d", 1+len(all)), n))
	}
	return all
}

// signedLayouts are real systems under secure boot.
func signedLayouts() (all []layout) {
	for _, c := range signedCases {
		l := layout{name: "secure boot, " + c.name, firmware: OVMFSecure, root: byUUID, shows: c.shows, lay: labelled,
			boot: func(dir, tree string) (map[int]map[string][]byte, error) {
				own, err := grubProgram(dir, "(,gpt2)/boot/grub", "")
				if err != nil {
					return nil, err
				}
				if kernel, _ := kernelsOf(tree); c.kernel {
					if err := withoutSignature(filepath.Join(tree, kernel)); err != nil {
						return nil, err
					}
				}
				files, err := c.boot(own)
				return map[int]map[string][]byte{0: files}, err
			}}
		if c.entry {
			l.entry, l.entryPath = &diskmaker.Entry{Number: 3, Description: "Debian"}, signedShim
		}
		all = append(all, l)
	}
	return all
}

// withoutSignature takes the certificate table off a program for x64. PE Format, "Optional Header
// Data Directories".
func withoutSignature(path string) error {
	raw, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	p, err := pe.Open(path)
	if err != nil {
		return err
	}
	defer p.Close()
	header, ok := p.OptionalHeader.(*pe.OptionalHeader64)
	if !ok {
		return fmt.Errorf("%s is no program for x64", path)
	}
	const directories, security = 4 + 20 + 112, 4 // behind the signature, the file header and the optional one
	at := int(binary.LittleEndian.Uint32(raw[0x3C:])) + directories + 8*security
	clear(raw[at : at+8])
	return os.WriteFile(path, raw[:header.DataDirectory[security].VirtualAddress], 0o600)
}
