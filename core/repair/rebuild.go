package repair

import (
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"latchkey/core/command"
	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// rebuildTable writes a table anew where none tells of the partitions: from what is left of
// the clone's own copies, from the original's table where the clone's file systems lie as it
// says, or from the file systems alone.
func rebuildTable(m machine.Machine, _ course.Stage) []move {
	c := clone(m).Contents
	if c == nil || !c.LacksTable() || !c.TableSeen() {
		return nil
	}
	w := tableWriter{m: m, c: c, action: "rebuild-table", key: "rebuild ", title: "Write the partition table anew, from "}
	if r, ok := unsignedRecord(c); ok {
		w.add(r, "what is left of it", "Sector 0 does not end in 55 AA, and what its records say is confirmed by the file systems that were found.")
	}
	if r, ok := besideProtective(c); ok {
		w.add(r, "the records beside the protective one", "A record of type EE stands for a GPT, and there is none; the others stay as they are.")
	}
	for _, r := range copyRecords(c) {
		w.add(r, "what is left of it", "Its checksum is wrong, and what it says is confirmed by the file systems that were found.")
	}
	for _, r := range mendedRecords(c) {
		w.add(r, "what is left of it and its file systems", "Its checksum is wrong, and where it says otherwise than the file systems lie it is corrected; its identifiers stay.")
	}
	if r, ok := originalRecord(m, c); ok {
		w.add(r, "the original's", "The clone has none that can be read; its file systems lie where the original's table says.")
	}
	if r, ok := volumeRecord(m, c, true); ok {
		w.add(r, "the file systems found", "The clone has none that can be read; its file systems say where they begin and how long they are.")
	}
	if r, ok := volumeRecord(m, c, false); ok {
		w.add(r, "the file systems found, all as primary partitions", "The clone has none that can be read; its file systems say where they begin and how long they are. One that was logical is started by no boot code.")
	}
	return w.moves
}

// tableWriter collects the steps that write a table, each table once.
type tableWriter struct {
	m                  machine.Machine
	c                  *machine.Contents
	action, key, title string // the key and the title are ended by what the table comes from
	seen               []machine.Record
	moves              []move
}

// add has a step that writes a table.
func (w *tableWriter) add(r machine.Record, from, why string) {
	for _, s := range w.seen {
		if slices.EqualFunc(s.Partitions, r.Partitions, samePlace) {
			return
		}
	}
	w.seen = append(w.seen, r)
	saves := gptSectors(w.c, 0)
	if r.Style == disk.StyleMBR && w.c.Layout.Style == disk.StyleMBR {
		saves = tableSectors(w.c)
	}
	if r.Style == disk.StyleMBR {
		saves = append(saves, chainSectors(r)...)
	}
	table := strataOf(w.m, w.c, r)
	step := PlanStep{Action: w.action, Title: w.title + from, Why: why + " " + listed(w.c, table), Table: table,
		Risk:    RiskLow,
		Minutes: 9 + len(w.seen), Saves: saves, Undo: "Write the saved sectors back."}
	tools := map[Toolbox]func() []Command{Linux: func() []Command {
		if r.Extended.Number > 0 {
			return chainCommands(w.c, r)
		}
		return rebuildCommands(r)
	}}
	w.moves = append(w.moves, onDisk(w.m, step, w.key+from, w.c.WithTable(r), tools))
}

func samePlace(p, q disk.Partition) bool {
	return p.Start == q.Start && p.Length == q.Length && p.TypeGUID == q.TypeGUID && p.MBRType == q.MBRType &&
		p.Active == q.Active && p.Logical == q.Logical
}

// listed says what the table is going to hold.
func listed(c *machine.Contents, t *Table) string {
	text := "It will hold " + t.text() + "."
	if c.FoundUpTo < c.Layout.Sectors {
		text += fmt.Sprintf(" What lies behind sector %d was not looked at: a capture with a thorough search does.", c.FoundUpTo)
	}
	return text
}

// confirmed reports whether what was found lies as a table says: each volume in a partition
// that begins where it does and is long enough, and each partition without one of a kind
// that needs none.
func confirmed(c *machine.Contents, r machine.Record) bool {
	matched := 0
	for _, p := range r.Partitions {
		if slices.ContainsFunc(c.Found, func(f machine.Found) bool {
			return f.Partition.Start == p.Start && f.Partition.Length <= p.Length
		}) {
			matched++
		} else if !bare(p) {
			return false
		}
	}
	return matched == len(c.Found) && apart(c, r)
}

// apart reports whether a table's partitions lie on the disk, beside the tables, and none
// over another.
func apart(c *machine.Contents, r machine.Record) bool {
	end := c.Layout.Sectors
	if r.Style == disk.StyleGPT {
		end = disk.LastUsable(end, c.Layout.SectorSize) + 1
	}
	for i, p := range r.Partitions {
		if p.Length == 0 || p.End() > end || p.Start == 0 {
			return false
		}
		for _, q := range r.Partitions[:i] {
			if p.Start < q.End() && q.Start < p.End() {
				return false
			}
		}
	}
	return true
}

// copyRecords are the tables that damaged copies of a GPT still hold.
func copyRecords(c *machine.Contents) (records []machine.Record) {
	g := c.Layout.GPT
	if c.Layout.Style != disk.StyleGPT || g == nil {
		return nil
	}
	for _, copied := range []*disk.GPTCopy{&g.Primary, &g.Backup} {
		if copied.State != disk.CopyDamaged {
			continue
		}
		r := recordOf(copied)
		if !r.ID.IsZero() && confirmed(c, r) {
			records = append(records, r)
		}
	}
	return records
}

// mendedRecords are the tables that damaged copies of a GPT still hold, with their entries
// brought to where the file systems lie.
func mendedRecords(c *machine.Contents) (records []machine.Record) {
	g := c.Layout.GPT
	if c.Layout.Style != disk.StyleGPT || g == nil {
		return nil
	}
	for _, copied := range []*disk.GPTCopy{&g.Primary, &g.Backup} {
		r := recordOf(copied)
		if copied.State != disk.CopyDamaged || r.ID.IsZero() {
			continue
		}
		r.Partitions, _ = placed(c, r.Partitions)
		if dropped(c, &r) && shortened(c, &r) && confirmed(c, r) {
			records = append(records, r)
		}
	}
	return records
}

// unsignedRecord is the table of an MBR whose signature alone is gone.
func unsignedRecord(c *machine.Contents) (machine.Record, bool) {
	mbr := c.Layout.MBR
	if c.Layout.Style != disk.StyleNone || mbr == nil || mbr.Signature {
		return machine.Record{}, false
	}
	r, ok := recordsOf(c)
	return r, ok && confirmed(c, r)
}

// besideProtective is the table of an MBR whose records stand beside one of type EE, by which programs
// take it for that of a GPT, and there is none.
func besideProtective(c *machine.Contents) (machine.Record, bool) {
	mbr := c.Layout.MBR
	if c.Layout.Style != disk.StyleGPT || mbr == nil || !mbr.Signature || !mbr.Hybrid() {
		return machine.Record{}, false
	}
	r, ok := recordsOf(c)
	claimed := func(f machine.Found) bool {
		return slices.ContainsFunc(r.Partitions, func(p disk.Partition) bool {
			return f.Partition.Start == p.Start && f.Partition.Length <= p.Length
		})
	}
	lost := slices.ContainsFunc(c.Found, func(f machine.Found) bool { return !claimed(f) })
	return r, ok && !lost && apart(c, r) // the records stay as they are: one may tell of what holds nothing
}

// recordsOf is the table that the ordinary records of sector 0 and of its chain tell of.
func recordsOf(c *machine.Contents) (machine.Record, bool) {
	mbr := c.Layout.MBR
	r := machine.Record{Style: disk.StyleMBR, Signature: mbr.DiskSignature}
	for _, e := range slices.Concat(mbr.Entries[:], mbr.Logical) {
		switch {
		case !e.Used(), e.Type == disk.MBRTypeProtective:
		case e.Status&0x7F != 0 || e.Extended() && r.Extended.Number > 0:
			return machine.Record{}, false
		case e.Extended():
			r.Extended = e
		default:
			r.Partitions = append(r.Partitions, e.Partition(c.Layout.SectorSize))
		}
	}
	return r, len(r.Partitions) > 0 && chain(c, &r)
}

// originalRecord is the original's table, where it fits.
func originalRecord(m machine.Machine, c *machine.Contents) (machine.Record, bool) {
	for i := range m.Drives {
		o := &m.Drives[i]
		if o.Role != machine.RoleOriginal || o.Contents == nil || o.Contents.Layout.SectorSize != c.Layout.SectorSize {
			continue
		}
		l := &o.Contents.Layout
		r := machine.Record{Style: l.Style, Partitions: slices.Clone(l.Partitions)}
		for j := range r.Partitions {
			p := &r.Partitions[j]
			if p.Unplaced || p.Rough || o.Contents.Volumes[j].Told || p.TypeOpen || p.ActiveOpen {
				return machine.Record{}, false
			}
		}
		switch {
		case l.Style == disk.StyleGPT && l.GPT != nil && l.GPT.Valid() != nil:
			r.ID, r.FirstLBA = l.GPT.Valid().Header.DiskGUID, l.GPT.Valid().Header.FirstUsableLBA
		case l.Style == disk.StyleMBR && l.MBR != nil && !entangled(o.Contents):
			r.Signature = l.MBR.DiskSignature
			r.Extended, _ = extendedOf(o.Contents)
			if !chain(c, &r) {
				return machine.Record{}, false
			}
		default:
			return machine.Record{}, false
		}
		return r, confirmed(c, r)
	}
	return machine.Record{}, false
}

// volumeRecord is a table made of the volumes that were found, in the style that the
// firmware's mode goes with, with logical partitions where records of them are left, or
// without. Each must tell its own length.
func volumeRecord(m machine.Machine, c *machine.Contents, logical bool) (machine.Record, bool) {
	r := machine.Record{Style: disk.StyleGPT, ID: made(c, 0)}
	if c.FoundLacks { // there may be more of them
		return r, false
	}
	if isLegacy(m) && c.Layout.Style != disk.StyleGPT {
		r = machine.Record{Style: disk.StyleMBR}
		if c.Layout.MBR != nil {
			r.Signature = c.Layout.MBR.DiskSignature // systems know the disk by it
		}
		if r.Signature == 0 {
			id := made(c, 0)
			r.Signature = binary.LittleEndian.Uint32(id[:])
		}
	}
	for i, f := range c.Found {
		p := disk.Partition{Number: i + 1, Start: f.Partition.Start, Length: f.Partition.Length}
		if p.Length == 0 {
			return r, false
		}
		guid, mbr := typesOf(&f.Volume)
		if r.Style == disk.StyleGPT {
			p.TypeGUID, p.Type, p.GUID = guid, disk.GPTType(guid), made(c, i+1)
		} else {
			p.MBRType, p.Type = mbr, disk.MBRType(mbr)
			if logical {
				p = asLogical(c, p, f, &r)
			}
		}
		r.Partitions = append(r.Partitions, p)
	}
	return r, chain(c, &r) && confirmed(c, r)
}

// typesOf are the types under which systems keep a kind of volume.
func typesOf(v *machine.Volume) (gpt disk.GUID, mbr byte) {
	switch {
	case v.IsFAT() && len(v.Programs) > 0:
		return disk.TypeESP, disk.MBRTypeESP
	case v.IsFAT():
		return disk.TypeBasicData, 0x0C
	case v.Kind == volume.KindNTFS, v.Kind == volume.KindExFAT, v.Kind == volume.KindBitLocker:
		return disk.TypeBasicData, 0x07
	case v.Kind == volume.KindSwap:
		return disk.MustGUID("0657FD6D-A4AB-43C4-84E5-0933C84B4F4F"), 0x82
	case v.Kind == volume.KindLVM:
		return disk.MustGUID("E6D6D379-F507-44C2-A23C-238F2A3DF928"), 0x8E
	case v.Kind == volume.KindHFS:
		return disk.MustGUID("48465300-0000-11AA-AA11-00306543ECAC"), 0xAF
	case v.Kind == volume.KindAPFS:
		return disk.MustGUID("7C3457EF-0000-11AA-AA11-00306543ECAC"), 0xAF
	}
	return disk.TypeLinuxData, 0x83
}

// made is an identifier that nobody else has, the same each time: it is made of what was
// found, so that the steps behind find the disk by it. RFC 9562, version 8.
func made(c *machine.Contents, n int) (id disk.GUID) {
	h := sha256.New()
	for _, f := range c.Found {
		fmt.Fprintln(h, f.Partition.Start, f.Volume.Serial, f.Volume.Kind)
	}
	fmt.Fprintln(h, c.Layout.Sectors, n)
	copy(id[:], h.Sum(nil))
	id[7], id[8] = id[7]&0x0F|0x80, id[8]&0x3F|0x80
	return id
}

// plainName are the names that sfdisk takes as they stand.
var plainName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9 ._-]*$`)

// rebuildCommands write the table. sfdisk(8), "INPUT FORMATS".
func rebuildCommands(r machine.Record) []Command {
	lines := []any{"%s\n", "label: dos", fmt.Sprintf("label-id: 0x%08x", r.Signature)}
	if r.Style == disk.StyleGPT {
		lines = []any{"%s\n", "label: gpt", "label-id: " + r.ID.String()}
		if r.FirstLBA > 0 {
			lines = append(lines, fmt.Sprint("first-lba: ", r.FirstLBA))
		}
	}
	for _, p := range r.Partitions {
		text := fmt.Sprintf("p%d : start=%d, size=%d", p.Number, p.Start, p.Length)
		switch {
		case r.Style == disk.StyleGPT:
			text += fmt.Sprintf(", type=%s, uuid=%s", p.TypeGUID, p.GUID)
			if plainName.MatchString(p.Name) {
				text += fmt.Sprintf(", name=%q", p.Name)
			}
			if a := attributes(p.Attributes); a != "" {
				text += fmt.Sprintf(", attrs=%q", a)
			}
		case p.Active:
			text += fmt.Sprintf(", type=%x, bootable", p.MBRType)
		default:
			text += fmt.Sprintf(", type=%x", p.MBRType)
		}
		lines = append(lines, text)
	}
	write := command.Run("sfdisk", "--no-reread", "--force", "--wipe", "never", "--wipe-partitions", "never", onClone)
	return sfdisk(command.Pipe(command.Run(append([]any{"printf"}, lines...)...), write), "Created a new … label, and for each partition: Created a new partition.")
}

// attributes are a GPT entry's as sfdisk names them.
func attributes(bits uint64) string {
	var list []string
	for n, name := range []string{"RequiredPartition", "NoBlockIOProtocol", "LegacyBIOSBootable"} {
		if bits&(1<<n) != 0 {
			list = append(list, name)
		}
	}
	for n := 48; n < 64; n++ {
		if bits&(1<<n) != 0 {
			list = append(list, fmt.Sprintf("GUID:%d", n))
		}
	}
	return strings.Join(list, ",")
}
