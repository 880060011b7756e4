package loader

import (
	"encoding/binary"
	"path"
	"regexp"
	"strconv"
	"strings"
)

// Syslinux, in its forms for FAT and for Linux' file systems: a partition's boot sector, a
// second stage that it finds by sector numbers, and from there on files.

// SyslinuxStage is the second stage's file name, and the module that it goes on with from
// version 5 on.
const (
	SyslinuxStage  = "ldlinux.sys"
	SyslinuxModule = "ldlinux.c32"
)

// MaxSyslinuxStage bounds the second stage, in bytes.
const MaxSyslinuxStage = 256 << 10

// Syslinux is what the second stage tells of itself.
type Syslinux struct {
	Version int // its first number; 0 is not told
	Folder  string
	Sound   bool // its checksum is right
}

// Where a second stage keeps what was written into it when it was installed: Syslinux 6.04,
// libinstaller/syslxint.h, struct patch_area and struct ext_patch_area.
const (
	syslinuxMagic    = 0x3EB202FE
	syslinuxPatchAt  = 0x18
	syslinuxWordsAt  = syslinuxPatchAt + 12
	syslinuxOffsetAt = syslinuxPatchAt + 22 // of the further area
	syslinuxFolderAt = 2                    // in that: where the folder's name stands
)

var syslinuxBanner = regexp.MustCompile(`^\r\n(?:SYSLINUX|EXTLINUX|ISOLINUX) ([0-9]+)\.`)

// ReadSyslinux reads a second stage; false where it is none.
func ReadSyslinux(raw []byte) (s Syslinux, ok bool) {
	le := binary.LittleEndian
	if len(raw) < 512 || len(raw) > MaxSyslinuxStage || le.Uint32(raw[syslinuxPatchAt:]) != syslinuxMagic {
		return s, false
	}
	if m := syslinuxBanner.FindSubmatch(raw[:syslinuxPatchAt]); m != nil {
		s.Version, _ = strconv.Atoi(string(m[1]))
	}
	area := int(le.Uint16(raw[syslinuxOffsetAt:]))
	if area+8 <= len(raw) {
		at := int(le.Uint16(raw[area+syslinuxFolderAt:]))
		length := int(le.Uint16(raw[area+syslinuxFolderAt+2:]))
		if at+length <= len(raw) {
			s.Folder, _, _ = strings.Cut(string(raw[at:at+length]), "\x00")
		}
	}
	words := int(le.Uint32(raw[syslinuxWordsAt:]))
	if words < 128 || words > len(raw)/4 {
		return s, true
	}
	sum := uint32(0)
	for i := range words {
		sum += le.Uint32(raw[4*i:])
	}
	s.Sound = sum == syslinuxMagic
	return s, true
}

// SyslinuxMenu is its configuration, as far as it decides what is started when nobody
// chooses.
type SyslinuxMenu struct {
	Name    string // of the entry that is started; "" where the configuration names none
	Entry   Entry  // paths are absolute within the volume
	Modules []string
	Open    string // why what is started is not known; "" where it is
}

// syslinuxEntry is a label with what stands below it.
type syslinuxEntry struct {
	Entry
	name, kernel string
	module       bool // what is named as its kernel is none
}

// ParseSyslinux reads a configuration that lies in a folder of a volume. Syslinux 6.04,
// doc/syslinux.txt, and as it ran (doc/menu.txt for menu modules).
func ParseSyslinux(raw []byte, folder string) *SyslinuxMenu {
	p := syslinuxParser{folder: folder, global: &syslinuxEntry{}}
	p.entry = p.global
	for _, l := range lines(raw) {
		p.line(l)
	}
	return p.chosen()
}

type syslinuxParser struct {
	folder              string
	ui, preset, timeout string // the lines UI, DEFAULT and ONTIMEOUT
	marked              string // the label with MENU DEFAULT
	open                string
	global, entry       *syslinuxEntry
	labels              []*syslinuxEntry
}

