package loader

import (
	"encoding/binary"
	"errors"
	"sort"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/core/volume"
)

// FallbackPath is the removable-media path of an architecture. UEFI
// Specification 2.10, section 3.5.1.1, table 3.3.
func FallbackPath(a firmware.Arch) string {
	switch a {
	case firmware.IA32:
		return `\EFI\BOOT\BOOTIA32.EFI`
	case firmware.ARM64:
		return `\EFI\BOOT\BOOTAA64.EFI`
	}
	return `\EFI\BOOT\BOOTX64.EFI`
}

// FallbackFolder is where the removable-media paths lie.
const FallbackFolder = `\EFI\BOOT\`

// Suffixes are those of all architectures.
var Suffixes = []string{Suffix(firmware.X64), Suffix(firmware.IA32), Suffix(firmware.ARM64)}

// Suffix is how the names of an architecture's programs end, "x64.efi". UEFI
// Specification 2.10, section 3.5.1.1.
func Suffix(a firmware.Arch) string {
	return strings.ToLower(strings.TrimPrefix(FallbackPath(a), FallbackFolder+"BOOT"))
}

// WindowsPath is where Windows puts its own boot manager.
const WindowsPath = `\EFI\Microsoft\Boot\bootmgfw.efi`

// Names of loaders that are asked for elsewhere.
const (
	Fallback       = "Fallback loader"
	Shim           = "Linux shim"
	GRUB           = "GRUB"
	SystemdBoot    = "systemd-boot"
	WindowsManager = "Windows boot manager"
	MacLoader      = "Mac loader"
	Unified        = "Unified kernel"
	LinuxKernel    = "Linux kernel" // which the firmware can start by itself
)

// vendorPaths are where operating systems put their own loaders. Common
// practice; the Windows path is in its maker's documentation of UEFI start.
var vendorPaths = []struct{ path, name string }{
	{WindowsPath, WindowsManager},
	{`\EFI\systemd\systemd-bootx64.efi`, SystemdBoot},
	{`\System\Library\CoreServices\boot.efi`, MacLoader},
}

// programsOfSystems are the loaders a distribution keeps in its own folder
// under \EFI.
var programsOfSystems = map[string]string{
	"shimx64.efi": Shim, "shimia32.efi": Shim, "shimaa64.efi": Shim,
	"grubx64.efi": GRUB, "grubia32.efi": GRUB, "grubaa64.efi": GRUB,
}

// Found is a loader that was looked for on a volume.
type Found struct {
	Path    string
	Name    string // what it is, in the trade's words
	File    volume.File
	Program Program
	Header  int64 // byte offset of its PE header on the volume, -1 when it has none
	Err     error // why it cannot be started; nil for a sound program
}

// Is says which known program it is: by what it carries, else by its place.
func (f Found) Is() string {
	switch {
	case f.Program.Is != "":
		return f.Program.Is
	case f.Name == Fallback:
		return ""
	}
	return f.Name
}

// Region returns the program's header at its place; base is the byte offset of the
// partition. PE/COFF specification, "COFF File Header" and "Optional Header".
func (f Found) Region(base int64) (disk.Region, bool) {
	return disk.Region{Structure: f.Path, Offset: base + f.Header, Length: 96, Fields: []disk.Field{
		{Name: "Signature", Offset: 0, Length: 4, Form: disk.Text}, {Name: "Machine", Offset: 4, Length: 2, Form: disk.Hex},
		{Name: "NumberOfSections", Offset: 6, Length: 2, Form: disk.Number}, {Name: "SizeOfOptionalHeader", Offset: 20,
			Length: 2, Form: disk.Number},
		{Name: "Magic", Offset: 24, Length: 2, Form: disk.Hex}, {Name: "Subsystem", Offset: 92, Length: 2, Form: disk.Number},
	}}, f.Header >= 0
}

// peOffset is where a program says where its header lies.
const peOffset = 0x3C

// Missing reports whether the evidence lacks the loader's bytes, so that
// nothing is known of it.
func (f Found) Missing() bool { return disk.IsNotCaptured(f.Err) }

// maxFolders bounds the folders under \EFI that are searched.
const maxFolders = 64

// Inventory looks for the fallback loaders of every architecture and for the
// known vendor loaders on a FAT volume. The error is that of a directory that
// could not be read.
func Inventory(fat *volume.FAT) ([]Found, error) {
	var found []Found
	var firstErr error
	look := func(path, name string) {
		switch f, err := Look(fat, path); {
		case errors.Is(err, volume.ErrNotFound):
		case err != nil && firstErr == nil:
			firstErr = err
		case err == nil:
			f.Name = name
			found = append(found, f)
		}
	}
	for _, a := range []firmware.Arch{firmware.X64, firmware.IA32, firmware.ARM64} {
		look(FallbackPath(a), Fallback)
	}
	for _, v := range vendorPaths {
		look(v.path, v.name)
	}
	folders, err := fat.ReadDir("EFI")
	if err != nil && !errors.Is(err, volume.ErrNotFound) && firstErr == nil {
		firstErr = err
	}
	sort.Slice(folders, func(i, j int) bool { return folders[i].Name < folders[j].Name })
	for i, folder := range folders {
		if !folder.Dir || i >= maxFolders {
			continue
		}
		files, err := fat.ReadDir("EFI/" + folder.Name)
		if err != nil {
			continue
		}
		for _, file := range files {
			name := programsOfSystems[strings.ToLower(file.Name)]
			if name == "" && strings.EqualFold(folder.Name, "Linux") &&
				strings.HasSuffix(strings.ToLower(file.Name), ".efi") && len(found) < maxPrograms {
				name = Unified
			}
			if name != "" {
				look(`\EFI\`+folder.Name+`\`+file.Name, name)
			}
		}
	}
	return found, firstErr
}

// Bounds of the search for programs of any name: folders, how deep they lie, programs.
const (
	maxSearched = 128
	maxDeep     = 4
	maxPrograms = 256
)

// Programs lists the paths of the EFI programs on a FAT volume, whatever they are: a boot
// entry may lead to any of them. It is whole when every folder could be read and none was
// left out.
func Programs(fat *volume.FAT) (paths []string, whole bool) {
	whole = true
	searched := 0
	var search func(folder string, depth int)
	search = func(folder string, depth int) {
		files, err := fat.ReadDir(folder)
		searched++
		if err != nil {
			whole = false
			return
		}
		for _, f := range files {
			path := folder + `\` + f.Name
			switch {
			case f.Name == "." || f.Name == "..":
			case f.Dir && (depth >= maxDeep || searched >= maxSearched), !f.Dir && len(paths) >= maxPrograms:
				whole = false
			case f.Dir:
				search(path, depth+1)
			case strings.HasSuffix(strings.ToLower(f.Name), ".efi"):
				paths = append(paths, path)
			}
		}
	}
	search("", 0)
	return paths, whole
}

// Look examines the program at a path. The error is volume.ErrNotFound when no
// such file exists, or that of a directory that could not be read.
func Look(fat *volume.FAT, path string) (Found, error) {
	file, err := fat.Lookup(path)
	if err != nil {
		return Found{}, err
	}
	f := Found{Path: path, File: file}
	if file.Dir {
		return f, volume.ErrNotFound
	}
	var r *volume.Stream
	f.Header = -1
	if r, f.Err = fat.Open(file); f.Err == nil {
		f.Program, f.Err = ExamineEFI(r, r.Size())
		at := make([]byte, 4)
		if _, err := r.ReadAt(at, peOffset); err == nil && f.Err == nil {
			f.Header = r.Place(int64(binary.LittleEndian.Uint32(at)))
		}
	}
	return f, nil
}
