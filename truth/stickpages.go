package truth

import (
	"errors"
	"fmt"
	"latchkey/core/repair"
	"regexp"
	"strings"
	"time"
)

// begin takes the entry of the serial line, and waits for the first page.
func (t *talk) begin(limit time.Duration) error {
	if _, err := t.wait(limit, "on a serial line"); err != nil {
		return err
	}
	t.send("s") // the entry's own key
	what, err := t.wait(limit, "Which drive is which?", "A plan lies on the stick")
	if err != nil || what == "Which drive is which?" {
		return err
	}
	if err := t.choose("Go by it"); err != nil {
		return err
	}
	_, err = t.wait(limit, "Which drive is which?")
	return err
}

// device is what Linux calls a machine's drive with a role. Linux gives those on SATA and USB their
// names as it comes to them: they are told by what the page shows of them, the serial number, which
// QEMU counts by the port, or the bus.
func (s *Scenario) device(role, page string) string {
	of := map[string]int{} // drives that stand before it
	for i, d := range s.Drives {
		shown := ""
		switch {
		case d.Detached:
			continue
		case d.Role != role:
			of[d.Bus]++
			continue
		case d.Bus == "nvme":
			return fmt.Sprintf("nvme%dn1", of["nvme"])
		case d.Bus == "sata":
			shown = fmt.Sprintf(`…%04d *$`, 2*i+1)
		case d.Bus == "usb":
			shown = `· usb ·`
		}
		if m := regexp.MustCompile(`(?m)^ \w+: (sd\w) .*` + shown).FindStringSubmatch(page); shown != "" && m != nil {
			return m[1]
		}
		return "sd" + string(rune('a'+of[d.Bus]))
	}
	return "none"
}

// roles says which drive is which, as far as the first page does not know it.
func (t *talk) roles(s *Scenario) error {
	t.first = ""
	for _, d := range s.Drives {
		if len(s.Order) > 0 && d.Name == s.Order[0] && !d.Detached && len(s.Drives) > 1 {
			t.first = d.Role
		}
	}
	for range 4 {
		page := t.screen()
		clone, original := s.device("clone", page), s.device("original", page)
		option := clone + " is the clone"
		switch {
		case !strings.Contains(page, "clone: "+clone+" "):
		case original == "none", strings.Contains(page, "original: "+original+" "):
			t.send(keyEnter)
			return nil
		default:
			option = original + " is the original"
		}
		if err := t.choose(option); err != nil {
			return err
		}
		for range 50 {
			if t.screen() != page {
				break
			}
			time.Sleep(100 * time.Millisecond)
		}
		t.drawn()
	}
	return errors.New("the roles cannot be said:\n" + t.screen())
}

// lead types what a person would: the serial line's entry, the roles as they are, the steps
// with the capacity of the drive that each writes to. It returns the steps from that one on which is
// done in the case's inside.
func (t *talk) lead(r *Sticked, steps []repair.PlanStep, began time.Time) (left []repair.PlanStep, err error) {
	if err := t.begin(5 * time.Minute); err != nil {
		return nil, err
	}
	r.First = time.Since(began)
	if err := t.roles(&r.Scenario); err != nil {
		return nil, err
	}
	for left = steps; len(left) > 0 && !inside(left[0]); left = left[1:] {
		err := t.confirm(left[0])
		if errors.Is(err, errNeedless) {
			continue
		}
		if err != nil {
			return nil, err
		}
		if _, err := t.wait(20*time.Minute, "Go on"); err != nil {
			return nil, err
		}
		t.send(keyEnter)
	}
	if err := t.judged(); err != nil {
		return nil, err
	}
	// What is not known on the stick, such as the bus of an original that is not there, may be
	// a step more.
	for n := 0; n < 3 && len(left) == 0 && len(steps) > 0 && strings.Contains(t.screen(), "Repair it, in"); n++ {
		if err := t.stepOfItsOwn(); err != nil {
			return nil, err
		}
	}
	return left, t.switchedOff()
}

// judged waits for the verdict, and answers what is asked.
func (t *talk) judged() error {
	if _, err := t.wait(2*time.Minute, "The start, without the stick"); err != nil {
		return err
	}
	time.Sleep(time.Second)
	return t.answer()
}

// stepOfItsOwn takes the step that the stick's own plan begins with.
func (t *talk) stepOfItsOwn() error {
	if err := t.confirm(repair.PlanStep{}); err != nil {
		return err
	}
	what, err := t.wait(20*time.Minute, "Go on", "Type its passphrase")
	if err == nil && what != "Go on" {
		t.send(passphrase + keyEnter)
		_, err = t.wait(20*time.Minute, "Go on")
	}
	if err != nil {
		return err
	}
	t.send(keyEnter)
	return t.judged()
}

// inside reports whether a step is done in the case's inside.
func inside(step repair.PlanStep) bool {
	return step.Action == "detach-original" || step.Action == "build-in"
}

// errNeedless: what was answered tells that the clone starts without the step.
var errNeedless = errors.New("the step is not needed any more")

// confirm takes the next step and confirms it, as a person would.
func (t *talk) confirm(step repair.PlanStep) error {
	if err := t.toConfirm(); err != nil {
		return err
	}
	return t.confirmed(step)
}

// toConfirm goes to the page on which the next step is to be confirmed.
func (t *talk) toConfirm() error {
	if _, err := t.wait(2*time.Minute, "Repair it, in", "1 Yes", "1 the clone", "comes up from the clone"); err != nil {
		return err
	}
	time.Sleep(time.Second)
	if err := t.answer(); err != nil { // what is asked stands before it
		return err
	}
	if strings.Contains(t.screen(), "Starts: the machine comes up from the clone") {
		return errNeedless
	}
	if err := t.choose("Repair it, in"); err != nil {
		return err
	}
	what, err := t.wait(time.Minute, "type its capacity", "done by hand")
	if err == nil && what != "type its capacity" {
		err = errors.New("a step is left that is done by hand")
	}
	return err
}

// confirmed types what confirms a step.
func (t *talk) confirmed(step repair.PlanStep) error {
	t.send(capacityAsked(t.screen()) + keyEnter)
	if step.Passphrase == "" {
		return nil
	}
	if _, err := t.wait(time.Minute, "Type its passphrase"); err != nil {
		return err
	}
	t.send(passphrase + keyEnter)
	return nil
}

// switchedOff finishes, and waits until the machine is off.
func (t *talk) switchedOff() error {
	if err := t.choose("Finish"); err != nil {
		return err
	}
	if _, err := t.wait(time.Minute, "take the stick out"); err != nil {
		return err
	}
	t.send(keyEnter)
	select {
	case <-t.ended:
		return nil
	case <-time.After(time.Minute):
		return fmt.Errorf("the machine was not switched off:\n%s", t.screen())
	}
}

// capacityAsked reads off the page which capacity is to be typed.
func capacityAsked(page string) string {
	_, rest, _ := strings.Cut(strings.Join(strings.Fields(page), " "), "type its capacity, ")
	number, _, _ := strings.Cut(rest, " ")
	return number
}
