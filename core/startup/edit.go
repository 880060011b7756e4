package startup

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/volume"
)

// What a repair does to a disk, on a copy of what is known of it. Each method
// leaves the receiver as it is.

// repaired is the source of what a repair is going to write.
var repaired = fact.Source{Origin: fact.Computed, Structure: "after the repair"}

func (c *Contents) edited() *Contents {
	copied := c.clone()
	copied.Layout.Problems = append([]disk.Problem{}, c.Layout.Problems...)
	for i := range copied.Volumes {
		v := &copied.Volumes[i]
		v.Loaders = append([]loader.Found{}, v.Loaders...)
		v.Configs = append([]Config{}, v.Configs...)
		v.Problems = append([]disk.Problem{}, v.Problems...)
	}
	return copied
}

func (c *Contents) drop(codes ...string) {
	var kept []disk.Problem
	for _, p := range c.Layout.Problems {
		if !has(codes, p.Code) {
			kept = append(kept, p)
		}
	}
	c.Layout.Problems = kept
}

func has(list []string, s string) bool {
	for _, x := range list {
		if x == s || strings.HasSuffix(x, "*") && strings.HasPrefix(s, strings.TrimSuffix(x, "*")) {
			return true
		}
	}
	return false
}

// WithPrimaryRestored has a primary GPT that is written anew from the backup.
func (c *Contents) WithPrimaryRestored() *Contents {
	e := c.edited()
	g := *c.Layout.GPT
	g.Primary, g.Primary.Which, g.Primary.State = g.Backup, "primary", disk.CopyGood
	g.Primary.Header.LBA, g.Primary.Header.MyLBA = 1, 1
	e.Layout.GPT = &g
	e.drop("gpt-header*", "gpt-array*", "gpt-primary-absent", "gpt-my-lba", "gpt-entry-size")
	return e.WithProtectiveMBR()
}

// WithProtectiveMBR has a protective MBR in sector 0.
func (c *Contents) WithProtectiveMBR() *Contents {
	e := c.edited()
	mbr := disk.MBR{Signature: true}
	if c.Layout.MBR != nil {
		mbr.BootCode, mbr.DiskSignature = c.Layout.MBR.BootCode, c.Layout.MBR.DiskSignature
	}
	mbr.Entries[0] = disk.MBREntry{Number: 1, Type: disk.MBRTypeProtective, Start: 1, Length: e.Layout.Sectors - 1}
	e.Layout.MBR = &mbr
	e.drop("gpt-unprotected", "gpt-protective-unsigned", "mbr-hybrid")
	return e
}

// WithType has a partition of another GPT type.
func (c *Contents) WithType(i int, t disk.GUID) *Contents {
	e := c.edited()
	p := &e.Layout.Partitions[i]
	p.TypeGUID, p.Type = t, disk.GPTType(t)
	return e
}

// WithActive has exactly one active partition.
func (c *Contents) WithActive(i int) *Contents {
	e := c.edited()
	for j := range e.Layout.Partitions {
		e.Layout.Partitions[j].Active = j == i
	}
	mbr := *c.Layout.MBR
	for j := range mbr.Entries {
		mbr.Entries[j].Status = 0
		if mbr.Entries[j].Number == e.Layout.Partitions[i].Number {
			mbr.Entries[j].Status = 0x80
		}
	}
	e.Layout.MBR = &mbr
	e.drop("mbr-two-active", "mbr-status")
	e.forgetRun()
	return e
}

// forgetRun drops what the boot code did before the change: it is judged by what
// it is known to do.
func (c *Contents) forgetRun() {
	if c.Run != nil && c.Code == loader.CodeOther {
		c.Code = loader.CodeClassic
	}
	c.Run = nil
}

// WithBootCode has the standard boot code in sector 0, which runs the active
// partition.
func (c *Contents) WithBootCode() *Contents {
	e := c.edited()
	e.Code, e.Run = loader.CodeClassic, nil
	mbr := *c.Layout.MBR
	mbr.Signature = true
	e.Layout.MBR = &mbr
	return e
}

// WithHiddenSectors has a boot sector that knows where its partition lies.
func (c *Contents) WithHiddenSectors(i int) *Contents {
	e := c.edited()
	v := &e.Volumes[i]
	v.dropProblem("hidden-sectors")
	v.HiddenSectors = fact.Known(e.Layout.Partitions[i].Start, repaired)
	return e
}

func (v *Volume) dropProblem(code string) {
	var kept []disk.Problem
	for _, p := range v.Problems {
		if p.Code != code {
			kept = append(kept, p)
		}
	}
	v.Problems = kept
}

// WithFAT has an empty FAT32 volume in a partition.
func (c *Contents) WithFAT(i int) *Contents {
	e := c.edited()
	// The serial number is a new one, which is not known yet.
	e.Volumes[i] = Volume{Volume: volume.Volume{Kind: volume.KindFAT32, Serial: fmt.Sprintf("NEW-%d", i), BootCode: true}, looked: map[string]error{}}
	return e
}

