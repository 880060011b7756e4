package machine

import (
	"maps"
	"path"
	"slices"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/volume"
)

// What a repair does to the files of a start: programs, stores, menus and mount
// tables.

// WithProgram has an EFI program on a FAT volume.
func (c *Contents) WithProgram(i int, path string, like loader.Program) *Contents {
	e := c.edited()
	v := &e.Volumes[i]
	v.putProgram(path, like)
	return e
}

func (v *Volume) putProgram(path string, like loader.Program) {
	var kept []loader.Found
	for _, f := range v.Loaders {
		if !strings.EqualFold(f.Path, path) {
			kept = append(kept, f)
		}
	}
	name := like.Is
	if strings.HasPrefix(strings.ToUpper(path), `\EFI\BOOT\`) {
		name = loader.Fallback
	}
	v.Loaders, v.LoaderErr = append(kept, loader.Found{Path: path, Name: name, Program: like, Header: -1}), nil
	v.nowThere(path)
}

// nowThere notes that a file is there which was looked for, or listed, before.
func (v *Volume) nowThere(path string) {
	if strings.HasSuffix(strings.ToLower(path), ".efi") && !v.Lists(path) {
		v.Programs = append(slices.Clone(v.Programs), path)
	}
	for _, name := range []string{strings.ToLower(path), strings.ToLower(strings.ReplaceAll(path, `\`, "/"))} {
		if v.looked[name] != nil {
			v.looked = maps.Clone(v.looked)
			v.looked[name] = nil
		}
	}
}

func (v *Volume) putConfig(c Config) {
	var kept []Config
	for _, have := range v.Configs {
		if have.Kind != c.Kind || !strings.EqualFold(have.Path, c.Path) {
			kept = append(kept, have)
		}
	}
	v.Configs = append(kept, c)
}

// WithWindowsFiles has Windows' boot files on partition boot, for the system on
// partition system: the manager, the fallback where there is none, and a new
// store that names the clone's own partition.
func (c *Contents) WithWindowsFiles(boot, system int, mode firmware.Mode, arch firmware.Arch) *Contents {
	e := c.edited()
	v := &e.Volumes[boot]
	path, store := winloadEFI, loader.StorePath(mode)
	if mode == firmware.Legacy {
		path = winloadEXE
		v.LegacyManager, v.BootCode, v.SystemCode, v.Alone = "bootmgr", true, true, nil
		v.putPayload("bootmgr", loader.Payload{Form: loader.PayloadOther, Size: 1})
		v.dropProblem(volume.CodeHiddenSectors)
	} else {
		manager := loader.NewProgram(arch, loader.WindowsManager)
		manager.Signed, manager.Signature = true, loader.Signature{Names: []string{loader.WindowsAuthority}}
		if f, ok := v.sound(loader.WindowsPath); ok && f.Program.Is == loader.WindowsManager && f.Program.Arch == arch {
			manager = f.Program // the same
		}
		v.putProgram(loader.WindowsPath, manager)
		v.putProgram(loader.FallbackPath(arch), manager)
	}
	v.putConfig(Config{Kind: ConfigStore, Path: store, From: repaired, Store: loader.NewStore(path, e.device(system))})
	switch e.Code {
	case loader.CodeOther, loader.CodeNone:
		e.standardCode()
	default:
		e.rerun()
	}
	return e
}

// WithFilesOf has the files of another volume on a volume: programs, configurations and
// what was looked for.
func (c *Contents) WithFilesOf(i int, from *Volume) *Contents {
	e := c.edited()
	v := &e.Volumes[i]
	v.Loaders, v.LoaderErr = slices.Clone(from.Loaders), from.LoaderErr
	v.Programs, v.ProgramsOpen = from.Programs, from.ProgramsOpen
	v.Configs, v.looked, v.Readable, v.FilesErr = slices.Clone(from.Configs), from.looked, from.Readable, nil
	v.kernels, v.payloads, v.modules = from.kernels, from.payloads, from.modules
	return e
}

// WithAttributes has a partition with other attributes in the table.
func (c *Contents) WithAttributes(i int, bits uint64) *Contents {
	e := c.edited()
	e.Layout.Partitions = slices.Clone(e.Layout.Partitions)
	e.Layout.Partitions[i].Attributes = bits
	return e
}

// WithMacSystem has a system of a Mac on a partition, as its own installer leaves one.
func (c *Contents) WithMacSystem(i int) *Contents {
	e := c.edited()
	apple := &volume.Apple{Volumes: []volume.AppleVolume{{Role: volume.RoleSystem, Sealed: true},
		{Role: volume.RolePreboot}}}
	if e.Volumes[i].Kind == volume.KindHFS {
		apple = &volume.Apple{Blessed: 1}
	}
	e.Volumes[i].Apple = apple
	return e
}

// WithDriverAtStart has a driver of the Windows on a volume that the boot loader loads.
func (c *Contents) WithDriverAtStart(system int, name string) *Contents {
	e := c.edited()
	hive := *e.Volumes[system].System
	hive.Services = maps.Clone(hive.Services)
	hive.Services[name] = loader.Service{Offset: hive.Services[name].Offset}
	e.Volumes[system].System = &hive
	return e
}

// StoreOn returns the boot configuration store of a mode on a partition; ok is
// false when there is none that can be read.
func (c *Contents) StoreOn(boot int, mode firmware.Mode) (store *loader.Store, ok bool) {
	cfg := c.Volumes[boot].Config(ConfigStore, loader.StorePath(mode))
	if cfg == nil || cfg.Err != nil || cfg.Store == nil {
		return nil, false
	}
	return cfg.Store, true
}

// WithStoreReferences has a store on partition boot that looks for its system on
// partition system.
func (c *Contents) WithStoreReferences(boot, system int, mode firmware.Mode) *Contents {
	e := c.edited()
	for i := range e.Volumes[boot].Configs {
		if cfg := &e.Volumes[boot].Configs[i]; cfg.Kind == ConfigStore &&
			strings.EqualFold(cfg.Path, loader.StorePath(mode)) {
			cfg.Store = cfg.Store.Pointing(e.device(system), e.device(boot))
		}
	}
	return e
}

// device names a partition as a store does.
func (c *Contents) device(i int) *loader.BCDDevice {
	p := c.Layout.Partitions[i]
	d := &loader.BCDDevice{Kind: loader.DevicePartition, Partition: p.GUID}
	if c.Layout.Style == disk.StyleMBR {
		d.MBR, d.Start = true, uint64(c.Base(i))
		if c.Layout.MBR != nil {
			d.Signature = c.Layout.MBR.DiskSignature
		}
	}
	return d
}

// WithGRUB has GRUB for a Linux: as EFI program on the boot partition, or in sector 0 when
// there is none; its configuration and the mount table say the names.
func (c *Contents) WithGRUB(n Names, arch firmware.Arch, names GRUBNames) *Contents {
	e := c.WithNames(n)
	folder := n.Folder + "/" + names.Dir
	e.putMenu(n, folder)
	home := e.At(n.Home).Serial
	core := &loader.GRUBCore{Prefix: folder, Config: "search.fs_uuid " + home + " root\nset prefix=($root)" + folder + "\n"}
	if n.Boot < 0 {
		e.Code, e.Run = loader.CodeGRUB, nil
		e.Core = GRUBCore{Sector: 1, Present: true, Known: true, Image: core}
		mbr := *e.Layout.MBR
		mbr.Signature = true
		e.Layout.MBR = &mbr
		return e
	}
	program := loader.NewProgram(arch, loader.GRUB)
	program.GRUB = core
	v := &e.Volumes[n.Boot]
	shim, ok := v.sound(names.Shim(arch))
	if ok { // the signed one is put beside it; without a shim one is built here, which nobody signs
		program.Signed, program.Signature, program.Levels = true, shim.Program.Vendor, true
	}
	v.putProgram(names.Program(arch), program)
	if ok {
		v.putProgram(loader.FallbackPath(arch), shim.Program)
		v.putProgram(loader.FallbackFolder+"grub"+loader.Suffix(arch), program)
	} else {
		v.putProgram(loader.FallbackPath(arch), program)
	}
	return e
}

// WithMenu has GRUB's menu for a Linux in a folder, made anew by the system's own program: one of the entries of the
// Boot Loader Specification that are there, or of the kernels.
func (c *Contents) WithMenu(n Names, folder string, entries bool) *Contents {
	e := c.WithNames(n)
	if !entries {
		e.putMenu(n, folder)
		return e
	}
	v := e.At(n.Home)
	v.putConfig(Config{Kind: ConfigGRUB, Path: path.Join("/", folder, "grub.cfg"), From: repaired,
		GRUB: loader.ParseGRUBConfig([]byte("search --no-floppy --fs-uuid --set=root " + v.Serial + "\nblscfg\n"))})
	return e
}

// GRUBNames are what a family of systems calls GRUB's places.
type GRUBNames struct {
	Folder string // below \EFI
	Dir    string // below /boot
}

// Program is where GRUB's program lies.
func (n GRUBNames) Program(a firmware.Arch) string {
	return `\EFI\` + n.Folder + `\grub` + loader.Suffix(a)
}

// Shim is where the shim lies that starts it.
func (n GRUBNames) Shim(a firmware.Arch) string {
	return `\EFI\` + n.Folder + `\shim` + loader.Suffix(a)
}

// Starts is the program on a boot partition that the firmware is to start: the shim where
// there is one.
func (n GRUBNames) Starts(v *Volume, a firmware.Arch) string {
	if _, ok := v.sound(n.Shim(a)); ok {
		return n.Shim(a)
	}
	return n.Program(a)
}

// sound returns a program that can be started.
func (v *Volume) sound(path string) (loader.Found, bool) {
	f, ok := v.Loader(path)
	return f, ok && f.Err == nil
}

// putMenu has GRUB's menu made anew, in its folder, from the kernels that lie above it. The
// kernel line names the subvolume of the root where there is one, as the families' own
// programs write it.
func (c *Contents) putMenu(n Names, folder string) {
	v := c.At(n.Home)
	root, named := c.NameOf(n.Root)
	options := ""
	if n.Within != nil {
		root, named = n.Within.Spec, true
		if n.Within.Flags != "" {
			options = "rootflags=" + n.Within.Flags
		}
	} else if n.Root.Folder != "" {
		options = "rootflags=subvol=" + strings.TrimPrefix(n.Root.Folder, "/")
	}
	for _, kernel := range slices.Backward(v.Kernels) {
		if !named || path.Dir(kernel) != path.Dir(path.Join("/", folder)) {
			continue
		}
		entry := loader.GRUBEntry{Title: "the newest kernel", Linux: kernel, Initrds: v.ramDisksOf(kernel), Root: &root, Options: options,
			Searches: []loader.GRUBSearch{{Spec: loader.Spec{Kind: loader.ByFSUUID, Value: v.Serial}}}}
		v.putConfig(Config{Kind: ConfigGRUB, Path: path.Join("/", folder, "grub.cfg"), From: repaired,
			GRUB: &loader.GRUBConfig{Entries: []loader.GRUBEntry{entry}}})
		return
	}
}

// ramDisksOf is the initial RAM disk beside a kernel of the same version, under one of the names
// that families give it. GRUB's util/grub.d/10_linux.
func (v *Volume) ramDisksOf(kernel string) []string {
	_, version, _ := strings.Cut(path.Base(kernel), "-")
	names := []string{"initrd.img-" + version, "initrd-" + version + ".img", "initrd-" + version, "initramfs-" + version + ".img",
		"initrd-" + version + ".gz", "initramfs-" + version}
	if version == "" {
		names = []string{"initrd.img", "initrd", "initramfs.img"}
	}
	for _, name := range names {
		file := path.Join(path.Dir(kernel), name)
		if there, _ := v.Holds(file); there {
			return []string{file}
		}
	}
	return nil
}

// HasWindows reports whether a Windows system lies on the volume.
func (v *Volume) HasWindows() bool {
	if v.Kind != volume.KindNTFS && v.Kind != volume.KindBitLocker {
		return false
	}
	for _, path := range []string{winloadEFI, winloadEXE} {
		if there, _ := v.Holds(path); there {
			return true
		}
	}
	return v.Kind == volume.KindBitLocker
}

// HasLinux reports whether a Linux system lies on the volume, or its kernels.
func (v *Volume) HasLinux() bool {
	return v.HasLinuxRoot() || v.keepsLinux() && len(v.Kernels) > 0
}

// HasLinuxRoot reports whether the root of a Linux system lies on the volume.
func (v *Volume) HasLinuxRoot() bool {
	return v.keepsLinux() && slices.ContainsFunc(v.Configs, func(c Config) bool { return c.Kind == ConfigFstab })
}

// keepsLinux reports whether the volume is of a kind that the root of a Linux lies on, and of
// which files are read.
func (v *Volume) keepsLinux() bool {
	return v.Kind == volume.KindExt || v.Kind == volume.KindXFS || v.Kind == volume.KindBtrfs
}
