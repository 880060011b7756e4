package screen

import (
	"fmt"

	"latchkey/core/startup"
	"latchkey/stick"
)

// plan shows a plan that lies on the stick: what it is for, or why it is not carried out.
func (r *run) plan() {
	r.brought = stick.FindPlan(r.mounted)
	if r.brought == nil || len(r.Drives) == 0 {
		return
	}
	r.Bring(r.brought)
	p := &page{title: "A plan lies on the stick"}
	if r.brought.Err != nil {
		p.say(rust, "It is not carried out: "+r.brought.Err.Error()+".")
		p.gap()
		p.say(
			plain,
			"Nothing was taken from it. The drives that are here are judged, and a plan can be made on the spot.",
		)
		p.options = []option{{"", "Go on"}}
		r.choose(p)
		r.brought = nil
		return
	}
	p.say(title, r.brought.Case)
	p.say(
		quiet,
		"Made "+r.brought.Made.UTC().
			Format("2 Jan 2006 15:04")+
			" UTC. Its drives are here, told by capacity, identifier and serial number:",
	)
	for _, d := range r.Drives {
		p.say(styleOf(d.Role), fmt.Sprintf("%s: %s", d.Role, d.Called()))
	}
	p.gap()
	for i, s := range r.brought.Steps {
		p.say(plain, fmt.Sprintf("%d. %s", i+1, s.Title))
	}
	p.options = []option{{"go", "Go by it"}, {"leave", "Leave it: make a plan on the spot"}}
	if key, _ := r.choose(p); key == "leave" {
		r.Leave()
		r.brought = nil
	}
}

// byPlan says by which plan the steps are.
func (r *run) byPlan(p *page) {
	switch {
	case r.brought == nil:
	case r.brought.Err != nil:
		p.say(brass, "The plan of the case is left: "+r.brought.Err.Error()+". What follows was made on the spot.")
	case r.ByBrought() && len(r.Plan.Steps) > 0:
		text := "By the plan of the case " + r.brought.Case + "."
		if r.Plan.Verdict != startup.Starts {
			text += " That it leads to a start goes by what the case knows: the drives here do not tell it."
		}
		p.say(quiet, text)
	}
}

// leftIn says what the machine does when the stick stays in it.
func (r *run) leftIn(p *page) {
	trace, ok := r.LeftIn(r.own)
	switch {
	case !ok:
	case trace.Verdict == startup.Depends:
		p.say(quiet, "Left in, the machine may start it again: that goes by the firmware's order.")
	case trace.Verdict != r.Trace.Verdict || trace.Drive != r.Trace.Drive:
		p.say(brass, "Left in: "+trace.Headline)
	default:
		p.say(quiet, "Left in, it changes nothing of the start.")
	}
}
