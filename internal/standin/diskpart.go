package main

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"strconv"
	"strings"

	"latchkey/core/disk"
	"latchkey/internal/diskmaker"
)

// diskpart runs a script: diskpart /s FILE. It ends at the first line that fails.
func diskpart(args []string) error {
	if len(args) != 2 || !strings.EqualFold(args[0], "/s") {
		return fmt.Errorf("expected /s FILE, not %q", args)
	}
	script, err := os.ReadFile(args[1])
	if err != nil {
		return err
	}
	p := &session{disk: -1, part: -1}
	for line := range strings.Lines(string(script)) {
		if line = strings.TrimSpace(line); line != "" {
			if err := p.line(line); err != nil {
				return fmt.Errorf("%s: %w", line, err)
			}
		}
	}
	return nil
}

// session is what a script has in focus.
type session struct {
	disk  int
	part  int // index
	state *State
}

var errFocus = errors.New("there is no disk, partition or volume selected")

func (p *session) line(line string) error {
	words := strings.Fields(strings.ToLower(line))
	verb := words[0]
	if len(words) > 1 && (verb == "select" || verb == "list" || verb == "detail" || verb == "create") {
		verb += " " + words[1]
	}
	options := map[string]string{}
	for _, w := range words[1:] {
		if key, value, ok := strings.Cut(w, "="); ok {
			options[key] = value
		}
	}
	last := words[len(words)-1]
	switch verb {
	case "select disk":
		return p.selectDisk(last)
	case "list disk":
		return p.list()
	case "select volume":
		number, s, i, err := lettered(last)
		if err == nil {
			p.disk, p.state, p.part = number, s, i
		}
		return err
	}
	if p.state == nil {
		return errFocus
	}
	d := &p.state.Disk
	if done, err := p.onDisk(verb, words); done {
		return err
	}
	switch verb {
	case "uniqueid":
		if d.Style == diskmaker.MBR {
			fmt.Printf("Datentr\x84ger-ID: %08X\n", d.Signature)
		} else {
			fmt.Printf("Datentr\x84ger-ID: {%s}\n", strings.ToUpper(strings.Trim(d.GUID.String(), "{}")))
		}
		return nil
	case "select partition":
		return p.selectPartition(last)
	case "create partition":
		if words[2] == "primary" {
			return p.createWhole()
		}
		return p.create(options["size"], options["offset"])
	}
	if p.part < 0 {
		return errFocus
	}
	if err := p.onPartition(verb, options); err != nil {
		return err
	}
	return p.state.store(p.disk)
}

// onDisk does what concerns a whole disk. A disk that the running system is on is never
// cleaned: diskpart(8) of its maker, "clean".
func (p *session) onDisk(verb string, words []string) (done bool, err error) {
	d := &p.state.Disk
	switch verb {
	case "attributes":
	case "online":
		p.state.Offline = false
	case "clean":
		if p.state.Runs || p.state.Offline {
			return true, errors.New("the selected disk cannot be cleaned")
		}
		d.Partitions, p.part, p.state.Letters = nil, -1, map[string]int{}
		p.state.Zeroed = len(words) > 1 && words[1] == "all"
	case "convert":
		if len(d.Partitions) > 0 {
			return true, errors.New("the selected disk is not empty")
		}
		d.Style = diskmaker.GPT
	default:
		return false, nil
	}
	return true, p.state.store(p.disk)
}

// createWhole makes a partition of all there is.
func (p *session) createWhole() error {
	d := &p.state.Disk
	if len(d.Partitions) > 0 {
		return errors.New("there is not enough usable space")
	}
	d.Partitions = []diskmaker.Partition{{Type: disk.TypeBasicData, Start: 2048, MiB: d.Sectors/2048 - 2,
		GUID: disk.MustGUID("0E5C0000-0000-4000-8000-000000000002")}}
	p.part = 0
	return p.state.store(p.disk)
}

func (p *session) selectDisk(number string) error {
	n, err := strconv.Atoi(number)
	if err != nil {
		return err
	}
	s, err := load(n)
	if err != nil {
		return err
	}
	p.disk, p.state, p.part = n, s, -1
	return nil
}

// list prints the disks in another language than the commands were written in.
func (p *session) list() error {
	fmt.Println("  Datentr\x84ger ###  Status         Gr\x94\xE1e    Frei     Dyn  GPT")
	for n := range 16 {
		s, err := load(n)
		if err != nil {
			continue
		}
		mark := " "
		if n == p.disk {
			mark = "*"
		}
		size, unit := int64(s.Disk.Sectors)*512>>20, "MB"
		if size >= 10240 {
			size, unit = size>>10, "GB"
		}
		fmt.Printf("%s Datentr\x84ger %d    Online         %4d %s  1024 KB        *\n", mark, n, size, unit)
	}
	return nil
}