func (p *syslinuxParser) line(l line) {
	key, value := l.split()
	switch strings.ToLower(key) {
	case "default":
		p.preset = value
	case "ui":
		p.ui = value
	case "ontimeout":
		p.timeout = value
	case "include":
		p.open = "it goes on in " + value
	case "label":
		p.entry = &syslinuxEntry{name: value}
		p.entry.Options, p.entry.Root = p.global.Options, p.global.Root
		p.entry.Line, p.entry.Offset, p.entry.Length = l.number, l.offset, int64(len(l.text))
		p.labels = append(p.labels, p.entry)
	case "menu":
		words := strings.Fields(strings.ToLower(value))
		if len(words) > 0 && words[0] == "default" {
			p.marked = p.entry.name
		}
		if len(words) > 0 && (words[0] == "include" || words[0] == "begin") {
			p.open = "its menu has parts that are not followed"
		}
	case "kernel", "linux":
		p.entry.kernel, p.entry.module = value, strings.EqualFold(key, "kernel") && module(value)
	case "com32", "boot", "bss", "pxe", "fdimage", "comboot", "config", "localboot":
		p.entry.kernel, p.entry.module = value, true
	case "initrd":
		p.entry.Initrds = strings.Split(value, ",")
	case "append":
		p.options(l, value)
	}
}

// options take a line's; a lone hyphen is none.
func (p *syslinuxParser) options(l line, value string) {
	if value == "-" {
		value = ""
	}
	e := p.entry
	e.Options, e.Root = value, RootOf(value)
	e.Line, e.Offset, e.Length = l.number, l.offset, int64(len(l.text))
}

// module reports whether what is named as a kernel is something else, by the end of its name.
// doc/syslinux.txt, KERNEL.
func module(name string) bool {
	switch strings.ToLower(path.Ext(strings.Fields(name + " -")[0])) {
	case ".0", ".bin", ".bs", ".bss", ".c32", ".cbt", ".com", ".img":
		return true
	}
	return false
}

// chosen is what is started when nobody chooses.
func (p *syslinuxParser) chosen() *SyslinuxMenu {
	m := &SyslinuxMenu{Open: p.open}
	menu := p.ui
	if menu == "" && strings.EqualFold(path.Ext(p.preset), ".c32") {
		menu, p.preset = p.preset, ""
	}
	if fields := strings.Fields(menu); len(fields) > 0 {
		m.Modules = p.modules(fields)
		if p.marked != "" {
			p.preset = p.marked
		}
		if p.preset == "" && len(p.labels) > 0 {
			p.preset = p.labels[0].name
		}
		if len(fields) > 1 {
			m.Open = "its menu is another file"
		}
	}
	if p.timeout != "" && !strings.EqualFold(p.timeout, p.preset) {
		m.Open = "after its timeout it starts something else than its default"
	}
	if m.Name = p.preset; m.Name == "" {
		return m
	}
	e := p.named(m.Name)
	if e.module {
		m.Open = e.kernel + " is no kernel of Linux"
	}
	m.Entry = e.Entry
	m.Entry.Title, m.Entry.Linux = m.Name, p.absolute(e.kernel)
	if given := KernelOptions(m.Entry.Options, "initrd"); len(given) > 0 && len(e.Initrds) == 0 {
		m.Entry.Initrds = strings.Split(given[len(given)-1], ",")
	}
	for i, name := range m.Entry.Initrds {
		m.Entry.Initrds[i] = p.absolute(name)
	}
	return m
}

// modules are the files that a menu is made of.
func (p *syslinuxParser) modules(ui []string) []string {
	list := []string{p.absolute(ui[0])}
	switch strings.ToLower(path.Base(ui[0])) {
	case "menu.c32", "vesamenu.c32":
		return append(list, p.absolute("libutil.c32"), p.absolute("libcom32.c32"))
	}
	return list
}

// named is the entry of a name; one that no label has is a kernel with its options.
func (p *syslinuxParser) named(name string) *syslinuxEntry {
	for _, e := range p.labels {
		if strings.EqualFold(e.name, name) {
			if e.kernel == "" {
				e.kernel = e.name
			}
			return e
		}
	}
	file, options, _ := strings.Cut(name, " ")
	e := &syslinuxEntry{kernel: file, module: module(file)}
	e.Options = strings.TrimSpace(options + " " + p.global.Options)
	e.Root = RootOf(e.Options)
	return e
}

// absolute is a path from the top of the volume.
func (p *syslinuxParser) absolute(name string) string {
	name = strings.ReplaceAll(name, `\`, "/")
	if name == "" {
		return ""
	}
	if strings.HasPrefix(name, "/") {
		return path.Clean(name)
	}
	return path.Join("/", p.folder, name)
}
