package screen

import (
	"context"
	"fmt"
	"strings"

	"github.com/gdamore/tcell/v2"

	"latchkey/capture"
	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/stick"
)

// Run leads through a session until it is finished. Mounted is where the stick is mounted,
// own its device.
func Run(ctx context.Context, on tcell.Screen, s *stick.Session, mounted, own string) error {
	r := &run{terminal: terminal{screen: on}, Session: s, ctx: ctx, mounted: mounted, own: own}
	if err := r.interrupted(); err != nil {
		return r.failed(err)
	}
	if err := r.look(); err != nil {
		return r.failed(err)
	}
	r.plan()
	return r.lead()
}

type run struct {
	terminal
	*stick.Session
	ctx          context.Context
	mounted, own string
	brought      *stick.Brought // the plan that lies on the stick; nil where none is gone by
}

// failed shows an error that ends the session, and returns it.
func (r *run) failed(err error) error {
	p := &page{title: "It cannot go on"}
	p.say(rust, err.Error())
	p.gap()
	p.say(plain, "Nothing more is written to the machine. What was taken lies on the stick as far as it got.")
	p.options = []option{{"end", "Switch off"}}
	r.choose(p)
	return err
}

// interrupted asks what becomes of a step that did not end.
func (r *run) interrupted() error {
	folder, title, found := stick.Interrupted(r.mounted)
	if !found {
		return nil
	}
	p := &page{title: "A step was interrupted"}
	p.say(plain, "This step was begun and did not end, as when the power is cut: "+title)
	p.gap()
	p.options = []option{{"go on", "Look at the drives as they are"}}
	if stick.PutsBack(folder) {
		p.say(plain, "What it was to overwrite was saved on the stick first. Put it back, or look at the drives as they are and go on from there.")
		p.options = append(p.options, option{"back", "Put back what was saved"})
	} else {
		p.say(plain, "It has no commands that put something back: look at the drives as they are, and go on from there.")
	}
	if key, _ := r.choose(p); key == "back" {
		done, err := r.PutBack(r.ctx, folder, r.own)
		if err != nil {
			return err
		}
		r.outcome("Put back", done)
		return nil
	}
	return stick.PassOver(folder)
}

// look takes the evidence, and shows how far it is.
func (r *run) look() error {
	p := &page{title: "Looking at every drive", options: []option{{"", "…"}}}
	p.say(plain, "Nothing is written to the machine's drives.")
	r.draw(p, 0, "")
	last := ""
	err := r.Look(r.ctx, r.own, func(d *stick.Drive, c capture.Progress) {
		if now := d.Name + fmt.Sprint(c.Reads/200); now != last {
			last = now
			p.lines = p.lines[:1]
			p.say(
				plain,
				fmt.Sprintf(
					"%s: %d reads, %s read, %s kept",
					d.Called(),
					c.Reads,
					disk.Binary(c.Read),
					disk.Binary(c.Kept),
				),
			)
			r.draw(p, 0, "")
		}
	})
	if err != nil {
		return err
	}
	if len(r.Drives) > 0 {
		return r.Judge()
	}
	return nil
}

// lead goes from page to page until the session is finished.
func (r *run) lead() error {
	at := "roles"
	for {
		var err error
		switch at {
		case "roles":
			at, err = r.roles()
		case "verdict":
			at, err = r.verdict()
		case "repair":
			at, err = r.repair()
		case "retry":
			at, err = "verdict", r.TryAgain()
		case "again":
			at = "roles"
			if err = r.look(); err == nil && r.ByRole(machine.RoleClone) != nil {
				at = "verdict"
			}
		default:
			return r.end()
		}
		if err != nil {
			return r.failed(err)
		}
	}
}

// roles shows the drives, and lets a person say which is which.
func (r *run) roles() (string, error) {
	if len(r.Drives) == 0 {
		p := &page{title: "No drive"}
		p.say(rust, "The stick sees no drive but itself.")
		p.say(
			plain,
			"A controller in RAID mode may hide its drives from it: see in the firmware's setup, and switch it on again. A drive that comes late is found by looking again.",
		)
		p.options = []option{{"again", "Look again"}, {"end", "Switch off"}}
		key, _ := r.choose(p)
		return map[string]string{"again": "again", "end": "end"}[key], nil
	}
	for {
		p := &page{title: r.System.Model}
		p.say(
			quiet,
			fmt.Sprintf(
				"Started in %s mode%s.",
				map[string]string{"uefi": "UEFI", "legacy": "legacy"}[r.System.Mode],
				secure(r.System.SecureBoot),
			),
		)
		p.gap()
		p.say(title, "Which drive is which?")
		if r.ByRole(machine.RoleClone) != nil {
			p.options = []option{{"go", "It is so: judge the start"}}
		}
		for _, d := range r.Drives {
			p.say(styleOf(d.Role), fmt.Sprintf("%s: %s", d.Role, d.Called()))
			if d.Err != nil {
				p.say(rust, "Nothing could be read of it: "+d.Err.Error())
			}
			if d.Lost > 0 {
				p.say(
					rust,
					fmt.Sprintf(
						"%d bytes could not be read: it is failing, or came loose. Copy what it holds before anything else.",
						d.Lost,
					),
				)
			}
			p.options = append(p.options, option{d.Name, fmt.Sprintf("%s is %s", d.Name, roleWords[r.otherwise(d.Role)])})
			if d.Search.Left > 0 {
				p.say(brass, lookedThrough(d))
				p.options = append(p.options, option{"through:" + d.Name, fmt.Sprintf("Look through all of %s for volumes", d.Name)})
			}
		}
		if r.ByRole(machine.RoleClone) == nil {
			p.say(brass, r.Unsaid())
		}
		p.options = append(p.options, option{"look", "Look again, for a drive that came late"})
		key, _ := r.choose(p)
		switch key {
		case "go":
			return "verdict", r.Judge()
		case "look":
			if err := r.look(); err != nil {
				return "", err
			}
		}
		if err := r.through(key); err != nil {
			return "", err
		}
		for _, d := range r.Drives {
			if d.Name == key {
				r.SetRole(d, r.otherwise(d.Role))
			}
		}
	}
}

