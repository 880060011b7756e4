package capture

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
)

// maxDescription bounds a description file, in bytes.
const maxDescription = 1 << 20

// Load reads a machine's description and examines its drives, which are opened
// read-only. File names are relative to the description. Errors name the key and what
// was expected.
func Load(path string) (machine.Machine, error) {
	f, err := os.Open(path)
	if err != nil {
		return machine.Machine{}, err
	}
	defer f.Close()
	raw, err := io.ReadAll(io.LimitReader(f, maxDescription+1))
	if err != nil {
		return machine.Machine{}, err
	}
	if len(raw) > maxDescription {
		return machine.Machine{}, fmt.Errorf("%s: more than %d bytes", path, maxDescription)
	}
	desc, err := ParseDescription(raw)
	if err != nil {
		return machine.Machine{}, fmt.Errorf("%s: %w", path, err)
	}
	l := &loading{dir: filepath.Dir(path)}
	defer l.close()
	m, err := l.build(desc)
	if err != nil {
		return machine.Machine{}, fmt.Errorf("%s: %w", path, err)
	}
	return m, nil
}

// LoadDisk examines one disk: an image, a capture, or a device, which is opened read-only. A
// sector size of 0 is the capture's own, and 512 bytes for what does not tell.
func LoadDisk(path string, sectorSize int) (*machine.Contents, error) {
	l := &loading{dir: "."}
	defer l.close()
	d := DriveDescription{File: path}
	if sectorSize != 0 {
		d.LogicalSectorSize = &sectorSize
	}
	return l.open(d, nil, &machine.Hardware{})
}

// loading opens the files of a description, which are closed when the disks have been
// examined.
type loading struct {
	dir   string
	files []io.Closer
}

func (l *loading) close() {
	for _, f := range l.files {
		f.Close()
	}
}

func (l *loading) build(desc Description) (machine.Machine, error) {
	b, _ := firmware.Named(desc.Firmware.Behaviour)
	m := machine.Machine{DeviceOrder: desc.DeviceOrder, Answers: desc.Answers, Until: machine.Until(desc.Until),
		Firmware: firmware.Settings{
			Mode: tell[firmware.Mode](desc.Firmware.Mode), Arch: tell[firmware.Arch](desc.Firmware.Arch),
			SecureBoot: fact.Maybe(desc.Firmware.SecureBoot), Behaviour: b.Tell(desc.Firmware.Choices),
			StorageMode:       fact.Maybe(desc.Firmware.StorageMode),
			StorageModeBefore: fact.Maybe(desc.Firmware.StorageModeBefore),
		}}
	var paths []string
	if desc.Firmware.BootEntries != "" {
		entries, err := readBootEntries(l.path(desc.Firmware.BootEntries))
		if err != nil {
			return m, fmt.Errorf("firmware.bootEntries: %w", err)
		}
		m.Firmware.Entries = entries
		paths = entries.Files()
	}
	for i, d := range desc.Drives {
		hardware := machine.Hardware{}
		contents, err := l.open(d, paths, &hardware)
		if err != nil {
			return m, fmt.Errorf("drives[%d]: %w", i, err)
		}
		m.Drives = append(m.Drives, machine.Drive{
			Name: d.Name, Role: machine.Role(d.Role), Bus: fact.Maybe(d.Bus), Port: fact.Maybe(d.Port),
			Controller: fact.Maybe(d.Controller),
			Attached:   fact.Maybe(d.Attached), Shown: fact.Maybe(d.Shown), Hardware: hardware, Contents: contents,
		})
	}
	return m, nil
}

func tell[T ~string](s *string) fact.Of[T] {
	if s == nil {
		return fact.Unknown[T]()
	}
	return fact.Tell(T(*s))
}

func (l *loading) path(name string) string {
	if filepath.IsAbs(name) {
		return name
	}
	return filepath.Join(l.dir, name)
}

// open opens a drive's files and examines the disk; nil when no file is given. A capture tells of the
// drive, too.
func (l *loading) open(d DriveDescription, paths []string, h *machine.Hardware) (*machine.Contents, error) {
	if d.File == "" {
		return nil, nil
	}
	head, size, err := l.openFile(l.path(d.File))
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
		*h = machine.Hardware{Bus: c.Bus, Serial: c.Serial}
		r, capacity, sectorSize, counts = c.Sectors, c.Capacity, c.LogicalSectorSize, c.Counts
	case d.Capacity != nil || d.Tail != "":
		if r, capacity, err = l.ends(d, head, size); err != nil {
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
func (l *loading) ends(d DriveDescription, head io.ReaderAt, size int64) (io.ReaderAt, int64, error) {
	capacity := size
	if d.Capacity != nil {
		capacity = *d.Capacity
	}
	var tail io.ReaderAt
	var tailLen int64
	if d.Tail != "" {
		var err error
		if tail, tailLen, err = l.openFile(l.path(d.Tail)); err != nil {
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

// openFile opens a file of the description, to be closed when its disk has been examined.
func (l *loading) openFile(path string) (io.ReaderAt, int64, error) {
	f, size, err := openSized(path)
	if err == nil {
		l.files = append(l.files, f)
	}
	return f, size, err
}
