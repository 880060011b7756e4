package truth

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"latchkey/capture"
	"latchkey/capture/planfile"
	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/machine"
	"latchkey/core/repair"
	"latchkey/core/startup"
)

// StickImage is the stick that scripts/stick made; "" where there is none.
func StickImage() string { return os.Getenv("LATCHKEY_STICK") }

// Sticked is what became of a machine that was started from the stick and repaired there.
type Sticked struct {
	Scenario Scenario
	Brought  bool     // the plan lay on the stick
	Turns    int      // how many times the stick was started
	Shown    []string // the pages, as they were shown
	Same     bool     // the stick's evidence gives the verdict of the images
	Kept     bool     // the original is unchanged to the byte
	Result   Result   // the start after it, without the stick
	Started  bool     // from the clone
	First    time.Duration
	Err      error
}

// stickArguments are QEMU's with the stick on USB before all other drives.
func (s *Scenario) stickArguments(dir, image string) ([]string, error) {
	args, err := s.arguments(dir)
	if err != nil {
		return nil, err
	}
	for i, a := range args {
		if a == "512" && args[i-1] == "-m" {
			args[i] = "768"
		}
	}
	return append(args, "-drive", "if=none,id=stk,format=raw,cache=unsafe,file="+image, "-device",
		"usb-storage,bus=xhci.0,port=4,drive=stk,removable=on,bootindex=0"), nil
}

// withStick makes a stick for a machine: its image, QEMU's arguments with it, and the sum of the
// original before anything is done.
func (s *Scenario) withStick(dir string) (image string, live []string, original [32]byte, err error) {
	// Where one drive is given a place in the order, edk2 under QEMU forgets those that have
	// none: all are given one.
	for i := range s.Drives {
		s.Drives[i].BootIndex = 1 + slices.Index(s.Order, s.Drives[i].Name)
	}
	image = filepath.Join(dir, "stick.img")
	if err = run("cp", "--sparse=always", StickImage(), image); err != nil {
		return image, nil, original, err
	}
	if original, err = s.sumOfOriginal(dir); err != nil {
		return image, nil, original, err
	}
	live, err = s.stickArguments(dir, image)
	return image, live, original, err
}

// Good reports whether everything came out as it is to be.
func (r *Sticked) Good() bool { return r.Err == nil && r.Same && r.Kept && r.Started }

// StickScenarios are the machines, of those whose names match, that are repaired from the stick:
// those whose plan the commands of a live Linux carry out alone.
func StickScenarios(pattern *regexp.Regexp) ([]Scenario, error) {
	chosen, err := repairsOf(func(s Scenario) bool {
		// What only a marker starts on is not proved to its end, and has no plan on the stick.
		return s.Whole && pattern.MatchString(s.Called())
	})
	if err != nil {
		return nil, err
	}
	more := slices.Concat(besideScenarios("nvme"), usbScenarios(), signedBroken())
	if LayoutsFolder() != "" {
		for _, s := range layoutScenarios() {
			if s.Shows != "" { // of those alone the check says that they stop
				more = append(more, s)
			}
		}
		more = append(more, besideLayouts()...)
	}
	if SystemdFolder() != "" {
		for _, s := range comingUpScenarios() {
			if comingUpRepaired.MatchString(s.Name) {
				more = append(more, s)
			}
		}
	}
	for _, s := range more {
		if pattern.MatchString(s.Called()) {
			chosen = append(chosen, s)
		}
	}
	return chosen, nil
}

// OnStickAll repairs machines, workers at a time.
func OnStickAll(list []Scenario, workers int, each func(Sticked)) {
	sideBySide(list, workers, OnStick, func(_ int, r Sticked) { each(r) })
}

// OnStick starts a machine from the stick, has it judged and repaired there as a person would,
// and starts it again without the stick.
func OnStick(s Scenario) Sticked { return onStick(s, false) }

// OnStickByPlan is OnStick by a plan that the application put on the stick.
func OnStickByPlan(s Scenario) Sticked { return onStick(s, true) }

func onStick(s Scenario, brought bool) (r Sticked) {
	r.Scenario, r.Brought = s, brought
	dir, err := os.MkdirTemp("", "truth-stick")
	if err != nil {
		r.Err = err
		return r
	}
	defer os.RemoveAll(dir)
	r.Err = r.on(dir)
	return r
}

