package truth

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"latchkey/core/repair"
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
	Beside []int    // the sectors that are not as before, after the step was put back
	Kept   bool     // the original is unchanged to the byte
	Result Result   // the start after it, without the stick
	Good   bool     // all came out as it is to be
	Err    error
}

// RandomCuts cuts the power of so many machines in the middle of a step, from a seed on.
func RandomCuts(seed, count uint64, pattern *regexp.Regexp, workers int, each func(Cut)) error {
	var list []Scenario
	for _, s := range cutScenarios() {
		if pattern.MatchString(s.Called()) {
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
	dir, err := os.MkdirTemp("", "truth-standing")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	machines := make([]*stands, len(list))
	for i, s := range list {
		machines[i] = &stands{scenario: s, dir: filepath.Join(dir, fmt.Sprint(i)), at: map[int]*standing{}}
	}
	cut := func(n uint64) Cut { return cutAt(machines[n%uint64(len(list))], n) }
	sideBySide(seeds, workers, cut, func(_ int, c Cut) { each(c) })
	return nil
}

// cutScenarios are those with the original beside the clone: QEMU's NVMe drives do not stop the
// machine at an error.
func cutScenarios() []Scenario { return besideScenarios("sata") }

func (s *Scenario) original() *Drive {
	for i := range s.Drives {
		if s.Drives[i].Role == "original" {
			return &s.Drives[i]
		}
	}
	return nil
}

func (s *Scenario) clone() *Drive {
	for i := range s.Drives {
		if r := s.Drives[i].Role; r == "clone" || r == "" {
			return &s.Drives[i]
		}
	}
	return nil
}

func cutAt(st *stands, seed uint64) (c Cut) {
	c.Name, c.Seed = string(st.scenario.Firmware)+": "+st.scenario.Name, seed
	dir, err := os.MkdirTemp("", "truth-cut")
	if err != nil {
		c.Err = err
		return c
	}
	defer os.RemoveAll(dir)
	c.Err = c.run(st, dir, rand.New(rand.NewPCG(seed, 1)))
	started := &Repaired{Scenario: st.scenario, Result: c.Result}
	c.Good = c.Err == nil && c.Kept && len(c.Beside) == 0 && started.startedFromClone()
	return c
}

func (c *Cut) run(st *stands, dir string, r *rand.Rand) error {
	steps, err := st.steps()
	if err != nil {
		return err
	}
	m, err := st.before(r.IntN(steps))
	if err != nil {
		return fmt.Errorf("up to the step: %w", err)
	}
	live, last, err := m.copied(dir)
	if err != nil {
		return err
	}
	s := &st.scenario
	if err := c.cut(m, s.clone(), dir, live, r); err != nil {
		return fmt.Errorf("up to the cut: %w", err)
	}
	clone := s.clone().Name + ".img"
	what, err := c.goOn(s, live, filepath.Join(m.dir, clone), filepath.Join(dir, clone), r.IntN(2) == 0)
	if err != nil {
		return fmt.Errorf("after the cut: %w", err)
	}
	if what != nothingByHand {
		alone := *s
		alone.detachOriginal()
		last = without(last, s.original().Name)
		if what == unplugThenOn {
			if err := c.onceMore(&alone, without(live, s.original().Name)); err != nil {
				return fmt.Errorf("with the original unplugged: %w", err)
			}
		}
	}
	after, err := s.sumOfOriginal(dir)
	if err != nil {
		return err
	}
	c.Kept = m.original == after
	c.Result, err = boot(dir, last, s.limit())
	return err
}

// cut confirms the step before which a machine stands, and ends the machine in the middle of it: at
// the writing of one of the sectors that it saves, at one of its writes, or some time after it was
// confirmed.
func (c *Cut) cut(m *standing, clone *Drive, dir string, live []string, r *rand.Rand) error {
	c.Step = m.step.Title
	limit := 5 * time.Minute
	switch n := len(m.step.Saves); {
	case r.IntN(8) == 0:
		limit = time.Duration(r.IntN(3000)) * time.Millisecond
		c.Where = limit.String()
	case n > 0 && r.IntN(2) == 0:
		saved := m.step.Saves[r.IntN(n)]
		sector := saved.First + r.Uint64N(saved.Count)
		c.Where = fmt.Sprintf("sector %d", sector)
		live = stopsAt(live, clone.Name, atSector(sector*uint64(max(clone.Disk.SectorSize, 512)/512)))
	default:
		write := 1 + r.IntN(4)
		if n == 0 { // it changes files: the journal and the tables are written, too
			write = 1 + r.IntN(24)
		}
		c.Where = fmt.Sprintf("write %d", write)
		live = stopsAt(live, clone.Name, atWrite(write))
	}
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Minute)
	defer cancel()
	t, on, err := m.goOn(ctx, dir, live)
	if err != nil {
		return err
	}
	defer on.Close()
	stopped, done := make(chan struct{}), make(chan struct{})
	go func() {
		_ = on.SetReadDeadline(time.Time{})
		if on.heard.Reset(); on.hear(`"event": "STOP"`) == nil {
			close(stopped)
		}
	}()
	if err := t.confirmed(m.step); err != nil {
		return err
	}
	go func() {
		_, _ = t.wait(limit, "Go on")
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

// atSector is QEMU's rule that the writing of a sector of 512 bytes fails.
func atSector(sector uint64) string {
	return fmt.Sprintf(",file.inject-error.0.event=none,file.inject-error.0.sector=%d", sector)
}

// atWrite is QEMU's rule that the nth write fails, from 1.
func atWrite(n int) string {
	var rule strings.Builder
	for i := range n - 1 {
		fmt.Fprintf(&rule, ",file.set-state.%d.event=write_aio,file.set-state.%d.state=%d,file.set-state.%d.new_state=%d", i, i, i+1, i, i+2)
	}
	return fmt.Sprintf("%s,file.inject-error.0.event=write_aio,file.inject-error.0.state=%d", rule.String(), n)
}

// stopsAt has the machine stop where a write to a drive fails by a rule.
func stopsAt(args []string, drive, rule string) []string {
	out := append([]string(nil), args...)
	id := ""
	for i, a := range out {
		if path, is := strings.CutPrefix(a[strings.LastIndex(a, ",")+1:], "file="); is && filepath.Base(path) == drive+".img" {
			id = regexp.MustCompile(`\bid=(\w+)`).FindStringSubmatch(a)[1]
			out[i] = fmt.Sprintf("if=none,id=%s,format=raw,cache=unsafe,file.driver=blkdebug,file.image.driver=file,file.image.filename=%s%s,file.inject-error.0.iotype=write,file.inject-error.0.errno=5",
				id, path, rule)
		}
	}
	for i, a := range out {
		if id != "" && regexp.MustCompile(`,drive=`+id+`\b`).MatchString(a) {
			out[i] += ",werror=stop"
		}
	}
	return out
}

// without are QEMU's arguments without a drive.
func without(args []string, drive string) (out []string) {
	id := "none"
	for i := 0; i < len(args); i++ {
		a := args[i]
		switch {
		case strings.HasSuffix(a, "/"+drive+".img"):
			id = regexp.MustCompile(`\bid=(\w+)`).FindStringSubmatch(a)[1]
			out = out[:len(out)-1]
		case strings.Contains(a+",", ",drive="+id+","):
			out = out[:len(out)-1]
		default:
			out = append(out, a)
		}
	}
	return out
}

// goOn starts the stick again, has the step put back or left as it is, and repairs from there; it
// tells what is to be done by hand then.
func (c *Cut) goOn(s *Scenario, live []string, before, clone string, back bool) (then byHand, err error) {
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Minute)
	defer cancel()
	t, err := start(ctx, live)
	if err != nil {
		return nothingByHand, err
	}
	defer func() { c.Shown = append(c.Shown, t.shown...) }()
	if _, err := t.wait(5*time.Minute, "on a serial line"); err != nil {
		return nothingByHand, err
	}
	t.send("s")
	what, err := t.wait(5*time.Minute, "A step was interrupted", "Which drive is which?")
	if err != nil {
		return nothingByHand, err
	}
	if c.After = "it saw no interruption"; what == "A step was interrupted" {
		c.After, c.Met = "looked at", true
		option := "Look at the drives as they are"
		if back && strings.Contains(t.screen(), "Put back what was saved") {
			c.After, option = "put back", "Put back what was saved"
		}
		if err := t.choose(option); err != nil {
			return nothingByHand, err
		}
		if c.After == "put back" {
			if _, err := t.wait(5*time.Minute, "Go on"); err != nil {
				return nothingByHand, err
			}
			if c.Beside, err = differing(before, clone); err != nil {
				return nothingByHand, err
			}
			t.send(keyEnter)
		}
		if _, err := t.wait(5*time.Minute, "Which drive is which?"); err != nil {
			return nothingByHand, err
		}
	}
	if err := t.roles(s); err != nil {
		return nothingByHand, err
	}
	return t.finish()
}

// The pages of steps that are done where the stick is off: in the firmware's own screens, and at the
// cables.
const (
	firstByHand  = "Step: Put the clone first"
	unplugByHand = "Step: Unplug the original"
)

// byHand is what is to be done where the stick was switched off.
type byHand int

const (
	nothingByHand byHand = iota
	unplugLast           // the original is unplugged for the start
	unplugThenOn         // it is unplugged, and the stick started again
)

// onceMore starts the stick again, without the original, and goes by what it plans.
func (c *Cut) onceMore(s *Scenario, live []string) error {
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Minute)
	defer cancel()
	t, err := start(ctx, live)
	if err != nil {
		return err
	}
	defer func() { c.Shown = append(c.Shown, t.shown...) }()
	if err := t.begin(5 * time.Minute); err != nil {
		return err
	}
	if err := t.roles(s); err != nil {
		return err
	}
	then, err := t.finish()
	if err == nil && then != nothingByHand {
		err = errors.New("something is to be done by hand once more")
	}
	return err
}

// finish goes by what the stick plans, and switches off.
func (t *talk) finish() (then byHand, err error) {
	for range 6 {
		if _, err := t.wait(2*time.Minute, "Repair it, in", "The start, without the stick"); err != nil {
			return nothingByHand, err
		}
		time.Sleep(time.Second)
		if err := t.answer(); err != nil {
			return nothingByHand, err
		}
		if !strings.Contains(t.screen(), "Repair it, in") {
			return nothingByHand, t.switchedOff()
		}
		if err := t.choose("Repair it, in"); err != nil {
			return nothingByHand, err
		}
		what, err := t.wait(time.Minute, "type its capacity", firstByHand, unplugByHand)
		if err != nil {
			return nothingByHand, err
		}
		switch {
		case what == firstByHand: // where the firmware has it, though the stick is not told so
			return nothingByHand, t.switchedOff()
		case what == unplugByHand && strings.Contains(t.screen(), "from the stick again"):
			return unplugThenOn, t.switchedOff()
		case what == unplugByHand:
			return unplugLast, t.switchedOff()
		}
		if err := t.confirmed(repair.PlanStep{}); err != nil {
			return nothingByHand, err
		}
		if _, err := t.wait(5*time.Minute, "Go on"); err != nil {
			return nothingByHand, err
		}
		t.send(keyEnter)
	}
	return nothingByHand, errors.New("it repairs on and on:\n" + t.screen())
}

// differing lists the sectors of 512 bytes in which two images differ.
func differing(a, b string) (sectors []int, err error) {
	x, err := os.ReadFile(a)
	if err != nil {
		return nil, err
	}
	y, err := os.ReadFile(b)
	if err != nil {
		return nil, err
	}
	if len(x) != len(y) {
		return nil, fmt.Errorf("%d and %d bytes", len(x), len(y))
	}
	for at := 0; at < len(x); at += 512 {
		if !bytes.Equal(x[at:min(at+512, len(x))], y[at:min(at+512, len(y))]) {
			sectors = append(sectors, at/512)
		}
	}
	return sectors, nil
}
