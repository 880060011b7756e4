package truth

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"latchkey/core/repair"
	"latchkey/internal/diskmaker"
)

// Cut is what became of a machine whose power was cut while the stick repaired it.
type Cut struct {
	Name   string // of the machine
	Seed   uint64
	Step   string   // that was cut
	Where  string   // the sector at whose writing it was, or how long after the step was confirmed
	Met    bool     // the step was being carried out
	After  string   // what the stick was told at its next start
	Shown  []string // its pages
	Beside int      // sectors that are not as before, after the step was put back
	Kept   bool     // the original is unchanged to the byte
	Result Result   // the start after it, without the stick
	Good   bool     // all came out as it is to be
	Err    error
}

// RandomCuts cuts the power of so many machines in the middle of a step, from a seed on.
func RandomCuts(seed, count uint64, pattern *regexp.Regexp, workers int, each func(Cut)) error {
	var list []Scenario
	for _, s := range cutScenarios() {
		if pattern.MatchString(string(s.Firmware) + ": " + s.Name) {
			list = append(list, s)
		}
	}
	if len(list) == 0 {
		return errors.New("no machine is meant")
	}
	seeds := make([]uint64, count)
	for i := range seeds {
		seeds[i] = seed + uint64(i)
	}
	cut := func(n uint64) Cut { return cutAt(list[n%uint64(len(list))], n) }
	sideBySide(seeds, workers, cut, func(_ int, c Cut) { each(c) })
	return nil
}

// cutScenarios are copies of a Linux that a plan's commands repair in ways of which each writes
// other structures. None runs a program of the system's own: the small Linux has none.
func cutScenarios() (all []Scenario) {
	zeros := func(at, n int64) func(*diskmaker.Image) {
		return func(m *diskmaker.Image) { write(m, (at+m.Size)%m.Size, make([]byte, n)...) }
	}
	const boot = 2048 * 512
	for _, c := range []struct {
		firmware Firmware
		name     string
		n        names
		spoils   []func(*diskmaker.Image)
	}{
		{OVMF, "kernel line names another file system", names{root: "UUID=" + otherUUID}, nil},
		{OVMF, "mount table names another file system", names{fstab: "UUID=" + otherUUID}, nil},
		{OVMF, "no table", names{}, []func(*diskmaker.Image){zeros(0, 34*512), zeros(-34*512, 34*512)}},
		{OVMF, "no header, good entries", names{}, []func(*diskmaker.Image){zeros(512, 512), zeros(-512, 512)}},
		{OVMF, "no protective record", names{}, []func(*diskmaker.Image){zeros(446, 66)}},
		{OVMF, "no boot sector", names{}, []func(*diskmaker.Image){zeros(boot, 512)}},
		{SeaBIOS, "kernel line names another file system", names{root: "UUID=" + otherUUID}, nil},
		{SeaBIOS, "no signature of sector 0", names{}, []func(*diskmaker.Image){zeros(510, 2)}},
	} {
		s := linuxScenario(c.firmware, c.name, c.n)
		for i := range s.Drives {
			s.Drives[i].Bus = "sata" // QEMU's NVMe drives do not stop the machine at an error
		}
		d := s.clone()
		for _, spoil := range c.spoils {
			*d = d.spoiled(spoil)
		}
		all = append(all, s)
	}
	return all
}

func (s *Scenario) clone() *Drive {
	for i := range s.Drives {
		if r := s.Drives[i].Role; r == "clone" || r == "" {
			return &s.Drives[i]
		}
	}
	return nil
}

func cutAt(s Scenario, seed uint64) (c Cut) {
	c.Name, c.Seed = string(s.Firmware)+": "+s.Name, seed
	dir, err := os.MkdirTemp("", "truth-cut")
	if err != nil {
		c.Err = err
		return c
	}
	defer os.RemoveAll(dir)
	s.Drives = append([]Drive(nil), s.Drives...)
	c.Err = c.run(&s, dir, rand.New(rand.NewPCG(seed, 1)))
	c.Good = c.Err == nil && c.Kept && c.Beside == 0 && (&Repaired{Scenario: s, Result: c.Result}).startedFromClone()
	return c
}

