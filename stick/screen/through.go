package screen

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/gdamore/tcell/v2"

	"latchkey/capture"
	"latchkey/core/disk"
	"latchkey/stick"
)

// lookedThrough says how far volumes were looked for on a drive whose table tells of none.
func lookedThrough(d *stick.Drive) string {
	s := d.Search
	text := fmt.Sprintf("Its table tells of no partition. Volumes were looked for up to %s: %d found. %s are left", disk.Binary(s.UpTo),
		s.Found, disk.Binary(s.Left))
	if s.Takes >= time.Second {
		text += fmt.Sprintf(", which take about %s", s.Takes.Round(time.Second))
	}
	return text + "."
}

// through looks through the drive that an option names, until all of it was looked at or a
// person ends that.
func (r *run) through(key string) error {
	name, is := strings.CutPrefix(key, "through:")
	for _, d := range r.Drives {
		if !is || d.Name != name {
			continue
		}
		search, end := context.WithCancel(r.ctx)
		defer end()
		p := &page{title: "Looking through " + d.Called(), options: []option{{"end", "End it here, and keep what was found"}}}
		p.say(plain, "Nothing is written to the machine's drives.")
		r.draw(p, 0, "")
		last := ""
		ending := func() {
			end()
			e := &page{title: p.title}
			e.say(plain, "It ends as soon as the drive has answered. What was found is kept.")
			r.draw(e, 0, "")
		}
		return r.until(ending, func() error {
			return r.LookThrough(r.ctx, search, d, func(_ *stick.Drive, c capture.Progress) {
				if c.Of == 0 || search.Err() != nil {
					return
				}
				now := fmt.Sprintf("%d %%: %s of %s, %d found", 100*c.Searched/c.Of, disk.Binary(c.Searched), disk.Binary(c.Of), c.Found)
				if now != last {
					last, p.lines = now, p.lines[:1]
					p.say(plain, now)
					r.draw(p, 0, "")
				}
			})
		})
	}
	return nil
}

// until does something that takes long, and calls end when its only option is taken meanwhile.
func (t *terminal) until(end func(), do func() error) error {
	released := make(chan struct{})
	go func() {
		defer close(released)
		for {
			switch e := t.screen.PollEvent().(type) {
			case nil, *tcell.EventInterrupt:
				return
			case *tcell.EventKey:
				if e.Key() == tcell.KeyEnter || e.Key() == tcell.KeyRune && e.Rune() == '1' {
					end()
				}
			}
		}
	}()
	err := do()
	for t.screen.PostEvent(tcell.NewEventInterrupt(nil)) != nil {
		time.Sleep(time.Millisecond) // as long as keys wait to be taken
	}
	<-released
	return err
}
