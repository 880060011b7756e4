package truth

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
)

// TryMenus holds systemd-boot's menus of seeds in a row against what is computed of them.
func TryMenus(from, count uint64, workers int, each func(Tried)) {
	tryParts(from, count, workers, randomMenu, each)
}

// tryParts holds machines of seeds in a row that are made of parts against what is computed of them.
func tryParts(from, count uint64, workers int, made func(seed uint64, without ...int) (Scenario, int),
	each func(Tried)) {
	try := func(seed uint64) Tried {
		one := func(without ...int) (Scenario, int) { return made(seed, without...) }
		r := smallest(one, func(r Report) bool { return r.Differs != "" && !undecided(r) })
		return Tried{Report: r, Open: undecided(r)}
	}
	sideBySide(seedsFrom(from, count), workers, try, func(_ int, t Tried) { each(t) })
}

// smallest runs a machine that is made of parts; where it differs, as few of them as still do.
func smallest(made func(without ...int) (Scenario, int), differs func(Report) bool) Report {
	s, parts := made()
	r := Run(s)
	without := []int{}
	for i := 0; i < parts && differs(r) && r.Err == nil; i++ {
		less, _ := made(append(slices.Clone(without), i)...)
		if t := Run(less); differs(t) && t.Err == nil {
			without, r = append(without, i), t
		}
	}
	return r
}

// some picks one of some texts.
func (c *chance) some(texts ...string) string { return texts[c.IntN(len(texts))] }

// menuMaker puts a menu's files together, without some of them.
type menuMaker struct {
	*chance
	files   [2]map[string][]byte // of the loader's partition and of the extended one
	without []int
	parts   int
	starts  map[string]string // by a file's path, what the marker says that it starts
}

