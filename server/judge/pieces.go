package judge

import (
	"context"
	"fmt"
	"slices"

	"latchkey/capture/listing"
	"latchkey/core/compare"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/server/store"
)

// assembled is the machine that a case's evidence describes, and where pieces of
// it contradict each other.
type assembled struct {
	machine        machine.Machine
	contradictions []machine.Contradiction
	doubts         []compare.Doubt
}

// read is a listing with where it came from.
type read struct {
	*listing.Listing
	id    uint64
	disks map[string]string
}

// readings reads a case's listings, the newest first. What was read is kept, as
// listings never change.
func (j *Judge) readings(ctx context.Context, c *store.Case) ([]read, error) {
	var out []read
	for i := range c.Listings {
		l, err := j.Reading(ctx, &c.Listings[i])
		if err != nil {
			return nil, err
		}
		out = append(out, read{l, c.Listings[i].ID, c.Listings[i].Disks})
	}
	return out, nil
}

// Reading reads a stored listing.
func (j *Judge) Reading(ctx context.Context, l *store.Listing) (*listing.Listing, error) {
	if kept, ok := j.listings.get(l.ID); ok {
		return kept, nil
	}
	stored, err := j.store.Listing(ctx, l.CaseID, l.ID)
	if err != nil {
		return nil, err
	}
	back, err := j.room.Take(ctx, ListingRoom(stored.Length))
	if err != nil {
		return nil, err
	}
	defer back()
	text, err := stored.Text()
	if err != nil {
		return nil, err
	}
	got, err := listing.Read(l.Filename, text, listing.Format(l.Format))
	if err != nil {
		return nil, fmt.Errorf("listing %d: %w", l.ID, err)
	}
	for i := range got.Disks {
		got.Disks[i].Source.Evidence = l.ID
	}
	j.listings.add(l.ID, got, perListing*int64(len(text))+perDisk)
	return got, nil
}

// perListing is how much memory a reading takes for each byte of its text, at most.
const perListing = 8

// ListingRoom is the room that reading a listing of so many bytes takes.
func ListingRoom(length int) int64 { return 1<<20 + perListing*int64(length) }

// assemble builds the machine that a case describes: bytes first, then listings,
// then what a person tells. more are programs to look for besides those that the
// case's own boot entries name.
func (j *Judge) assemble(ctx context.Context, c *store.Case, more ...string) (*assembled, error) {
	listings, err := j.readings(ctx, c)
	if err != nil {
		return nil, err
	}
	out := &assembled{machine: settings(c), contradictions: []machine.Contradiction{}}
	m := &out.machine
	out.mode(c, listings)
	out.summaries(listings)
	if m.Firmware.Entries, err = j.entriesOf(ctx, c, listings); err != nil {
		return nil, err
	}
	if order, err := BootOrder(c.Firmware.BootOrder); err == nil {
		reorder(&m.Firmware, order)
	}
	paths := slices.Clone(more)
	if m.Firmware.Entries != nil {
		paths = append(paths, m.Firmware.Entries.Files()...)
	}
	for _, d := range c.Drives {
		drive, err := j.drive(ctx, c, d, listings, paths, out)
		if err != nil {
			return nil, fmt.Errorf("the %s's evidence: %w", d.Role, err)
		}
		m.Drives = append(m.Drives, drive)
	}
	out.misplaced(c, listings)
	return out, nil
}

// misplaced looks for disks of listings that were given to one drive and fit the
// other one better.
func (out *assembled) misplaced(c *store.Case, listings []read) {
	for _, l := range listings {
		for i := range l.Disks {
			d := &l.Disks[i]
			given := l.disks[d.Name]
			if given == "" {
				continue
			}
			if fits, why := compare.Belongs(d.Contents(), d.Model, out.machine.Drives, models(c)); fits != "" &&
				fits != given {
				out.doubts = append(out.doubts, compare.Doubt{Kind: "elsewhere",
					Text: fmt.Sprintf("%s of the listing %s was given to the %s, but fits the %s better, %s", d.Name, l.Format, given, fits, why)})
			}
		}
	}
}

// settings takes over the typed facts of the firmware.
func settings(c *store.Case) machine.Machine {
	f := c.Firmware
	m := machine.Machine{Answers: f.Answers, Firmware: firmware.Settings{
		Mode: tell[firmware.Mode](f.Mode), Arch: tell[firmware.Arch](f.Arch), SecureBoot: fact.Maybe(f.SecureBoot),
		Behaviour:   firmware.Behaviour{}.Tell(f.Choices),
		StorageMode: fact.Maybe(f.StorageMode), StorageModeBefore: fact.Maybe(f.StorageModeBefore),
	}}
	if len(c.DeviceOrder) > 0 {
		m.DeviceOrder = c.DeviceOrder
	}
	return m
}

// mode takes the firmware mode that a listing proves, which outranks a typed one.
func (out *assembled) mode(c *store.Case, listings []read) {
	for _, l := range listings {
		mode, known := l.Mode.Get()
		if !known {
			continue
		}
		at := l.Mode.Source()
		at.Evidence = l.id
		if typed, ok := out.machine.Firmware.Mode.Get(); ok && typed != mode && typed != firmware.UEFICSM {
			out.contradictions = append(out.contradictions, machine.Contradiction{What: "firmware mode",
				Stronger: machine.Fact{Label: "firmware mode", Value: string(mode), Source: at},
				Weaker:   machine.Fact{Label: "firmware mode", Value: string(typed), Source: fact.Source{Origin: fact.Typed}}})
		}
		if typed, ok := out.machine.Firmware.Mode.Get(); !ok || typed != firmware.UEFICSM {
			out.machine.Firmware.Mode = fact.Known(mode, at)
		}
		return
	}
}