func (c *Cut) run(s *Scenario, dir string, r *rand.Rand) error {
	plan, err := s.plan(dir)
	if err != nil {
		return err
	}
	if len(plan.Steps) == 0 {
		return ErrNoRepair
	}
	_, live, original, err := s.withStick(dir)
	if err != nil {
		return err
	}
	// At the end it starts from NVMe, for which alone the small Linux has a driver.
	last := *s
	last.Drives = append([]Drive(nil), s.Drives...)
	for i := range last.Drives {
		last.Drives[i].Bus = "nvme"
	}
	args, err := last.arguments(dir)
	if err != nil {
		return err
	}
	at := r.IntN(len(plan.Steps))
	before := filepath.Join(dir, "before.img")
	if err := c.cut(s, dir, live, plan, at, before, r); err != nil {
		return fmt.Errorf("up to the cut: %w", err)
	}
	if err := c.goOn(s, dir, live, before, r.IntN(2) == 0); err != nil {
		return fmt.Errorf("after the cut: %w", err)
	}
	after, err := s.sumOfOriginal(dir)
	if err != nil {
		return err
	}
	c.Kept = original == after
	c.Result, err = boot(dir, args, s.limit())
	return err
}

// cut repairs up to a step, and ends the machine in the middle of it: at the writing of one of
// the sectors that it saves, or some time after it was confirmed.
func (c *Cut) cut(s *Scenario, dir string, live []string, plan repair.Plan, at int, before string, r *rand.Rand) error {
	step := plan.Steps[at]
	c.Step = step.Title
	stopped := make(chan struct{})
	if n := len(step.Saves); n > 0 && r.IntN(3) > 0 {
		saved := step.Saves[r.IntN(n)]
		sector := saved.First + r.Uint64N(saved.Count)
		c.Where = fmt.Sprintf("sector %d", sector)
		live = stopsAt(live, s.clone().Name, sector*uint64(max(s.clone().Disk.SectorSize, 512)/512))
		socket := filepath.Join(dir, "qmp")
		live = append(live, "-qmp", "unix:"+socket+",server=on,wait=off")
		go func() {
			if whenStopped(socket) == nil {
				close(stopped)
			}
		}()
	}
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Minute)
	defer cancel()
	t, err := start(ctx, live)
	if err != nil {
		return err
	}
	if err := t.begin(5 * time.Minute); err != nil {
		return err
	}
	t.send(keyEnter)
	for _, earlier := range plan.Steps[:at] {
		if err := t.confirm(earlier); err != nil {
			return err
		}
		if _, err := t.wait(5*time.Minute, "Go on"); err != nil {
			return err
		}
		t.send(keyEnter)
	}
	if err := t.toConfirm(); err != nil {
		return err
	}
	if err := run("cp", "--sparse=always", filepath.Join(dir, s.clone().Name+".img"), before); err != nil {
		return err
	}
	if err := t.confirmed(step); err != nil {
		return err
	}
	wait := 5 * time.Minute
	if c.Where == "" {
		wait = time.Duration(r.IntN(6000)) * time.Millisecond
		c.Where = wait.String()
	}
	done := make(chan struct{})
	go func() {
		_, _ = t.wait(wait, "Go on")
		close(done)
	}()
	select {
	case <-stopped:
		c.Met = true
	case <-done:
	}
	cancel()
	<-t.ended
	c.Shown = append(c.Shown, t.shown...)
	return nil
}

// stopsAt has the machine stop when a sector of a drive, of 512 bytes, is written.
func stopsAt(args []string, drive string, sector uint64) []string {
	out := append([]string(nil), args...)
	id := ""
	for i, a := range out {
		if path, is := strings.CutPrefix(a[strings.LastIndex(a, ",")+1:], "file="); is && filepath.Base(path) == drive+".img" {
			id = regexp.MustCompile(`\bid=(\w+)`).FindStringSubmatch(a)[1]
			out[i] = fmt.Sprintf("if=none,id=%s,format=raw,cache=unsafe,file.driver=blkdebug,file.image.driver=file,file.image.filename=%s,file.inject-error.0.event=none,file.inject-error.0.iotype=write,file.inject-error.0.sector=%d,file.inject-error.0.errno=5",
				id, path, sector)
		}
	}
	for i, a := range out {
		if id != "" && regexp.MustCompile(`,drive=`+id+`\b`).MatchString(a) {
			out[i] += ",werror=stop"
		}
	}
	return out
}

