package screen

import (
	"fmt"
	"strings"

	"latchkey/core/repair"
	"latchkey/stick"
)

// repair leads through the next step.
func (r *run) repair() (string, error) {
	step, ok := r.Next()
	if !ok {
		return "verdict", nil
	}
	p := &page{title: "Step: " + step.Title}
	p.say(plain, step.Why)
	p.gap()
	p.say(brass, fmt.Sprintf("Risk: %s. About %d minutes.", step.Risk, step.Minutes))
	p.say(plain, "Saved first: "+step.Save)
	p.say(plain, "To put it back: "+step.Undo)
	p.gap()
	if stick.ByHand(step) {
		for _, c := range step.Commands {
			p.say(plain, c.Text)
		}
		p.say(title, "This is done by hand, once the stick is out."+r.then())
		p.options = []option{{"end", "Finish, and do it"}, {"verdict", "Back"}}
		key, _ := r.choose(p)
		return key, nil
	}
	writes, asks := r.Asks(step)
	p.say(title, writes)
	p.say(brass, asks)
	p.gap()
	p.say(quiet, "What is run:")
	for _, c := range step.Commands {
		p.say(quiet, "  "+strings.ReplaceAll(c.Text, "\n", "\n  "))
	}
	p.field = true
	p.options = []option{{"do", "Do it"}, {"verdict", "Back"}}
	key, typed := r.choose(p)
	if key != "do" {
		return "verdict", nil
	}
	if !r.Confirms(step, typed) {
		refused := &page{title: "Nothing was done", options: []option{{"", "Back to the step"}}}
		refused.say(rust, fmt.Sprintf("%q is not the capacity of the drive that the step writes to.", typed))
		r.choose(refused)
		return "repair", nil
	}
	passphrase := ""
	if step.Passphrase != "" {
		if key, passphrase = r.passphrase(step); key != "do" {
			return "verdict", nil
		}
	}
	working := &page{title: "Working", options: []option{{"", "…"}}}
	working.say(plain, "Do not switch off. "+step.Title)
	r.draw(working, 0, "")
	done, err := r.Do(r.ctx, step, passphrase, r.own)
	if err != nil {
		return "", err
	}
	return r.outcome(step.Title, done), nil
}

// then says that the stick is needed again after what is done by hand; "" where it is not.
func (r *run) then() string {
	if _, n := r.ByHandFirst(); n > 0 {
		return " Then start from the stick again, for " + steps(n) + " more."
	}
	return ""
}

// passphrase asks for that of what a step opens.
func (r *run) passphrase(step repair.PlanStep) (key, typed string) {
	p := &page{title: "Step: " + step.Title, field: true, secret: true}
	p.say(title, "The step opens "+step.Passphrase+", which is encrypted.")
	p.say(brass, "Type its passphrase:")
	p.say(quiet, "It is handed to the step's command, and kept nowhere. Keys are those of an American keyboard.")
	p.options = []option{{"do", "Open it, and do the step"}, {"verdict", "Back"}}
	return r.choose(p)
}

// outcome shows what became of a step.
func (r *run) outcome(what string, done stick.Done) string {
	p := &page{title: what}
	switch {
	case done.Failed != nil:
		p.say(rust, fmt.Sprintf("A command failed (%v). What it said:", done.Failed))
		p.saySaid(done.Output)
	case done.Looked:
		p.say(plain, "Done. What it said:")
		p.saySaid(done.Output)
	case done.Good:
		p.say(green, "Done, and looked at again: the drive is as it was to be.")
	default:
		p.say(brass, "Done. The machine stands otherwise than was reckoned:")
	}
	p.gap()
	if done.Judged != "" {
		p.say(plain, "Now: "+done.Judged)
	}
	p.options = []option{{"verdict", "Go on"}}
	if r.CanUndo() {
		p.options = append(p.options, option{"undo", "Put back what it overwrote"})
	}
	if key, _ := r.choose(p); key == "undo" {
		back, err := r.Undo(r.ctx, r.own)
		if err != nil {
			r.failed(err)
			return "end"
		}
		return r.outcome("Put back", back)
	}
	return "verdict"
}

// saySaid shows the end of what commands said.
func (p *page) saySaid(output string) {
	lines := strings.Split(strings.TrimSpace(output), "\n")
	for _, l := range lines[max(0, len(lines)-8):] {
		p.say(quiet, "  "+strings.TrimSpace(l))
	}
}