// WithESP has a new EFI system partition of sectors from start, formatted and
// empty; its index is returned too. When shrunk is not negative that partition
// gives the room at its end.
func (c *Contents) WithESP(start, length uint64, shrunk int) (*Contents, int) {
	e := c.edited()
	if shrunk >= 0 {
		e.Layout.Partitions[shrunk].Length = start - e.Layout.Partitions[shrunk].Start
	}
	number := 1
	for _, p := range e.Layout.Partitions {
		number = max(number, p.Number+1)
	}
	p := disk.Partition{Number: number, TypeGUID: disk.TypeESP, Type: disk.GPTType(disk.TypeESP), Start: start, Length: length, Source: repaired}
	p.GUID[0], p.GUID[15] = 0xFF, byte(number) // a new one, which is not known yet
	e.Layout.Partitions = append(e.Layout.Partitions, p)
	e.Volumes = append(e.Volumes, Volume{})
	i := len(e.Volumes) - 1
	return e.WithFAT(i), i
}

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

// windowsPath is where Windows puts its own boot manager.
const windowsPath = `\EFI\Microsoft\Boot\bootmgfw.efi`

// WithWindowsFiles has Windows' boot files on partition boot, for the system on
// partition system: the manager, the fallback where there is none, and a new
// store that names the clone's own partition.
func (c *Contents) WithWindowsFiles(boot, system int, mode firmware.Mode, arch firmware.Arch) *Contents {
	e := c.edited()
	v := &e.Volumes[boot]
	path, store := winloadEFI, loader.StoreUEFI
	if mode == firmware.Legacy {
		path, store = winloadEXE, loader.StoreLegacy
		v.LegacyManager, v.BootCode, v.SystemCode = "bootmgr", true, true
		v.dropProblem("hidden-sectors")
	} else {
		manager := loader.NewProgram(arch, loader.WindowsManager)
		v.putProgram(windowsPath, manager)
		v.putProgram(loader.FallbackPath(arch), manager)
	}
	v.putConfig(Config{Kind: ConfigStore, Path: store, Told: repaired, Store: loader.NewStore(path, e.device(system))})
	e.Run = nil
	if e.Code == loader.CodeOther || e.Code == loader.CodeNone {
		e.Code = loader.CodeClassic
	}
	return e
}

// StoreOn returns the boot configuration store of a mode on a partition; ok is
// false when there is none that can be read.
func (c *Contents) StoreOn(boot int, mode firmware.Mode) (store *loader.Store, ok bool) {
	cfg := c.Volumes[boot].config(ConfigStore, storePath(mode))
	if cfg == nil || cfg.Err != nil || cfg.Store == nil {
		return nil, false
	}
	return cfg.Store, true
}

func storePath(mode firmware.Mode) string {
	if mode == firmware.Legacy {
		return loader.StoreLegacy
	}
	return loader.StoreUEFI
}

// WithStoreReferences has a store on partition boot that looks for its system on
// partition system.
func (c *Contents) WithStoreReferences(boot, system int, mode firmware.Mode) *Contents {
	e := c.edited()
	for i := range e.Volumes[boot].Configs {
		if cfg := &e.Volumes[boot].Configs[i]; cfg.Kind == ConfigStore && strings.EqualFold(cfg.Path, storePath(mode)) {
			cfg.Store = cfg.Store.Pointing(e.device(system))
		}
	}
	return e
}

// patched is a disk with some bytes replaced.
type patched struct {
	*disk.Disk
	at    int64
	bytes []byte
}

// ReadAt implements io.ReaderAt.
func (p patched) ReadAt(b []byte, off int64) (int, error) {
	n, err := p.Disk.ReadAt(b, off)
	for i := range p.bytes {
		if at := p.at + int64(i) - off; at >= 0 && at < int64(n) {
			b[at] = p.bytes[i]
		}
	}
	return n, err
}

// WithSectorCopied has the boot sector of a partition written anew from its copy
// in another sector of the disk; the volume is read again.
func (c *Contents) WithSectorCopied(i int, from uint64) (*Contents, error) {
	e := c.edited()
	size := int64(c.Layout.SectorSize)
	sector, err := c.Disk.Read(int64(from)*size, int(size))
	if err != nil {
		return nil, err
	}
	p := c.Layout.Partitions[i]
	on, err := disk.New(patched{c.Disk, int64(p.Start) * size, sector}, c.Disk.Size(), int(size))
	if err != nil {
		return nil, err
	}
	e.Volumes[i] = examineVolume(on, p, nil)
	e.forgetRun()
	return e, nil
}

