package capture

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
)

// Description is the file that describes a machine to `latchkey check`.
// Documented, with its JSON schema, in docs/formats.md.
type Description struct {
	Firmware    FirmwareDescription `json:"firmware"`
	Drives      []DriveDescription  `json:"drives"`
	DeviceOrder []string            `json:"deviceOrder"`
	Until       string              `json:"until"`
	Answers     map[string]string   `json:"answers"` // to the questions of a check, by their ID
}

// FirmwareDescription holds the firmware's settings; absent ones are unknown.
type FirmwareDescription struct {
	Mode       *string `json:"mode"`
	Arch       *string `json:"arch"`
	SecureBoot *bool   `json:"secureBoot"`
	// StorageMode is the storage controller's mode now, StorageModeBefore when the
	// system last ran: ahci or raid.
	StorageMode       *string `json:"storageMode"`
	StorageModeBefore *string `json:"storageModeBefore"`
	Behaviour         string  `json:"behaviour"`
	BootEntries       string  `json:"bootEntries"` // file with the firmware's boot entries as Linux lists them, or a folder of raw variables
	BehaviourFacts
}

// BehaviourFacts are the single choices of a firmware; each wins over the named
// behaviour.
type BehaviourFacts struct {
	FallbackOnFixedDisks     *bool `json:"fallbackOnFixedDisks,omitempty"`
	UsesBackupGPT            *bool `json:"usesBackupGPT,omitempty"`
	StartsAnyFATPartition    *bool `json:"startsAnyFATPartition,omitempty"`
	NeedsProtectiveMBR       *bool `json:"needsProtectiveMBR,omitempty"`
	NeedsProtectiveSignature *bool `json:"needsProtectiveSignature,omitempty"`
	EntryMatchesByGUIDAlone  *bool `json:"entryMatchesByGUIDAlone,omitempty"`
	EntryMatchesMoved        *bool `json:"entryMatchesMoved,omitempty"`
	SkipsMisplacedPartitions *bool `json:"skipsMisplacedPartitions,omitempty"`
	RefusesInconsistentMBR   *bool `json:"refusesInconsistentMBR,omitempty"`
	StartsSmallFAT32         *bool `json:"startsSmallFAT32,omitempty"`
	ReadsUnsignedFAT         *bool `json:"readsUnsignedFAT,omitempty"`
	StartsLargeUSB           *bool `json:"startsLargeUSB,omitempty"`
	StartsLargeVirtio        *bool `json:"startsLargeVirtio,omitempty"`
	StartsFromNVMe           *bool `json:"startsFromNVMe,omitempty"`
	StartsFromUSB            *bool `json:"startsFromUSB,omitempty"`
	ReadsMacVolumes          *bool `json:"readsMacVolumes,omitempty"`
	TriesNextDisk            *bool `json:"triesNextDisk,omitempty"`
	RunsEmptyBootCode        *bool `json:"runsEmptyBootCode,omitempty"`
}

// DriveDescription is one drive; absent facts are unknown.
type DriveDescription struct {
	Name              string  `json:"name"`
	Role              string  `json:"role"`
	File              string  `json:"file"`     // raw image, capture, or the first part of an image
	Tail              string  `json:"tail"`     // the last part, when File is not whole
	Capacity          *int64  `json:"capacity"` // bytes, when File is only the first part
	Bus               *string `json:"bus"`
	Port              *int    `json:"port"` // of its SATA or USB controller, from 0
	Attached          *bool   `json:"attached"`
	Shown             *bool   `json:"shown"`             // in the firmware's boot list
	LogicalSectorSize *int    `json:"logicalSectorSize"` // bytes; absent is 512
}

// Apply lets the single facts win over a named behaviour.
func (f BehaviourFacts) Apply(b *firmware.Behaviour) {
	for given, target := range map[*bool]*fact.Of[bool]{
		f.FallbackOnFixedDisks: &b.FallbackOnFixedDisks, f.UsesBackupGPT: &b.UsesBackupGPT,
		f.StartsAnyFATPartition: &b.StartsAnyFATPartition, f.NeedsProtectiveMBR: &b.NeedsProtectiveMBR,
		f.NeedsProtectiveSignature: &b.NeedsProtectiveSignature, f.EntryMatchesMoved: &b.EntryMatchesMoved,
		f.SkipsMisplacedPartitions: &b.SkipsMisplacedPartitions, f.RefusesInconsistentMBR: &b.RefusesInconsistentMBR,
		f.StartsSmallFAT32:        &b.StartsSmallFAT32,
		f.EntryMatchesByGUIDAlone: &b.EntryMatchesByGUIDAlone, f.StartsFromNVMe: &b.StartsFromNVMe,
		f.StartsFromUSB: &b.StartsFromUSB, f.ReadsMacVolumes: &b.ReadsMacVolumes, f.TriesNextDisk: &b.TriesNextDisk, f.RunsEmptyBootCode: &b.RunsEmptyBootCode,
	} {
		if given != nil {
			*target = fact.Tell(*given)
		}
	}
}

