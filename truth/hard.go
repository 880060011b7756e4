package truth

import (
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"time"
)

// Hard is what became of a start of the stick in a machine that makes it hard.
type Hard struct {
	Name  string
	First time.Duration // from power-on to the page that shows all drives, with their evidence
	Kept  bool          // the drives are unchanged to the byte, or were not held against that
	Shown []string      // its pages
	Lacks string        // what was to be shown, and was not; "" for nothing
	Err   error
}

// hardStart is a machine in which the stick is started, and what its first page has to say.
type hardStart struct {
	name   string
	says   []string
	memory string // MiB; "" is 768
	size   int64  // to which its drives are made longer, in bytes; 0 is as they are
	bad    uint64 // the first of 8 sectors of the clone that give a read error; 0 is none
	late   bool   // the clone is plugged in once the first page is shown
	twins  bool   // the original is the clone's copy, byte by byte
}

var hardStarts = []hardStart{
	{name: "two drives of 1 TB", says: []string{"original: ", "clone: ", "1 TB"}, size: 1e12},
	{name: "two drives of 1 TB, 512 MiB of memory", says: []string{"original: ", "clone: "}, size: 1e12, memory: "512"},
	{name: "a drive with read errors in its table", says: []string{"bytes could not be read: it is failing, or came loose"}, bad: 1},
	{name: "a drive with read errors in its boot partition", says: []string{"bytes could not be read: it is failing, or came loose"}, bad: 2048},
	{name: "a drive that comes late", says: []string{": sda", ": sdc", "Which drive is which?"}, late: true},
	{name: "two drives with the same identifiers", says: []string{"sda and sdb carry the same identifier", "nothing on them tells which"}, twins: true},
}

// HardStarts starts the stick in the machines whose names match.
func HardStarts(pattern *regexp.Regexp, workers int, each func(Hard)) {
	var chosen []hardStart
	for _, h := range hardStarts {
		if pattern.MatchString(h.name) {
			chosen = append(chosen, h)
		}
	}
	sideBySide(chosen, workers, hardStart.try, func(_ int, h Hard) { each(h) })
}

func (h hardStart) try() (r Hard) {
	r.Name = h.name
	dir, err := os.MkdirTemp("", "truth-stick")
	if err != nil {
		r.Err = err
		return r
	}
	defer os.RemoveAll(dir)
	r.Err = h.on(dir, &r)
	return r
}

func (h hardStart) on(dir string, r *Hard) error {
	s := linuxScenario(OVMF, h.name, names{})
	s.Drives = []Drive{s.Drives[1], s.Drives[1]}
	s.Drives[0].Name, s.Drives[0].Role, s.Drives[0].Bus, s.Drives[1].Bus = "a", "original", "sata", "sata"
	if !h.twins {
		s.Drives[0] = Drive{Name: "a", Role: "original", Bus: "sata", Disk: gptDisk(7, esp(fat(nil)))}
	}
	if _, err := s.Prepare(dir); err != nil {
		return err
	}
	_, args, _, err := s.withStick(dir)
	if err != nil {
		return err
	}
	sums, err := h.drives(dir)
	if err != nil {
		return err
	}
	socket := filepath.Join(dir, "qmp")
	args = append(h.arguments(args), "-qmp", "unix:"+socket+",server=on,wait=off")
	ctx, cancel := context.WithTimeout(context.Background(), 15*time.Minute)
	defer cancel()
	began := time.Now()
	t, err := start(ctx, args)
	if err != nil {
		return err
	}
	defer func() { r.Shown = t.shown }()
	if err := t.begin(10 * time.Minute); err != nil {
		return err
	}
	r.First = time.Since(began)
	if h.late {
		if err := t.plug(socket); err != nil {
			return err
		}
	}
	page := strings.Join(strings.Fields(t.screen()), " ")
	for _, words := range h.says {
		if !strings.Contains(page, words) {
			r.Lacks = words
		}
	}
	cancel()
	<-t.ended
	now, err := h.drives(dir)
	r.Kept = now == sums
	return err
}

// drives makes the drives longer, once, and tells what they hold; nothing for long ones.
func (h hardStart) drives(dir string) (sums [2][32]byte, err error) {
	for i, name := range []string{"a.img", "b.img"} {
		path := filepath.Join(dir, name)
		if h.size > 0 {
			if err := os.Truncate(path, h.size); err != nil {
				return sums, err
			}
			continue
		}
		raw, err := os.ReadFile(path)
		if err != nil {
			return sums, err
		}
		sums[i] = sha256.Sum256(raw)
	}
	return sums, nil
}

// arguments are QEMU's for the machine.
func (h hardStart) arguments(args []string) (out []string) {
	for i, a := range args {
		switch {
		case i > 0 && args[i-1] == "-m" && h.memory != "":
			a = h.memory
		case strings.HasSuffix(a, "/b.img") && h.bad > 0:
			head, path, _ := strings.Cut(a, "file=")
			a = head + "file.driver=blkdebug,file.image.driver=file,file.image.filename=" + path
			for n := range uint64(8) {
				rule := fmt.Sprintf("file.inject-error.%d.", n)
				a += fmt.Sprintf(",%sevent=none,%siotype=read,%ssector=%d,%serrno=5", rule, rule, rule, h.bad+n, rule)
			}
		case strings.Contains(a, "drive=d1,") && h.late:
			out = out[:len(out)-1] // its -device
			continue
		}
		out = append(out, a)
	}
	return out
}

// plug plugs the clone in, and looks again.
func (t *talk) plug(socket string) error {
	on, err := monitor(socket)
	if err != nil {
		return err
	}
	defer on.Close()
	const late = `{"execute":"device_add","arguments":{"driver":"usb-storage","bus":"xhci.0","port":"3","drive":"d1","id":"late"}}`
	if _, err := io.WriteString(on, late+"\n"); err != nil {
		return err
	}
	time.Sleep(15 * time.Second) // until the kernel has found it
	if err := t.choose("Look again"); err != nil {
		return err
	}
	_, err = t.wait(time.Minute, ": sdc")
	return err
}