// put has files on a partition, unless this part is left out.
func (m *menuMaker) put(called, program string, files map[string][]byte) {
	on := m.IntN(2) * m.IntN(2)
	part := m.parts
	m.parts++
	if slices.Contains(m.without, part) {
		return
	}
	m.said = append(m.said, fmt.Sprintf("%s on %d", called, on+1))
	for path := range files {
		if m.files[1-on][path] != nil {
			return // a sentence would not tell which
		}
	}
	for path, raw := range files {
		if strings.HasSuffix(strings.ToLower(path), ".efi") {
			m.starts[path] = tag("a", on+1, path)
			raw = marker(m.starts[path], string(raw))
		}
		if strings.HasPrefix(path, `\loader`) {
			m.starts[strings.ReplaceAll(path, `\`, "/")+","] = tag("a", on+1, program)
		}
		m.files[on][path] = raw
	}
}

// marker is a program that says where it lies: a unified kernel where it says which system it is, or
// a comment in the place of that.
func marker(tag, release string) []byte {
	p := MarkX64.Program(tag)
	if release != "" {
		p.Sections = []diskmaker.Section{{Name: ".osrel", Data: []byte(release)}, {Name: ".linux", Data: make([]byte, 64)},
			{Name: ".initrd", Data: make([]byte, 64)}}
		if strings.HasPrefix(release, "#") {
			p.Sections = p.Sections[1:]
		}
	}
	return p.Bytes()
}

var menuNames = []string{"a", "b", "Zulu", "linux-6.9", "linux-6.10", "linux-6.10-rc1", "linux-6.10.3", "linux-6.10~rc1", "0123-6.9", "debian"}

// entry is one of the Boot Loader Specification.
func (m *menuMaker) entry(n int) {
	name := m.some(menuNames...) + m.some("", "", "", "+3", "+0", "+2-1", "+1-2")
	if m.of(12) {
		name = m.some("auto-", ".") + name
	}
	program := fmt.Sprintf("/EFI/t%d/p.efi", n)
	written := m.some(program, program, program, program[1:], strings.ReplaceAll(program, "/", `\`),
		strings.ReplaceAll(program, "/", "//"))
	lines := []string{"title " + m.some("x", "y"), m.some("efi ", "efi\t", "linux ", "linux ", "EFI ") + written}
	for _, l := range []string{"sort-key " + m.some("debian", "a", "Z"), "machine-id " + m.some("0123", "4567"),
		"version " + m.some("6.9", "6.10", "6.10-1", "6.10.3", "6.10~rc1", "12"),
		"architecture " + m.some("x64", "X64", "ia32", "aa64"), "# linux /nothing", "options quiet"} {
		if m.of(3) {
			lines = append(lines, l)
		}
	}
	if m.of(2) {
		slices.Reverse(lines)
	}
	file := `\loader\entries\` + name + m.some(".conf", ".conf", ".conf", ".conf", ".CONF", ".txt")
	files := map[string][]byte{file: []byte(strings.Join(lines, m.some("\n", "\r\n")) + m.some("\n", ""))}
	if !m.of(6) {
		files[strings.ReplaceAll(program, "/", `\`)] = nil
	}
	m.put(fmt.Sprintf("%s (%s)", file[strings.LastIndexByte(file, '\\')+1:], strings.Join(lines, "; ")), program, files)
}

// unified is a unified kernel, or what takes itself for one.
func (m *menuMaker) unified() {
	said := m.some("ID=debian\nVERSION_ID=12\n", "ID=a\nPRETTY_NAME=\"A\"\nVERSION=\"6.10 (x)\"\n", "NAME=n\nBUILD_ID=6.9\n",
		"IMAGE_ID=Z\nIMAGE_VERSION=6.10\nID=debian\n", "VERSION_ID=12\n", "# no section\n")
	name := m.some(menuNames...) + m.some("", "", "+0", "+2-1")
	if m.of(12) {
		name = "auto-" + name
	}
	name += m.some(".efi", ".efi", ".EFI", ".img")
	m.put(fmt.Sprintf("%s (%s)", name, strings.ReplaceAll(strings.TrimSpace(said), "\n", "; ")), "",
		map[string][]byte{`\EFI\Linux\` + name: []byte(said)})
}

// randomMenu is a machine that starts systemd-boot, with the menu of a seed, and of how many
// parts that is made; those whose places are named are left out.
func randomMenu(seed uint64, without ...int) (Scenario, int) {
	m := &menuMaker{chance: &chance{Rand: rand.New(rand.NewPCG(seed, 61))}, without: without,
		files: [2]map[string][]byte{{}, {}}, starts: map[string]string{}}
	program, err := systemdBoot()
	if err != nil {
		panic(err)
	}
	m.files[0][fallbackX64] = program
	for n := range m.IntN(5) {
		m.entry(n)
	}
	for range m.IntN(5) / 2 {
		m.unified()
	}
	if m.of(3) {
		m.put("Windows", "", map[string][]byte{`\EFI\Microsoft\Boot\bootmgfw.efi`: nil})
	}
	if m.of(4) {
		m.put("a shell", "", map[string][]byte{`\shellx64.efi`: nil})
	}
	settings := "timeout 0\n"
	if m.of(2) {
		settings += "default " + m.some("a", "a.conf", "linux-*", "linux-6.1?.conf", "*.efi", "zulu*", "Zulu.conf", "A.conf", "B*", "Linux-6.9.conf", "auto-windows", "[ab].conf", "gone", "@saved") + "\n"
	}
	if m.of(6) {
		settings += "auto-entries " + m.some("no", "0", "yes") + "\n"
	}
	kept := map[string]string{}
	for _, name := range firmware.LoaderVariables {
		if m.of(4) {
			kept[name] = m.some("a.conf", "b.conf", "zulu.conf", "Zulu.conf", "linux-6.10.conf", "gone.conf", "linux-6.9.efi", "linux*", "@saved")
			settings += "# " + name + "=" + kept[name] + "\n"
		}
	}
	m.said = append(m.said, strings.ReplaceAll(strings.TrimSpace(settings), "\n", ", "))
	m.files[0][`\loader\loader.conf`] = []byte(settings)
	boot := diskmaker.Partition{Type: disk.MustGUID("BC13C2FF-59E6-4262-A352-B275FD6F7172"), MiB: 40,
		Volume: diskmaker.Volume{Kind: "fat32", Files: m.files[1]}}
	s := Scenario{Name: fmt.Sprintf("menu %d: %s", seed, strings.Join(m.said, ", ")), Firmware: OVMF, Menu: m.starts, Kept: kept,
		Drives: []Drive{{Name: "a", Disk: gptDisk(1, esp(diskmaker.Volume{Kind: "fat32", Files: m.files[0]}), boot)}}}
	return s, m.parts
}

// menuDisagreement says how the program that a menu is computed to start and the one that it
// started differ; starts is what each of the menu's files starts.
func menuDisagreement(starts map[string]string, t startup.Trace, r Result) string {
	computed := ""
	for _, a := range t.Attempts {
		for _, s := range a.Steps {
			words := s.Text
			for _, f := range s.Facts {
				words += " " + f.Label
			}
			for file, program := range starts {
				if strings.Contains(strings.ToLower(words)+" ", strings.ToLower(file)) {
					computed = program
				}
			}
		}
	}
	switch {
	case r.Mark != "" && strings.EqualFold(computed, r.Mark):
		return "" // what the marker stands for is another matter
	case r.Mark == "" && t.Verdict != startup.Stops:
		return fmt.Sprintf("computed %s, nothing was started (%s)", outcome(t), r.Ended)
	case r.Mark != "" && t.Verdict == startup.Stops:
		return fmt.Sprintf("computed %s (%s), started %s", outcome(t), t.Reason, r.Mark)
	case r.Mark != "":
		return fmt.Sprintf("computed %s (%s), started %s", computed, t.Reason, r.Mark)
	}
	return ""
}
