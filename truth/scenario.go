package truth

import (
	"cmp"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"latchkey/capture"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
)

// Scenario is a machine whose start is computed and then tried.
type Scenario struct {
	Name     string
	Firmware Firmware
	Drives   []Drive
	// Order names the drives in the order in which the firmware goes through them;
	// empty is the order of Drives.
	Order     []string
	Entries   []diskmaker.Entry
	BootOrder []uint16 // nil is the order of Entries
	Next      *uint16
	// Kept are variables in which a boot loader keeps what was chosen of its menu.
	Kept map[string]string
	// Answers are given to the check's questions, by their names.
	Answers map[string]string
	// Whole judges the start to its end, not up to the hand-over.
	Whole bool
	// Menu judges which program a boot loader's menu starts: what each of its files does.
	Menu map[string]string
	// Limit is how long a start may take; 0 is what the firmware needs.
	Limit time.Duration
	// Shows is what a start that stops must say on the serial port, as a regular expression.
	Shows string
	// After is how long it may still go on when it has shown that; 0 is afterShown.
	After time.Duration
	Smoke bool // one of the few that the tests start every time
}

// Drive is a drive of a scenario.
type Drive struct {
	Name  string
	Role  string // "clone" when empty
	Bus   string // "sata" when empty
	Disk  diskmaker.Disk
	Spoil func(*diskmaker.Image) *diskmaker.Image // changes the disk after it was built
	// Make builds the disk in another way than from the declaration alone; it may
	// use a folder.
	Make     func(dir string) (*diskmaker.Image, error)
	Presents int // logical sector size of the port it hangs on; 0 is the disk's own
	Detached bool
	// BootIndex is the place in the legacy order; set from Order.
	BootIndex int
}

// unplugged is an original that is not in the machine any more.
func unplugged() Drive {
	return Drive{Name: "a", Role: "original", Bus: "nvme", Detached: true, Disk: diskmaker.Disk{Sectors: diskSize / 512}}
}

// Called is the name under which a scenario is asked for.
func (s *Scenario) Called() string { return string(s.Firmware) + ": " + s.Name }