func (r *Sticked) on(dir string) error {
	s := &r.Scenario
	allowed := []repair.Toolbox{repair.Linux, repair.Firmware}
	if r.Brought {
		allowed = allowed[:1]
	}
	plan, err := s.plan(dir, allowed...)
	if err != nil {
		return err
	}
	if len(plan.Steps) == 0 {
		return ErrNoRepair
	}
	image, live, before, err := s.withStick(dir)
	if err != nil {
		return err
	}
	if r.Brought {
		if err := putPlan(dir, image, plan); err != nil {
			return err
		}
	}
	ctx, cancel := context.WithTimeout(context.Background(), 40*time.Minute)
	defer cancel()
	if err := r.led(ctx, dir, image, live, plan.Steps); err != nil {
		return err
	}
	args, err := s.keepingVariables(dir)
	if err != nil {
		return err
	}
	after, err := s.sumOfOriginal(dir)
	if err != nil {
		return err
	}
	r.Kept = before == after
	if r.Same, err = s.sameAnswer(dir, image, plan, r.Turns); err != nil {
		return err
	}
	if r.Result, err = boot(dir, args, s.limit()); err != nil {
		return err
	}
	r.Started = r.startedFromClone()
	return nil
}

// led carries out the steps on the stick. Where one is to unplug the original, or to build the clone
// in, that is done as soon as the machine is off, and the stick is started again for the steps that
// are left.
func (r *Sticked) led(ctx context.Context, dir, image string, live []string, steps []repair.PlanStep) error {
	for {
		began := time.Now()
		r.Turns++
		t, err := start(ctx, live)
		if err != nil {
			return err
		}
		left, err := t.lead(r, steps, began)
		r.Shown = append(r.Shown, t.shown...)
		if err != nil || len(left) == 0 {
			return err
		}
		if left[0].Action == "build-in" {
			r.Scenario.buildIn()
		} else {
			r.Scenario.detachOriginal()
		}
		if steps = left[1:]; len(steps) == 0 {
			return nil
		}
		if live, err = r.Scenario.stickArguments(dir, image); err != nil {
			return err
		}
	}
}

func (s *Scenario) detachOriginal() {
	s.Drives = slices.Clone(s.Drives)
	for i := range s.Drives {
		s.Drives[i].Detached = s.Drives[i].Detached || s.Drives[i].Role == "original"
	}
}

// buildIn puts the clone in the original's place.
func (s *Scenario) buildIn() {
	s.detachOriginal()
	for i := range s.Drives {
		if s.Drives[i].Role == "clone" {
			s.Drives[i].Bus = "nvme"
		}
	}
}

func (r *Sticked) startedFromClone() bool {
	same := Repaired{Scenario: r.Scenario, Result: r.Result}
	return same.startedFromClone()
}

// FirstPage starts a machine from the stick and returns the first page that it shows.
func FirstPage(s Scenario, limit time.Duration) (string, error) {
	dir, err := os.MkdirTemp("", "truth-stick")
	if err != nil {
		return "", err
	}
	defer os.RemoveAll(dir)
	if _, err := s.Prepare(dir); err != nil {
		return "", err
	}
	args, err := s.stickArguments(dir, StickImage())
	if err != nil {
		return "", err
	}
	ctx, cancel := context.WithTimeout(context.Background(), limit)
	defer cancel()
	t, err := start(ctx, append(args, "-snapshot"))
	if err != nil {
		return "", err
	}
	if err := t.begin(limit); err != nil {
		return "", err
	}
	return t.screen(), nil
}

// putPlan lays a plan on the stick, for the disks of the machine as the evidence tells them.
func putPlan(dir, image string, plan repair.Plan) error {
	m, err := capture.Load(filepath.Join(dir, "machine.json"))
	if err != nil {
		return err
	}
	f := planfile.File{Made: time.Now(), Case: "A machine"}
	for _, d := range m.Drives {
		if attached, _ := d.Attached.Get(); attached && d.Contents != nil {
			id, _ := d.Contents.Layout.DiskID().Get()
			f.Drives = append(f.Drives, planfile.Drive{Role: d.Role, Bytes: d.Contents.Layout.Bytes(), ID: id})
		}
	}
	for _, s := range plan.Steps {
		f.Steps = append(f.Steps, planfile.Step{Key: s.Key, Title: s.Title})
	}
	raw, err := f.Encode()
	if err != nil {
		return err
	}
	path := filepath.Join(dir, planfile.Name)
	if err := os.WriteFile(path, raw, 0o600); err != nil {
		return err
	}
	at, err := stickVolume(image)
	if err != nil {
		return err
	}
	return run("mcopy", "-i", at, path, "::/"+planfile.Name)
}