// monitor speaks with QEMU on its socket, which is there soon after the start.
func monitor(socket string) (on net.Conn, err error) {
	for range 100 {
		if on, err = net.Dial("unix", socket); err == nil {
			_, err = io.WriteString(on, `{"execute":"qmp_capabilities"}`+"\n")
			return on, err
		}
		time.Sleep(100 * time.Millisecond)
	}
	return nil, err
}

// whenStopped returns when QEMU says on its socket that it stopped the machine; an error where the
// machine ended otherwise.
func whenStopped(socket string) error {
	on, err := monitor(socket)
	if err != nil {
		return err
	}
	defer on.Close()
	var heard bytes.Buffer
	piece := make([]byte, 4096)
	for {
		n, err := on.Read(piece)
		heard.Write(piece[:n])
		if bytes.Contains(heard.Bytes(), []byte(`"event": "STOP"`)) {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// goOn starts the stick again, has the step put back or left as it is, and repairs from there.
func (c *Cut) goOn(s *Scenario, dir string, live []string, before string, back bool) error {
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Minute)
	defer cancel()
	t, err := start(ctx, live)
	if err != nil {
		return err
	}
	defer func() { c.Shown = append(c.Shown, t.shown...) }()
	if _, err := t.wait(5*time.Minute, "on a serial line"); err != nil {
		return err
	}
	t.send("s")
	what, err := t.wait(5*time.Minute, "A step was interrupted", "Which drive is which?")
	if err != nil {
		return err
	}
	if c.After = "it saw no interruption"; what == "A step was interrupted" {
		c.After, c.Met = "looked at", true
		option := "Look at the drives as they are"
		if back && strings.Contains(t.screen(), "Put back what was saved") {
			c.After, option = "put back", "Put back what was saved"
		}
		if err := t.choose(option); err != nil {
			return err
		}
		if c.After == "put back" {
			if _, err := t.wait(5*time.Minute, "Go on"); err != nil {
				return err
			}
			if c.Beside, err = differing(before, filepath.Join(dir, s.clone().Name+".img")); err != nil {
				return err
			}
			t.send(keyEnter)
		}
		if _, err := t.wait(5*time.Minute, "Which drive is which?"); err != nil {
			return err
		}
	}
	t.send(keyEnter)
	return t.finish()
}

// finish goes by what the stick plans, and switches off.
func (t *talk) finish() error {
	for range 6 {
		what, err := t.wait(2*time.Minute, "Repair it, in", "The start, without the stick")
		if err != nil {
			return err
		}
		time.Sleep(time.Second)
		if err := t.answer(); err != nil {
			return err
		}
		if what != "Repair it, in" && !strings.Contains(t.screen(), "Repair it, in") {
			return t.switchedOff()
		}
		if err := t.choose("Repair it, in"); err != nil {
			return err
		}
		if _, err := t.wait(time.Minute, "type its capacity"); err != nil {
			return err
		}
		if err := t.confirmed(repair.PlanStep{}); err != nil {
			return err
		}
		if _, err := t.wait(5*time.Minute, "Go on"); err != nil {
			return err
		}
		t.send(keyEnter)
	}
	return errors.New("it repairs on and on:\n" + t.screen())
}

// differing counts the sectors of 512 bytes in which two images differ.
func differing(a, b string) (n int, err error) {
	x, err := os.ReadFile(a)
	if err != nil {
		return 0, err
	}
	y, err := os.ReadFile(b)
	if err != nil {
		return 0, err
	}
	if len(x) != len(y) {
		return 0, fmt.Errorf("%d and %d bytes", len(x), len(y))
	}
	for at := 0; at < len(x); at += 512 {
		if !bytes.Equal(x[at:min(at+512, len(x))], y[at:min(at+512, len(y))]) {
			n++
		}
	}
	return n, nil
}
