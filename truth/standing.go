package truth

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"latchkey/core/repair"
)

// standing is a machine that was started from the stick and halted on the page on which a step is to
// be confirmed: its images, its memory as QEMU writes it, and what its serial line has shown. Each cut
// goes on from a copy of it, so that the way to that page is gone once.
type standing struct {
	dir      string
	live     []string // QEMU's arguments with the stick
	last     []string // and without
	shown    []byte   // on the serial line
	step     repair.PlanStep
	original [32]byte
}

const memory = "memory"

// stands makes machines of a scenario stand, each once.
type stands struct {
	scenario Scenario
	dir      string
	mu       sync.Mutex
	plan     *repair.Plan
	at       map[int]*standing
}

// steps is how many steps the plan has.
func (st *stands) steps() (int, error) {
	st.mu.Lock()
	defer st.mu.Unlock()
	if st.plan == nil {
		dir := filepath.Join(st.dir, "plan")
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return 0, err
		}
		defer os.RemoveAll(dir)
		plan, err := st.scenario.plan(dir, repair.Linux)
		if err != nil {
			return 0, err
		}
		if len(plan.Steps) == 0 {
			return 0, ErrNoRepair
		}
		st.plan = &plan
	}
	return len(st.plan.Steps), nil
}

// before is the machine that stands before a step.
func (st *stands) before(step int) (*standing, error) {
	st.mu.Lock()
	defer st.mu.Unlock()
	if m := st.at[step]; m != nil {
		return m, nil
	}
	m := &standing{dir: filepath.Join(st.dir, fmt.Sprint(step)), step: st.plan.Steps[step]}
	if err := os.MkdirAll(m.dir, 0o755); err != nil {
		return nil, err
	}
	s := st.scenario
	s.Drives = append([]Drive(nil), s.Drives...)
	if err := m.arrive(&s, st.plan.Steps[:step]); err != nil {
		_ = os.RemoveAll(m.dir)
		return nil, err
	}
	st.at[step] = m
	return m, nil
}

// arrive goes the way to the page, and halts the machine there.
func (m *standing) arrive(s *Scenario, earlier []repair.PlanStep) error {
	if _, err := s.Prepare(m.dir); err != nil {
		return err
	}
	var err error
	if _, m.live, m.original, err = s.withStick(m.dir); err != nil {
		return err
	}
	// At the end it starts from NVMe, for which alone the small Linux has a driver.
	last := *s
	last.Drives = append([]Drive(nil), s.Drives...)
	for i := range last.Drives {
		last.Drives[i].Bus = "nvme"
	}
	if m.last, err = last.arguments(m.dir); err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Minute)
	defer cancel()
	socket := filepath.Join(m.dir, "qmp")
	t, err := start(ctx, append(m.live, "-qmp", "unix:"+socket+",server=on,wait=off"))
	if err != nil {
		return err
	}
	if err := t.toStep(s, earlier); err != nil {
		return err
	}
	on, err := monitor(socket)
	if err != nil {
		return err
	}
	defer on.Close()
	err = on.say("STOP", `{"execute":"stop"}`)
	if err == nil {
		err = on.say(`"completed"`, `{"execute":"migrate","arguments":{"uri":"exec:cat > `+filepath.Join(m.dir, memory)+`"}}`, `{"execute":"query-migrate"}`)
	}
	cancel()
	<-t.ended
	m.shown = t.raw.Bytes()
	return err
}

// toStep takes the stick to the page that confirms the step behind some that it carries out.
func (t *talk) toStep(s *Scenario, earlier []repair.PlanStep) error {
	if err := t.begin(5 * time.Minute); err != nil {
		return err
	}
	if err := t.roles(s); err != nil {
		return err
	}
	for _, step := range earlier {
		if err := t.confirm(step); err != nil {
			return err
		}
		if _, err := t.wait(5*time.Minute, "Go on"); err != nil {
			return err
		}
		t.send(keyEnter)
	}
	return t.toConfirm()
}

// copied is a copy of the machine in another folder, on the page that it was halted on.
func (m *standing) copied(dir string) (live, last []string, err error) {
	images, err := filepath.Glob(filepath.Join(m.dir, "*.img"))
	if err != nil {
		return nil, nil, err
	}
	if vars := filepath.Join(m.dir, "vars.fd"); exists(vars) {
		images = append(images, vars)
	}
	if err := run("cp", append(append([]string{"--sparse=always"}, images...), dir)...); err != nil {
		return nil, nil, err
	}
	in := func(args []string) (out []string) {
		for _, a := range args {
			out = append(out, strings.ReplaceAll(a, m.dir+"/", dir+"/"))
		}
		return out
	}
	return in(m.live), in(m.last), nil
}

// goOn has a copy of the machine go on, and returns what is typed at it and QEMU's monitor.
func (m *standing) goOn(ctx context.Context, dir string, live []string) (*talk, *speaking, error) {
	socket := filepath.Join(dir, "qmp")
	t, err := start(ctx, append(live, "-S", "-incoming", "exec:cat "+filepath.Join(m.dir, memory), "-qmp", "unix:"+socket+",server=on,wait=off"))
	if err != nil {
		return nil, nil, err
	}
	_, _ = t.Write(m.shown)
	on, err := monitor(socket)
	if err != nil {
		return nil, nil, err
	}
	err = on.say(`"status": "paused"`, "", `{"execute":"query-status"}`)
	if err == nil {
		err = on.say("RESUME", `{"execute":"cont"}`)
	}
	return t, on, err
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

// speaking is a conversation with QEMU's monitor.
type speaking struct {
	net.Conn
	heard bytes.Buffer
}

// monitor speaks with QEMU on its socket, which is there soon after the start.
func monitor(socket string) (*speaking, error) {
	var err error
	for range 100 {
		var on net.Conn
		if on, err = net.Dial("unix", socket); err == nil {
			_, err = io.WriteString(on, `{"execute":"qmp_capabilities"}`+"\n")
			return &speaking{Conn: on}, err
		}
		time.Sleep(100 * time.Millisecond)
	}
	return nil, err
}

// say says something, and waits until a word is heard; asked again and again is what leads to it.
func (s *speaking) say(until, once string, asked ...string) error {
	s.heard.Reset()
	if once != "" {
		if _, err := io.WriteString(s, once+"\n"); err != nil {
			return err
		}
	}
	for range 600 {
		for _, a := range asked {
			if _, err := io.WriteString(s, a+"\n"); err != nil {
				return err
			}
		}
		_ = s.SetReadDeadline(time.Now().Add(200 * time.Millisecond))
		err := s.hear(until)
		if err == nil || !os.IsTimeout(err) {
			return err
		}
		if strings.Contains(s.heard.String(), `"error"`) {
			return fmt.Errorf("QEMU's monitor: %s", s.heard.String())
		}
	}
	return fmt.Errorf("QEMU's monitor does not say %s: %s", until, s.heard.String())
}

// hear listens until a word is heard.
func (s *speaking) hear(until string) error {
	piece := make([]byte, 4096)
	for !bytes.Contains(s.heard.Bytes(), []byte(until)) {
		n, err := s.Read(piece)
		s.heard.Write(piece[:n])
		if err != nil {
			return err
		}
	}
	return nil
}
