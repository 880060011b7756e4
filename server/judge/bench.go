package judge

import (
	"context"
	"fmt"
	"slices"

	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/startup"
)

// Bench is a machine put together of parts, and of disks of any case.
type Bench struct {
	Mode       *string `json:"mode,omitempty" enum:"uefi,legacy,uefi-csm"`
	Arch       *string `json:"arch,omitempty" enum:"x64,ia32,arm64"`
	SecureBoot *bool   `json:"secureBoot,omitempty"`
	Behaviour  string  `json:"behaviour,omitempty" enum:"generic,edk2,seabios" doc:"Whose choices the firmware makes; generic leaves them unknown"`
	// Choices are single choices of the firmware; each wins over the named behaviour.
	Choices map[string]bool `json:"choices,omitempty" doc:"Single choices of the firmware by their keys; each wins over the named behaviour"`
	Drives  []BenchDrive    `json:"drives" maxItems:"8" doc:"In the order in which the firmware comes to them"`
	// EntriesOf is the case whose boot entries the firmware holds; 0 is none.
	EntriesOf uint64            `json:"entriesOf,omitempty"`
	BootOrder []string          `json:"bootOrder,omitempty" maxItems:"128"`
	Answers   map[string]string `json:"answers,omitempty"`
}

// BenchDrive is a disk of a case on a port of the bench's machine.
type BenchDrive struct {
	Case uint64 `json:"case"`
	Disk string `json:"disk" enum:"original,clone" doc:"Which disk of the case"`
	As   string `json:"as" enum:"original,clone,other" doc:"What it is in this machine"`
	Bus  string `json:"bus,omitempty" enum:"sata,nvme,usb,ide,scsi,virtio,sd"`
	On   bool   `json:"on" doc:"Attached, with its port switched on"`
}

// Benched is what the machine on the bench did.
type Benched struct {
	Trace   startup.Trace  `json:"trace"`
	Drives  []BenchedDrive `json:"drives"`
	Entries []BootEntry    `json:"entries"`
}

// BenchedDrive is a drive of the bench with its pins.
type BenchedDrive struct {
	Name  string        `json:"name"`
	Role  machine.Role  `json:"role"`
	Title string        `json:"title" doc:"The case and the disk it came from"`
	Size  *Size         `json:"size,omitempty"`
	Pins  []startup.Pin `json:"pins"`
}

// SwitchOn simulates a machine on the bench. It changes nothing.
func (j *Judge) SwitchOn(ctx context.Context, b Bench) (*Benched, error) {
	m, titles, err := j.build(ctx, b)
	if err != nil {
		return nil, err
	}
	back, err := j.room.simulating(ctx, m, 1)
	if err != nil {
		return nil, err
	}
	defer back()
	out := &Benched{Trace: startup.Simulate(m), Drives: []BenchedDrive{}, Entries: bootEntries(m.Firmware.Entries)}
	for i := range m.Drives {
		d := &m.Drives[i]
		drive := BenchedDrive{Name: d.Name, Role: d.Role, Title: titles[i], Pins: startup.Pins(m, d.Name)}
		if d.Contents != nil {
			if bytes, known := d.Contents.Size(); known {
				size := sizeOf(bytes)
				drive.Size = &size
			}
		}
		out.Drives = append(out.Drives, drive)
	}
	return out, nil
}

func (j *Judge) build(ctx context.Context, b Bench) (m machine.Machine, titles []string, err error) {
	behaviour, ok := firmware.Named(b.Behaviour)
	if !ok {
		return m, nil, &BadChange{fmt.Sprintf("behaviour is %q: expected generic, edk2 or seabios", b.Behaviour)}
	}
	m.Answers = b.Answers
	m.Firmware = firmware.Settings{Mode: tell[firmware.Mode](b.Mode), Arch: tell[firmware.Arch](b.Arch),
		SecureBoot: fact.Maybe(b.SecureBoot), Behaviour: behaviour.Tell(b.Choices)}
	if err := j.lendEntries(ctx, &m, b); err != nil {
		return m, nil, err
	}
	clones := 0
	for i, d := range b.Drives {
		drive, title, err := j.lend(ctx, &m, i, d)
		if err != nil {
			return m, nil, err
		}
		if drive.Role == machine.RoleClone {
			clones++
		}
		m.Drives, titles = append(m.Drives, drive), append(titles, title)
		m.DeviceOrder = append(m.DeviceOrder, drive.Name)
	}
	if clones > 1 {
		return m, nil, &BadChange{"drives: expected at most one clone"}
	}
	return m, titles, nil
}

// lendEntries takes the boot entries of a case into the machine.
func (j *Judge) lendEntries(ctx context.Context, m *machine.Machine, b Bench) error {
	order, err := BootOrder(b.BootOrder)
	if err != nil {
		return &BadChange{"bootOrder: " + err.Error()}
	}
	m.Firmware.Entries = &firmware.Entries{All: map[uint16]firmware.Entry{}}
	if b.EntriesOf == 0 {
		return nil
	}
	c, err := j.store.Get(ctx, b.EntriesOf)
	if err != nil {
		return err
	}
	a, err := j.assemble(ctx, c)
	if err != nil {
		return err
	}
	if a.machine.Firmware.Entries != nil {
		m.Firmware.Entries = a.machine.Firmware.Entries
	}
	reorder(&m.Firmware, order)
	return nil
}

// lend takes a disk of a case as a drive of the bench's machine.
func (j *Judge) lend(ctx context.Context, m *machine.Machine, i int, b BenchDrive) (machine.Drive, string, error) {
	c, err := j.store.Get(ctx, b.Case)
	if err != nil {
		return machine.Drive{}, "", fmt.Errorf("drives[%d]: %w", i, err)
	}
	a, err := j.assemble(ctx, c, m.Firmware.Entries.Files()...)
	if err != nil {
		return machine.Drive{}, "", err
	}
	at := slices.IndexFunc(a.machine.Drives, func(d machine.Drive) bool { return d.Name == b.Disk })
	if at < 0 || !slices.Contains([]string{"original", "clone", "other"}, b.As) {
		return machine.Drive{}, "", &BadChange{fmt.Sprintf("drives[%d]: expected a disk of the case as original, clone or other", i)}
	}
	d := a.machine.Drives[at]
	lent := machine.Drive{Name: string(rune('a' + i)), Role: machine.Role(b.As), Attached: fact.Tell(b.On),
		Bus: d.Bus, Contents: d.Contents}
	if b.Bus != "" {
		lent.Bus = fact.Tell(b.Bus)
	}
	return lent, c.Title + ", " + b.Disk, nil
}