var roleWords = map[machine.Role]string{machine.RoleOriginal: "the original", machine.RoleClone: "the clone", machine.RoleOther: "neither"}

// otherwise is the role that a drive is offered instead of one; the clone first, without which
// nothing is judged.
func (r *run) otherwise(role machine.Role) machine.Role {
	switch {
	case role == machine.RoleOriginal, role == machine.RoleOther && r.ByRole(machine.RoleClone) == nil:
		return machine.RoleClone
	case role == machine.RoleClone:
		return machine.RoleOther
	}
	return machine.RoleOriginal
}

func secure(on *bool) string {
	switch {
	case on == nil:
		return ""
	case *on:
		return ", secure boot is on"
	}
	return ", secure boot is off"
}

func styleOf(role machine.Role) tcell.Style {
	if role == machine.RoleOther {
		return quiet
	}
	return title
}

// verdict shows what the machine does at power-on, without the stick, and why.
func (r *run) verdict() (string, error) {
	p := &page{title: "The start, without the stick"}
	style := rust
	switch r.Trace.Verdict {
	case startup.Starts:
		style = green
	case startup.Depends:
		style = brass
	}
	p.say(style, r.Trace.Headline)
	if r.Trace.Reason != "" {
		p.say(plain, r.Trace.Reason)
	}
	r.byPlan(p)
	for _, failed := range r.Failed() {
		p.say(brass, "Left out, as it failed here: "+failed+".")
	}
	var answers, repairs []option
	if q := r.question(); q != nil {
		p.say(title, q.Text)
		p.say(quiet, q.How)
		for _, o := range q.Options {
			answers = append(answers, option{"answer:" + o.ID, o.Label})
		}
	}
	if step, ok := r.Next(); ok {
		repairs = []option{{"repair", fmt.Sprintf("Repair it, in %s: %s", steps(len(r.Plan.Steps)), step.Title)}}
	} else if r.Trace.Verdict != startup.Starts && r.Plan.Reason != "" {
		p.say(plain, r.Plan.Reason)
	}
	p.gap()
	p.stageNames()
	for _, role := range []machine.Role{machine.RoleOriginal, machine.RoleClone} {
		if d := r.Machine.Drive(role); d != nil {
			p.pins(string(role)[:5], startup.Pins(r.Machine, d.Name))
		}
	}
	p.gap()
	for _, role := range []machine.Role{machine.RoleOriginal, machine.RoleClone} {
		p.strata(string(role)[:5], r.Machine.Drive(role))
	}
	// What is not known is asked before anything is written for its sake.
	p.options = append(answers, repairs...)
	if r.Trace.Verdict == startup.Stops {
		p.options = append(repairs, answers...)
	}
	if len(r.Failed()) > 0 {
		p.options = append(p.options, option{"retry", "Offer what failed again"})
	}
	p.options = append(p.options, option{"roles", "Which drive is which"}, option{"again", "Look again"},
		option{"end", "Finish"})
	key, _ := r.choose(p)
	if answer, ok := strings.CutPrefix(key, "answer:"); ok {
		q := r.question()
		r.Answers[q.ID] = answer
		r.Log("answered: %s %s", q.Text, answer)
		return "verdict", r.Judge()
	}
	return key, nil
}

// steps counts in words.
func steps(n int) string {
	if n == 1 {
		return "one step"
	}
	return fmt.Sprintf("%d steps", n)
}

// question is the one that settles most and that a person can answer; else the one that the plan goes
// by.
func (r *run) question() *course.Question {
	for i := range r.Trace.Missing {
		if q := &r.Trace.Missing[i]; len(q.Options) > 0 {
			return q
		}
	}
	if q := r.Plan.Ask; q != nil && len(q.Options) > 0 {
		return q
	}
	return nil
}

// end says what to do now.
func (r *run) end() error {
	p := &page{title: "Finished"}
	if r.Proved() {
		p.say(green, r.Trace.Headline)
	} else if r.Trace.Headline != "" {
		p.say(plain, r.Trace.Headline)
	}
	p.gap()
	if byHand, _ := r.ByHandFirst(); len(byHand) > 0 {
		for _, step := range byHand {
			p.say(title, "Still to be done by hand: "+step.Title)
			for _, c := range step.Commands {
				p.say(plain, "  "+c.Text)
			}
		}
		p.gap()
	}
	p.say(plain, "The evidence lies on the stick, in the folder LATCHKEY. Drop that folder into the case.")
	p.say(title, "When the machine is off, take the stick out."+r.then())
	r.leftIn(p)
	p.options = []option{{"off", "Switch off"}}
	r.choose(p)
	r.Log("finished: %s", r.Trace.Headline)
	return nil
}