// stickVolume is the stick's FAT volume as mtools name it.
func stickVolume(image string) (string, error) {
	on, err := os.Open(image)
	if err != nil {
		return "", err
	}
	defer on.Close()
	info, err := on.Stat()
	if err != nil {
		return "", err
	}
	d, err := disk.New(on, info.Size(), 512)
	if err != nil {
		return "", err
	}
	parts := disk.ReadLayout(d).Partitions
	if len(parts) < 2 {
		return "", errors.New("the stick has no second partition")
	}
	return fmt.Sprintf("%s@@%d", image, parts[1].Start*512), nil
}

func (s *Scenario) sumOfOriginal(dir string) (sum [32]byte, err error) {
	for _, d := range s.Drives {
		if d.Role == "original" {
			raw, err := os.ReadFile(filepath.Join(dir, d.Name+".img"))
			return sha256.Sum256(raw), err
		}
	}
	return sum, nil
}

// sameAnswer takes the folder off the stick and compares what its last evidence says with what the
// plan leads to.
func (s *Scenario) sameAnswer(dir, image string, plan repair.Plan, turns int) (bool, error) {
	out := filepath.Join(dir, "taken")
	if err := os.MkdirAll(out, 0o755); err != nil {
		return false, err
	}
	from, err := stickVolume(image)
	if err != nil {
		return false, err
	}
	if err := run("mcopy", "-s", "-n", "-i", from, "::/LATCHKEY", out); err != nil {
		return false, err
	}
	files, _ := filepath.Glob(filepath.Join(out, "LATCHKEY", "*", "machine.json"))
	if len(files) != turns {
		return false, fmt.Errorf("%d folders on the stick, expected %d", len(files), turns)
	}
	for _, file := range files {
		if err := run("sh", "-c", `cd "$1" && sha256sum --quiet -c SHA256SUMS`, "sh", filepath.Dir(file)); err != nil {
			return false, fmt.Errorf("the sums on the stick: %w", err)
		}
	}
	m, err := capture.Load(files[turns-1]) // their names end with the time
	if err != nil {
		return false, err
	}
	clone := m.Drive(machine.RoleClone)
	if clone == nil {
		return false, errors.New("no clone in the evidence of the stick")
	}
	trace := s.judged(m, clone.Name)
	want := startup.Starts
	if len(plan.Steps) == 0 {
		want = plan.Before.Verdict
	}
	return trace.Verdict == want, nil
}

// judged judges the stick's evidence with what the images are described with besides: the
// firmware's order, and that its own entries, which it makes by that order, lead to the clone.
func (s *Scenario) judged(m machine.Machine, clone string) startup.Trace {
	m.DeviceOrder = nil
	if m.Answers == nil {
		m.Answers = map[string]string{}
	}
	for _, d := range s.Drives {
		on := m.Drive(machine.Role(d.Role))
		if d.Detached && on != nil {
			on.Attached = fact.Known(false, fact.Source{})
		}
		if d.Role == "clone" && on != nil { // it may have been built in since
			on.Bus = fact.Known(d.Bus, fact.Source{})
		}
	}
	for _, name := range s.Order {
		for _, d := range s.Drives {
			if on := m.Drive(machine.Role(d.Role)); d.Name == name && !d.Detached && on != nil {
				m.DeviceOrder = append(m.DeviceOrder, on.Name)
			}
		}
	}
	trace := startup.Simulate(m)
	for range 8 {
		if len(trace.Missing) == 0 || !strings.HasPrefix(trace.Missing[0].ID, "entry-device-") {
			break
		}
		m.Answers[trace.Missing[0].ID] = clone
		trace = startup.Simulate(m)
	}
	return trace
}