// Loaded is a machine read from a description, with the files it holds open.
type Loaded struct {
	Machine machine.Machine
	files   []io.Closer
}

// Close closes the files of the drives.
func (l *Loaded) Close() error {
	var errs []error
	for _, f := range l.files {
		errs = append(errs, f.Close())
	}
	return errors.Join(errs...)
}

// maxDescription bounds a description file, in bytes.
const maxDescription = 1 << 20

// Load reads a machine's description and opens its drives read-only. File names
// are relative to the description. Errors name the key and what was expected.
func Load(path string) (*Loaded, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	raw, err := io.ReadAll(io.LimitReader(f, maxDescription+1))
	if err != nil {
		return nil, err
	}
	if len(raw) > maxDescription {
		return nil, fmt.Errorf("%s: more than %d bytes", path, maxDescription)
	}
	desc, err := ParseDescription(raw)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	l := &Loaded{}
	if err := l.build(desc, filepath.Dir(path)); err != nil {
		l.Close()
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return l, nil
}

// ParseDescription decodes and checks a description without opening its files.
func ParseDescription(raw []byte) (Description, error) {
	var d Description
	dec := json.NewDecoder(bytes.NewReader(raw))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&d); err != nil {
		var syntax *json.SyntaxError
		if errors.As(err, &syntax) {
			line := 1 + bytes.Count(raw[:min(int(syntax.Offset), len(raw))], []byte("\n"))
			return d, fmt.Errorf("line %d: %w", line, err)
		}
		return d, err
	}
	if dec.More() {
		return d, errors.New("more follows after the description")
	}
	return d, d.validate()
}

func oneOf(key, value string, allowed ...string) error {
	if slices.Contains(allowed, value) {
		return nil
	}
	return fmt.Errorf("%s is %q: expected one of %q", key, value, allowed)
}

// Buses lists the buses a drive can hang on.
var Buses = []string{"sata", "nvme", "usb", "ide", "scsi", "virtio", "sd"}

func (d Description) validate() error {
	var errs []error
	add := func(err error) { errs = append(errs, err) }
	if d.Firmware.Mode != nil {
		add(oneOf("firmware.mode", *d.Firmware.Mode, "uefi", "legacy", "uefi-csm"))
	}
	if d.Firmware.Arch != nil {
		add(oneOf("firmware.arch", *d.Firmware.Arch, "x64", "ia32", "arm64"))
	}
	for key, mode := range map[string]*string{"firmware.storageMode": d.Firmware.StorageMode, "firmware.storageModeBefore": d.Firmware.StorageModeBefore} {
		if mode != nil {
			add(oneOf(key, *mode, "ahci", "raid"))
		}
	}
	if _, ok := firmware.Named(d.Firmware.Behaviour); !ok {
		add(oneOf("firmware.behaviour", d.Firmware.Behaviour, "generic", "edk2", "seabios"))
	}
	if d.Until != "" {
		add(oneOf("until", d.Until, "loader", "configuration"))
	}
	if len(d.Drives) == 0 {
		add(errors.New("drives is empty: expected at least one drive"))
	}
	names := []string{}
	for i, drive := range d.Drives {
		key := fmt.Sprintf("drives[%d]", i)
		if drive.Name == "" || slices.Contains(names, drive.Name) {
			add(fmt.Errorf("%s.name is %q: expected a name of its own", key, drive.Name))
		}
		names = append(names, drive.Name)
		add(drive.validate(key))
	}
	seen := map[string]bool{}
	for i, name := range d.DeviceOrder {
		if !slices.Contains(names, name) || seen[name] {
			add(fmt.Errorf("deviceOrder[%d] is %q: expected the name of a drive, once", i, name))
		}
		seen[name] = true
	}
	return errors.Join(errs...)
}

func (d DriveDescription) validate(key string) error {
	var errs []error
	errs = append(errs, oneOf(key+".role", d.Role, "original", "clone", "other"))
	if d.Bus != nil {
		errs = append(errs, oneOf(key+".bus", *d.Bus, Buses...))
	}
	if s := d.LogicalSectorSize; s != nil && *s != 512 && *s != 4096 {
		errs = append(errs, fmt.Errorf("%s.logicalSectorSize is %d: expected 512 or 4096", key, *s))
	}
	if p := d.Port; p != nil && (*p < 0 || *p > 255) {
		errs = append(errs, fmt.Errorf("%s.port is %d: expected 0 to 255", key, *p))
	}
	if c := d.Capacity; c != nil && (*c <= 0 || *c > disk.MaxSize) {
		errs = append(errs, fmt.Errorf("%s.capacity is %d: expected a positive number of bytes, at most %d", key, *c, int64(disk.MaxSize)))
	}
	if d.File == "" && d.Tail != "" {
		errs = append(errs, fmt.Errorf("%s.tail is given without file", key))
	}
	return errors.Join(errs...)
}