// order is the partitions' indices as they lie on the disk, which is how they are
// numbered here: it need not be the table's order.
func (p *session) order() []int {
	parts := p.state.Disk.Partitions
	order := make([]int, len(parts))
	for i := range order {
		order[i] = i
	}
	sort.Slice(order, func(a, b int) bool { return parts[order[a]].Start < parts[order[b]].Start })
	return order
}

func (p *session) selectPartition(number string) error {
	n, err := strconv.Atoi(number)
	if order := p.order(); err == nil && n >= 1 && n <= len(order) {
		p.part = order[n-1]
		return nil
	}
	return errors.New("the partition is not valid")
}

func (p *session) onPartition(verb string, options map[string]string) error {
	d := &p.state.Disk
	part := &d.Partitions[p.part]
	switch verb {
	case "detail partition":
		fmt.Printf("Partition\nTyp    : %02X\nVersteckt: Nein\nOffset in Byte: %d\n\n", part.MBRType, part.Start*512)
		fmt.Printf("  Volume ###  Bst  Bezeichnung  DS     Typ         Gr\x94\xe1e\n  ----------  ---  -----------  -----  ----------  -------\n* Volume 1     C   %s  %-5s  Partition  %5d MB\n", part.Volume.Label, part.Volume.Kind, part.MiB)
		return nil
	case "active", "inactive":
		if d.Style != diskmaker.MBR {
			return errors.New("the selected disk is not a fixed MBR disk")
		}
		for i := range d.Partitions {
			if i == p.part || verb == "active" {
				d.Partitions[i].Active = i == p.part && verb == "active"
			}
		}
		return nil
	case "set":
		if d.Style == diskmaker.MBR {
			n, err := strconv.ParseUint(options["id"], 16, 8)
			part.MBRType = byte(n)
			return err
		}
		g, err := disk.ParseGUID(options["id"])
		part.Type = g
		return err
	case "gpt":
		n, err := strconv.ParseUint(options["attributes"], 0, 64)
		part.Attributes = n
		return err
	case "format":
		part.Volume = diskmaker.Volume{Kind: options["fs"], Label: options["label"]}
		return nil
	case "shrink":
		n, err := strconv.ParseUint(options["desired"], 10, 64)
		if err != nil || n >= part.MiB {
			return errors.New("the volume cannot be shrunk by that much")
		}
		part.MiB -= n
		return nil
	case "assign":
		return p.assign(strings.ToUpper(options["letter"]))
	case "remove":
		if options["letter"] == "" {
			for letter, i := range p.state.Letters {
				if i == p.part {
					delete(p.state.Letters, letter)
				}
			}
			return nil
		}
		return p.remove(strings.ToUpper(options["letter"]))
	}
	return fmt.Errorf("%s is no command of it", verb)
}

// create puts an EFI system partition of a size in MB at an offset in KB, where
// nothing else lies.
func (p *session) create(size, offset string) error {
	d := &p.state.Disk
	n, err := strconv.ParseUint(size, 10, 64)
	kb, errAt := strconv.ParseUint(offset, 10, 64)
	if err != nil || errAt != nil || d.Style != diskmaker.GPT {
		return errors.New("expected a size in MB, an offset in KB, and a GPT disk")
	}
	start := kb * 2
	for _, q := range d.Partitions {
		if start < q.Start+q.MiB*2048 && q.Start < start+n*2048 {
			return errors.New("the offset lies in another partition")
		}
	}
	if start%2048 != 0 || start+n*2048 > d.Sectors-34 {
		return errors.New("there is not enough usable space")
	}
	d.Partitions = append(d.Partitions, diskmaker.Partition{Type: disk.TypeESP, Start: start, MiB: n,
		GUID: disk.MustGUID("0E5C0000-0000-4000-8000-000000000001")})
	p.part = len(d.Partitions) - 1
	return p.state.store(p.disk)
}

// assign lays a volume's files out in the letter's folder.
func (p *session) assign(letter string) error {
	if letter == "" {
		letter = "E"
	}
	if _, _, _, err := lettered(letter); err == nil {
		return errors.New("the drive letter is not free")
	}
	p.state.Letters[letter] = p.part
	for name, content := range p.state.Disk.Partitions[p.part].Volume.Files {
		path := world(letter, filepath.FromSlash(strings.Trim(strings.ReplaceAll(name, `\`, "/"), "/")))
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			return err
		}
		if err := os.WriteFile(path, content, 0o600); err != nil {
			return err
		}
	}
	return nil
}

// remove takes the files of the letter's folder over into the volume.
func (p *session) remove(letter string) error {
	if i, has := p.state.Letters[letter]; !has || i != p.part {
		return errors.New("the volume does not have that letter")
	}
	delete(p.state.Letters, letter)
	v := &p.state.Disk.Partitions[p.part].Volume
	v.Files = map[string][]byte{}
	top := world(letter)
	return filepath.WalkDir(top, func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		content, err := os.ReadFile(path)
		rel, _ := filepath.Rel(top, path)
		v.Files[filepath.ToSlash(rel)] = content
		return err
	})
}