// summaries takes over what a system's summary tells of the firmware and nobody typed; a
// setting may have been changed since, so that what was typed outranks it.
func (out *assembled) summaries(listings []read) {
	f := &out.machine.Firmware
	for _, l := range listings {
		settle(out, "secure boot", &f.SecureBoot, l.SecureBoot, l.id)
		settle(out, "controller mode", &f.StorageMode, l.StorageMode, l.id)
		settle(out, "the Mac's startup disk", &out.machine.MacStart, l.MacStart, l.id)
	}
}

// settle takes over a fact that a listing tells, or shows that it contradicts the typed
// one.
func settle[T comparable](out *assembled, what string, typed *fact.Of[T], told fact.Of[T], id uint64) {
	value, known := told.Get()
	if !known {
		return
	}
	at := told.Source()
	at.Evidence = id
	switch before, has := typed.Get(); {
	case !has:
		*typed = fact.Known(value, at)
	case before != value && typed.Source().Origin == fact.Typed:
		out.contradictions = append(out.contradictions, machine.Contradiction{What: what,
			Stronger: machine.Fact{Label: what, Value: fmt.Sprint(before), Source: typed.Source()},
			Weaker:   machine.Fact{Label: what, Value: fmt.Sprint(value), Source: at}})
	}
}

// drive joins every piece of evidence about one drive.
func (j *Judge) drive(ctx context.Context, c *store.Case, d store.Drive, listings []read, paths []string,
	out *assembled) (machine.Drive, error) {
	drive := machine.Drive{Name: d.Role, Role: machine.Role(d.Role), Bus: fact.Maybe(d.Bus),
		Attached: fact.Maybe(d.Attached)}
	if told, ok := c.Firmware.Entries[d.Role]; ok {
		drive.HasEntry = fact.Tell(told)
	}
	if shown, ok := c.Firmware.Shown[d.Role]; ok {
		drive.Shown = fact.Tell(shown)
	}
	bytes, err := j.examine(ctx, d.Evidence, paths...)
	if err != nil {
		return drive, err
	}
	if d.Evidence != nil {
		drive.Hardware = machine.Hardware{Bus: d.Evidence.Bus, Serial: d.Evidence.Serial}
		hangsAsRead(&drive, d.Evidence.Bus, fact.Source{Origin: fact.Bytes, Structure: "the capture"})
	}
	pieces := []*machine.Contents{bytes}
	for _, l := range listings {
		for i := range l.Disks {
			if told := &l.Disks[i]; l.disks[told.Name] == d.Role {
				pieces = append(pieces, told.Contents())
				hangsAsRead(&drive, told.Bus, fact.Source{Origin: fact.Text, Structure: string(l.Format),
					Evidence: l.id,
					Line:     told.Line})
			}
		}
	}
	typed, err := d.Told.Describe()
	if err != nil {
		return drive, err
	}
	merged, contradictions := machine.Merge(d.Role, append(pieces, typed.Contents())...)
	if merged != nil {
		for _, l := range listings {
			if l.Store != nil && l.disks[storeName] == d.Role {
				merged.TellStore(l.StorePath, l.Store, fact.Source{Origin: fact.Text, Structure: string(l.Format),
					Drive: d.Role, Evidence: l.id})
			}
		}
	}
	drive.Contents = merged
	for _, l := range listings {
		for _, w := range l.Written {
			if l.disks[w.Name] == d.Role {
				drive.TellWritten(w, fact.Source{Origin: fact.Text, Structure: string(l.Format), Drive: d.Role,
					Evidence: l.id})
			}
		}
	}
	out.contradictions = append(out.contradictions, contradictions...)
	return drive, nil
}

// hangsAsRead takes over how a drive hung when it was read, where nobody told how it hangs
// at the start. An enclosure on USB is for reading: it tells nothing of the start.
func hangsAsRead(d *machine.Drive, bus string, from fact.Source) {
	if _, told := d.Bus.Get(); !told && bus != "" && bus != "usb" {
		d.Bus = fact.Known(bus, from)
	}
}

// storeName stands for the boot configuration store where a listing's disks are
// given to drives.
const storeName = "store"

// entriesOf decodes the boot variables of the newest capture that has any, else
// of the newest listing; nil when none has. Damaged variables are left out, as
// firmware does.
func (j *Judge) entriesOf(ctx context.Context, c *store.Case, listings []read) (*firmware.Entries, error) {
	var newest *store.Evidence
	for _, d := range c.Drives {
		if e := d.Evidence; e != nil && e.Described && (newest == nil || e.ID > newest.ID) {
			newest = e
		}
	}
	if newest != nil {
		if kept, ok := j.entries.get(newest.ID); ok {
			return kept, nil
		}
		in, err := j.store.Inside(ctx, newest.ID)
		if err != nil {
			return nil, err
		}
		size := 0
		for _, v := range in.Variables {
			size += len(v)
		}
		entries, _ := firmware.DecodeVariables(in.Variables)
		j.entries.add(newest.ID, entries, int64(4*size+1024))
		return entries, nil
	}
	var merged *firmware.Entries
	for _, l := range listings {
		if l.Entries == nil {
			continue
		}
		if merged == nil {
			merged = &firmware.Entries{All: map[uint16]firmware.Entry{}, Open: true, OrderOpen: true, NextOpen: true}
		}
		merged.Fill(l.Entries, l.id)
		if len(merged.Order) > 0 && l.Format != listing.Efivar && !merged.Named() {
			break // a whole listing; older ones tell of an older state
		}
	}
	return merged, nil
}