// tag is what the marker at a place says of itself.
func tag(drive string, partition int, loader string) string {
	if strings.Contains(strings.ToUpper(loader), "EFI") {
		loader = `\` + strings.TrimLeft(strings.NewReplacer(`\\`, `\`, "/", `\`).Replace(loader), `\`)
	}
	return fmt.Sprintf("%s:%d:%s", drive, partition, strings.ReplaceAll(loader, " ", "-"))
}

// Prepare writes the scenario's files to dir: images, boot variables, and the
// description of the machine for the check. It returns the description's path.
func (s *Scenario) Prepare(dir string) (string, error) {
	s.defaults()
	desc := capture.Description{DeviceOrder: s.Order, Answers: s.Answers, Until: string(machine.UntilLoader)}
	if s.Whole || s.Menu != nil {
		desc.Until = ""
	}
	mode, arch, secure := "uefi", string(s.Firmware.arch()), s.Firmware.secure()
	desc.Firmware.Behaviour = "edk2"
	if !s.Firmware.UEFI() {
		mode, desc.Firmware.Behaviour = "legacy", "seabios"
	}
	desc.Firmware.Mode, desc.Firmware.Arch, desc.Firmware.SecureBoot = &mode, &arch, &secure
	if s.Firmware.UEFI() {
		desc.Firmware.BootEntries = "vars"
		if err := s.writeVariables(filepath.Join(dir, "vars")); err != nil {
			return "", err
		}
	}
	for i := range s.Drives {
		d := &s.Drives[i]
		image, err := d.build(dir)
		if err != nil {
			return "", fmt.Errorf("drive %s: %w", d.Name, err)
		}
		if err := image.WriteFile(filepath.Join(dir, d.Name+".img")); err != nil {
			return "", err
		}
		attached := !d.Detached
		size := image.SectorSize
		if d.Presents != 0 {
			size = d.Presents
		}
		port := i // as devices attaches them
		described := capture.DriveDescription{Port: &port, Name: d.Name, Role: d.Role,
			File: d.Name + ".img", Bus: &d.Bus, Attached: &attached, LogicalSectorSize: &size}
		if d.Bus == "nvme" {
			controller := firmware.PCINode(firstNVMe+byte(i), 0)
			described.Controller = &controller
		}
		desc.Drives = append(desc.Drives, described)
	}
	raw, err := json.MarshalIndent(desc, "", "  ")
	if err != nil {
		return "", err
	}
	path := filepath.Join(dir, "machine.json")
	return path, os.WriteFile(path, raw, 0o600)
}

func (s *Scenario) defaults() {
	for i := range s.Drives {
		d := &s.Drives[i]
		if d.Role == "" {
			d.Role = "clone"
		}
		if d.Bus == "" {
			d.Bus = "sata"
		}
	}
	if s.Order == nil {
		for _, d := range s.Drives {
			s.Order = append(s.Order, d.Name)
		}
	}
	if s.Firmware == SeaBIOS {
		for i := range s.Drives {
			s.Drives[i].BootIndex = 1 + slices.Index(s.Order, s.Drives[i].Name)
		}
	}
}

func (d Drive) build(dir string) (*diskmaker.Image, error) {
	build := func(string) (*diskmaker.Image, error) { return d.Disk.Build() }
	if d.Make != nil {
		build = d.Make
	}
	image, err := build(dir)
	if err == nil && d.Spoil != nil {
		image = d.Spoil(image)
	}
	return image, err
}

func (s *Scenario) variables() map[string][]byte {
	order := s.BootOrder
	if order == nil {
		order = []uint16{}
		for _, e := range s.Entries {
			order = append(order, e.Number)
		}
	}
	files := diskmaker.Variables(s.Entries, order, s.Next)
	for name, text := range s.Kept {
		for _, c := range text + "\x00" {
			files[name] = binary.LittleEndian.AppendUint16(files[name], uint16(c))
		}
	}
	return files
}

func (s *Scenario) writeVariables(dir string) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	if s.Firmware.secure() {
		store, err := s.Firmware.store()
		if err != nil {
			return err
		}
		db := firmware.TrustVariables[0]
		raw := append([]byte{0x27, 0, 0, 0}, holds(store, db[0])...) // its attributes come first
		if err := os.WriteFile(filepath.Join(dir, db[0]+"-"+db[1]), raw, 0o600); err != nil {
			return err
		}
	}
	for name, value := range s.variables() {
		path := filepath.Join(dir, name+"-"+vendorOf(name).String())
		if err := os.WriteFile(path, append([]byte{7, 0, 0, 0}, value...), 0o600); err != nil {
			return err
		}
	}
	return nil
}

// Compute runs the check of a prepared scenario.
func Compute(description string) (startup.Trace, error) {
	m, err := capture.Load(description)
	if err != nil {
		return startup.Trace{}, err
	}
	return startup.Simulate(m), nil
}

// Try starts a prepared scenario in the real firmware.
func (s *Scenario) Try(dir string, limit time.Duration) (Result, error) {
	args, err := s.arguments(dir)
	if err != nil {
		return Result{}, err
	}
	if s.Shows == "" {
		return boot(dir, args, limit)
	}
	after := cmp.Or(s.After, afterShown)
	if s.Menu != nil {
		after = 3 * time.Second
	}
	return bootUntil(dir, args, limit, stopsShowing(regexp.MustCompile(s.Shows), after))
}

// afterShown is how long a start that shows what a stop shows may still go on.
const afterShown = 40 * time.Second

// stopsShowing ends a start a while after it has shown what it is to show.
func stopsShowing(words *regexp.Regexp, after time.Duration) func(serial string) Result {
	var first time.Time
	return func(serial string) Result {
		r := readSerial(serial)
		switch {
		case r.Ended != "":
		case first.IsZero():
			if words.MatchString(serial) {
				first = time.Now()
			}
		case time.Since(first) > after:
			r.Ended = "shown"
		}
		return r
	}
}

// arguments prepares the firmware's variables and returns QEMU's arguments.
func (s *Scenario) arguments(dir string) ([]string, error) {
	var vars []byte
	if s.Firmware.UEFI() {
		store, err := s.Firmware.store()
		if err != nil {
			return nil, err
		}
		if vars, err = withVariables(store, s.variables()); err != nil {
			return nil, err
		}
	}
	return arguments(s.Firmware, dir, s.Drives, vars)
}

// keepingVariables are the arguments for a machine whose firmware keeps what it was left with.
func (s *Scenario) keepingVariables(dir string) ([]string, error) {
	file := filepath.Join(dir, "vars.fd")
	kept, err := os.ReadFile(file)
	if err != nil && !os.IsNotExist(err) {
		return nil, err
	}
	args, err := s.arguments(dir)
	if err != nil || kept == nil {
		return args, err
	}
	return args, os.WriteFile(file, kept, 0o600)
}

// Disagreement says how a computed trace and a real start differ; "" when they
// agree.
func (s *Scenario) Disagreement(t startup.Trace, r Result) string {
	switch {
	case s.Whole:
		return s.wholeDisagreement(t, r)
	case s.Menu != nil:
		return menuDisagreement(s.Menu, t, r)
	}
	if r.Mark == "" {
		if t.Verdict != startup.Stops {
			return fmt.Sprintf("computed %s, nothing was started (%s)", outcome(t), r.Ended)
		}
		return ""
	}
	computed := tag(t.Drive, t.Partition, t.Loader)
	switch {
	case t.Verdict == startup.Depends:
		return "computed depends, started " + r.Mark
	case t.Verdict == startup.Stops:
		return fmt.Sprintf("computed %s, started %s", outcome(t), r.Mark)
	case t.Partition == 0 && t.Loader == startup.LoaderBootCode && strings.HasPrefix(r.Mark, t.Drive+":"):
		// Code that goes on to where the table tells of no partition: the marker's name is its own.
	case !strings.EqualFold(computed, r.Mark):
		return fmt.Sprintf("computed %s, started %s", computed, r.Mark)
	case t.Entry != s.entryOf(r):
		return fmt.Sprintf("computed entry %q, started by %q", t.Entry, s.entryOf(r))
	}
	return ""
}

// entryOf returns the entry that led to the start, "" for one that the firmware
// made by itself.
func (s *Scenario) entryOf(r Result) string {
	for _, e := range s.Entries {
		if name := fmt.Sprintf("%04X", e.Number); name == r.Entry {
			return name
		}
	}
	return ""
}

func outcome(t startup.Trace) string {
	switch t.Verdict {
	case startup.Stops:
		return "stops at " + string(t.Stage)
	case startup.Depends:
		return "depends"
	}
	return tag(t.Drive, t.Partition, t.Loader)
}