func (l *Loaded) build(desc Description, dir string) error {
	b, _ := firmware.Named(desc.Firmware.Behaviour)
	desc.Firmware.Apply(&b)
	l.Machine = machine.Machine{DeviceOrder: desc.DeviceOrder, Answers: desc.Answers, Until: machine.Until(desc.Until), Firmware: firmware.Settings{
		Mode: tell[firmware.Mode](desc.Firmware.Mode), Arch: tell[firmware.Arch](desc.Firmware.Arch),
		SecureBoot: fact.Maybe(desc.Firmware.SecureBoot), Behaviour: b,
		StorageMode: fact.Maybe(desc.Firmware.StorageMode), StorageModeBefore: fact.Maybe(desc.Firmware.StorageModeBefore),
	}}
	var paths []string
	if desc.Firmware.BootEntries != "" {
		entries, err := readBootEntries(resolve(dir, desc.Firmware.BootEntries))
		if err != nil {
			return fmt.Errorf("firmware.bootEntries: %w", err)
		}
		l.Machine.Firmware.Entries = entries
		paths = entries.Files()
	}
	for i, d := range desc.Drives {
		contents, err := l.open(d, dir, paths)
		if err != nil {
			return fmt.Errorf("drives[%d]: %w", i, err)
		}
		l.Machine.Drives = append(l.Machine.Drives, machine.Drive{
			Name: d.Name, Role: machine.Role(d.Role), Bus: fact.Maybe(d.Bus), Port: fact.Maybe(d.Port), Attached: fact.Maybe(d.Attached), Shown: fact.Maybe(d.Shown), Contents: contents,
		})
	}
	return nil
}

func tell[T ~string](s *string) fact.Of[T] {
	if s == nil {
		return fact.Unknown[T]()
	}
	return fact.Tell(T(*s))
}

func resolve(dir, name string) string {
	if filepath.IsAbs(name) {
		return name
	}
	return filepath.Join(dir, name)
}

// open opens a drive's files and examines the disk; nil when no file is given.
func (l *Loaded) open(d DriveDescription, dir string, paths []string) (*machine.Contents, error) {
	if d.File == "" {
		return nil, nil
	}
	head, size, err := l.openFile(resolve(dir, d.File))
	if err != nil {
		return nil, fmt.Errorf("file: %w", err)
	}
	start, err := beginning(head, size)
	if err != nil {
		return nil, fmt.Errorf("file %s: %w", d.File, err)
	}
	var r io.ReaderAt = head
	var counts []disk.Count
	capacity, sectorSize := size, 512
	switch {
	case IsCapture(start):
		c, err := ReadCapture(head, size)
		if err != nil {
			return nil, fmt.Errorf("file %s: %w", d.File, err)
		}
		l.files = append(l.files, c)
		r, capacity, sectorSize, counts = c.Sectors, c.Capacity, c.LogicalSectorSize, c.Counts
	case d.Capacity != nil || d.Tail != "":
		if r, capacity, err = l.ends(d, dir, head, size); err != nil {
			return nil, err
		}
		fallthrough
	default:
		if err := refuse(start); err != nil {
			return nil, fmt.Errorf("file %s: %w", d.File, err)
		}
	}
	if d.LogicalSectorSize != nil {
		sectorSize = *d.LogicalSectorSize
	}
	on, err := disk.New(r, capacity, sectorSize)
	if err != nil {
		return nil, fmt.Errorf("file %s: %w", d.File, err)
	}
	on.SetCounts(counts)
	return machine.Examine(on, paths...), nil
}

// ends opens a disk of which only the beginning and perhaps the end are there.
func (l *Loaded) ends(d DriveDescription, dir string, head io.ReaderAt, size int64) (io.ReaderAt, int64, error) {
	capacity := size
	if d.Capacity != nil {
		capacity = *d.Capacity
	}
	var tail io.ReaderAt
	var tailLen int64
	if d.Tail != "" {
		var err error
		if tail, tailLen, err = l.openFile(resolve(dir, d.Tail)); err != nil {
			return nil, 0, fmt.Errorf("tail: %w", err)
		}
	}
	r, err := Ends(head, size, tail, tailLen, capacity)
	return r, capacity, err
}

// beginning reads what is looked at to recognise a file.
func beginning(r io.ReaderAt, size int64) ([]byte, error) {
	start := make([]byte, min(size, 64<<10))
	n, err := r.ReadAt(start, 0)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	return start[:n], nil
}

// refuse turns away what is certainly no disk; a blank or damaged one passes.
func refuse(start []byte) error {
	var not *NotADisk
	if err := Recognise(start, nil); errors.As(err, &not) && !not.Confirmable {
		return not
	}
	return nil
}

// openFile opens a file of the description, to be closed with the machine.
func (l *Loaded) openFile(path string) (io.ReaderAt, int64, error) {
	f, size, err := openSized(path)
	if err == nil {
		l.files = append(l.files, f)
	}
	return f, size, err
}