// larger is a disk's bytes on a drive with room behind them, which reads as zeros.
type larger struct{ *disk.Disk }

// ReadAt implements io.ReaderAt.
func (l larger) ReadAt(b []byte, off int64) (int, error) {
	n := 0
	if off < l.Size() {
		most := min(int64(len(b)), l.Size()-off)
		var err error
		if n, err = l.Disk.ReadAt(b[:most], off); int64(n) < most {
			return n, err
		}
	}
	clear(b[n:])
	return len(b), nil
}

// CopiedWhole is the disk copied sector by sector onto another one that has room;
// nil when it cannot be read so.
func (c *Contents) CopiedWhole(onto *Contents) *Contents {
	on, err := disk.New(larger{c.Disk}, int64(onto.Layout.Sectors)*int64(onto.Layout.SectorSize), onto.Layout.SectorSize)
	if err != nil {
		return nil
	}
	on.SetCounts(c.Disk.Counts())
	return Examine(on)
}

// CopiedSmaller is the disk copied onto one of so many sectors, with a partition
// made smaller and those behind it moved up.
func (c *Contents) CopiedSmaller(shrunk int, sectors uint64) *Contents {
	e := c.edited()
	less := c.Layout.Sectors - sectors
	at := e.Layout.Partitions[shrunk].Start
	e.Layout.Partitions[shrunk].Length -= less
	for i := range e.Layout.Partitions {
		if p := &e.Layout.Partitions[i]; p.Start > at {
			p.Start -= less
		}
	}
	e.Layout.Sectors = sectors
	if g := e.Layout.GPT; g != nil {
		moved := *g
		moved.Primary.Header.LastUsableLBA -= less
		moved.Backup.Header.LastUsableLBA -= less
		e.Layout.GPT = &moved
	}
	return e
}

// device names a partition as a store does.
func (c *Contents) device(i int) *loader.BCDDevice {
	p := c.Layout.Partitions[i]
	d := &loader.BCDDevice{Kind: loader.DevicePartition, Partition: p.GUID}
	if c.Layout.Style == disk.StyleMBR {
		d.MBR, d.Start = true, uint64(c.base(i))
		if c.Layout.MBR != nil {
			d.Signature = c.Layout.MBR.DiskSignature
		}
	}
	return d
}

// WithGRUB has GRUB for a Linux root: as EFI program on partition boot, or in
// sector 0 when boot is negative; its configuration and the mount table name the
// clone's own file systems.
func (c *Contents) WithGRUB(boot, root int, arch firmware.Arch) *Contents {
	e := c.WithLinuxNames(boot, root)
	home, folder := root, "/boot"
	if i, ok := c.MountedAt(root, "/boot"); ok {
		home, folder = i, ""
	}
	e.Volumes[home].putMenu(folder, e.Volumes[root].Serial)
	core := &loader.GRUBCore{Prefix: folder + "/grub", Config: "search.fs_uuid " + e.Volumes[home].Serial + " root\nset prefix=($root)" + folder + "/grub\n"}
	if boot < 0 {
		e.Code, e.Run = loader.CodeGRUB, nil
		e.Core = GRUBCore{Sector: 1, Present: true, Known: true, Image: core}
		mbr := *e.Layout.MBR
		mbr.Signature = true
		e.Layout.MBR = &mbr
		return e
	}
	program := loader.NewProgram(arch, loader.GRUB)
	program.GRUB = core
	v := &e.Volumes[boot]
	v.putProgram(loader.DebianPath(arch), program)
	v.putProgram(loader.FallbackPath(arch), program)
	return e
}

// MountedAt returns the partition of the disk that the mount table of the system on
// partition root mounts at a point of its own.
func (c *Contents) MountedAt(root int, point string) (partition int, found bool) {
	table := c.Volumes[root].config(ConfigFstab, "/etc/fstab")
	if table == nil {
		return 0, false
	}
	for _, m := range table.Mounts {
		if hits := c.byName(m.Spec); m.Point == point && len(hits) == 1 {
			return hits[0], true
		}
	}
	return 0, false
}

// putMenu has GRUB's menu made anew from the kernels in a folder of the volume, for
// the root file system of a UUID.
func (v *Volume) putMenu(folder, uuid string) {
	for _, kernel := range slices.Backward(v.Kernels) {
		if path.Dir(kernel) == path.Join("/", folder) {
			root, home := loader.Spec{Kind: loader.ByFSUUID, Value: uuid}, loader.Spec{Kind: loader.ByFSUUID, Value: v.Serial}
			v.putConfig(Config{Kind: ConfigGRUB, Path: folder + "/grub/grub.cfg", Told: repaired, GRUB: &loader.GRUBConfig{
				Entries: []loader.GRUBEntry{{Title: "the newest kernel", Linux: kernel, Root: &root, Searches: []loader.GRUBSearch{{Spec: home}}}}}})
			return
		}
	}
}

// WithLinuxNames has configurations and a mount table that name the clone's own
// file systems.
func (c *Contents) WithLinuxNames(boot, root int) *Contents {
	e := c.edited()
	name := loader.Spec{Kind: loader.ByFSUUID, Value: e.Volumes[root].Serial}
	for i := range e.Volumes {
		for j := range e.Volumes[i].Configs {
			e.Volumes[i].Configs[j].rename(name, e, boot, root)
		}
	}
	return e
}

// rename lets a configuration name the root by its own file system.
func (c *Config) rename(root loader.Spec, disk *Contents, boot, rootIndex int) {
	if c.GRUB != nil {
		g := *c.GRUB
		g.Top = renamed(g.Top, root)
		g.Entries = append([]loader.GRUBEntry{}, g.Entries...)
		for i := range g.Entries {
			entry := &g.Entries[i]
			entry.Searches = renamed(entry.Searches, root)
			if entry.Root != nil {
				entry.Root = &root
			}
		}
		c.GRUB = &g
	}
	if c.Entry != nil && c.Entry.Root != nil {
		entry := *c.Entry
		entry.Root = &root
		c.Entry = &entry
	}
	c.Mounts = append([]loader.Mount{}, c.Mounts...)
	for i := range c.Mounts {
		m := &c.Mounts[i]
		switch {
		case m.Point == "/":
			m.Spec = root
		case len(disk.byName(m.Spec)) > 0:
		case strings.HasPrefix(m.Point, "/boot/efi") && boot >= 0:
			m.Spec = loader.Spec{Kind: loader.ByFSUUID, Value: disk.Volumes[boot].Serial}
		default:
			m.NoFail = true
		}
	}
}

// Unresolved lists the essential mount points of the system on a volume whose
// names no partition of the disk carries, the root itself and the boot partition
// left out.
func (c *Contents) Unresolved(root int) []string {
	var points []string
	table := c.Volumes[root].config(ConfigFstab, "/etc/fstab")
	if table == nil {
		return nil
	}
	for _, m := range table.Mounts {
		if m.Essential() && m.Spec.Kind != loader.ByPath && m.Point != "/" && !strings.HasPrefix(m.Point, "/boot/efi") && len(c.byName(m.Spec)) == 0 {
			points = append(points, m.Point)
		}
	}
	return points
}

// byName lists the partitions of the disk that a name means, its bus aside.
func (c *Contents) byName(s loader.Spec) []int {
	found, _ := (&Drive{Contents: c}).resolve(s)
	return found
}

func renamed(searches []loader.GRUBSearch, root loader.Spec) []loader.GRUBSearch {
	out := append([]loader.GRUBSearch{}, searches...)
	for i := range out {
		if !out[i].Hint && out[i].Spec.Kind != loader.ByFile {
			out[i].Spec = root
		}
	}
	return out
}

// WithGPT has the partitions of an MBR disk in a GPT, and a new EFI system
// partition of sectors from start; its index is returned too.
func (c *Contents) WithGPT(start, length uint64, shrunk int) (*Contents, int) {
	e := c.edited()
	e.Layout.Style = disk.StyleGPT
	good := disk.GPTCopy{Which: "primary", State: disk.CopyGood}
	good.Header.LBA, good.Header.MyLBA, good.Header.FirstUsableLBA, good.Header.LastUsableLBA = 1, 1, 34, e.Layout.Sectors-34
	e.Layout.GPT = &disk.GPT{Primary: good, Backup: good}
	e.Layout.Problems = nil
	for i := range e.Layout.Partitions {
		p := &e.Layout.Partitions[i]
		p.TypeGUID, p.MBRType, p.Active = disk.TypeBasicData, 0, false
		p.Type = disk.GPTType(p.TypeGUID)
		p.GUID[0], p.GUID[15] = 0xFE, byte(p.Number)
	}
	return e.WithProtectiveMBR().WithESP(start, length, shrunk)
}

// HasWindows reports whether a Windows system lies on the volume.
func (v *Volume) HasWindows() bool {
	if v.Kind != volume.KindNTFS && v.Kind != volume.KindBitLocker {
		return false
	}
	for _, path := range []string{winloadEFI, winloadEXE} {
		if there, _ := v.holds(path); there {
			return true
		}
	}
	return v.Kind == volume.KindBitLocker
}

// HasLinux reports whether a Linux system lies on the volume, or its kernels.
func (v *Volume) HasLinux() bool {
	return v.HasLinuxRoot() || v.Kind == volume.KindExt && len(v.Kernels) > 0
}

// HasLinuxRoot reports whether the root of a Linux system lies on the volume.
func (v *Volume) HasLinuxRoot() bool {
	return v.Kind == volume.KindExt && v.config(ConfigFstab, "/etc/fstab") != nil
}
