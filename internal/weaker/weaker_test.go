package weaker_test

import (
	"flag"
	"fmt"
	"hash/fnv"
	"io"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/capture"
	"latchkey/capture/listing"
	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/demo"
	"latchkey/internal/expected"
	"latchkey/internal/field"
	"latchkey/internal/reference"
	"latchkey/internal/weaker"
	"latchkey/truth"
)

var (
	count = flag.Int("weakenings", 24, "how often each machine is weakened")
	seed  = flag.Uint64("seed", 1, "another one draws others")
	drawn = flag.Int("machines", 40, "how many machines are drawn at random beside the others")

	otherwise = flag.Int("otherwise", 4, "each how many machines stand beside themselves with another firmware")
)

// whole is a machine of which everything is known, with its disks.
type whole struct {
	name    string
	machine machine.Machine
	disks   map[string]io.ReaderAt // by drive
	files   map[string]string      // of those that a tool can read
}

// machines are those of package truth, some drawn at random among them, judged to the hand-over
// and to the end, and those of the demo world.
func machines(t *testing.T) []whole {
	t.Helper()
	scenarios := truth.Scenarios()
	if testing.Short() {
		scenarios = some(scenarios)
	} else {
		for i := range uint64(*drawn) {
			scenarios = append(scenarios, truth.Random(*seed*10_000+i))
		}
	}
	list := make([]whole, len(scenarios))
	side(len(scenarios), func(i int) { list[i] = prepared(t, scenarios[i]) })
	for _, w := range slices.Clone(list) {
		if w.machine.Until == machine.UntilLoader {
			w.name, w.machine.Until = w.name+", to the end", machine.UntilSystem
			list = append(list, w)
		}
	}
	for i, w := range slices.Clone(list) {
		if i%*otherwise == 0 {
			list = append(list, w.elsewhere())
		}
	}
	for _, c := range demo.Cases() {
		list = append(list, demonstrated(t, c))
	}
	return append(list, met(t)...)
}

// some are those of which a quick round makes the disks: every third that needs no tool for them.
func some(scenarios []truth.Scenario) (few []truth.Scenario) {
	for i, s := range scenarios {
		if i%3 == 0 && !slices.ContainsFunc(s.Drives, func(d truth.Drive) bool { return d.Make != nil }) {
			few = append(few, s)
		}
	}
	return few
}

// side does something for each number below n, two at a time.
func side(n int, do func(i int)) {
	var wg sync.WaitGroup
	turns := make(chan struct{}, 2)
	for i := range n {
		turns <- struct{}{}
		wg.Go(func() {
			defer func() { <-turns }()
			do(i)
		})
	}
	wg.Wait()
}

// elsewhere is the same machine with a firmware that makes some choices otherwise.
func (w whole) elsewhere() whole {
	h := fnv.New64a()
	h.Write([]byte(w.name))
	r := rand.New(rand.NewPCG(h.Sum64(), *seed+1))
	w.machine = weaker.Copy(w.machine)
	for range 1 + r.IntN(6) {
		c := firmware.Choices[r.IntN(len(firmware.Choices))]
		if len(w.machine.DeviceOrder) > 0 && strings.HasPrefix(c.Key, "starts") {
			continue // the list shows what it starts from
		}
		made, _ := w.machine.Firmware.Behaviour.Of(c).Get()
		w.machine.Firmware.Behaviour = w.machine.Firmware.Behaviour.With(c, fact.Tell(!made))
		w.name += ", not " + c.Key
	}
	return w
}

func prepared(t *testing.T, s truth.Scenario) whole {
	dir := t.TempDir()
	description, err := s.Prepare(dir)
	if err != nil {
		reference.Lacks(t, "%v", err)
	}
	m, err := capture.Load(description)
	assert.NoError(t, err)
	w := whole{fmt.Sprintf("%s: %s", s.Firmware, s.Name), m, map[string]io.ReaderAt{}, map[string]string{}}
	for _, d := range m.Drives {
		w.files[d.Name] = filepath.Join(dir, d.Name+".img")
		f, err := os.Open(w.files[d.Name])
		assert.NoError(t, err)
		t.Cleanup(func() { f.Close() })
		w.disks[d.Name] = f
	}
	return w
}

func demonstrated(t *testing.T, c demo.Case) whole {
	w := whole{"demo: " + c.Name, expected.Demo(t, c), map[string]io.ReaderAt{}, nil}
	for role, d := range map[string]demo.Drive{"original": c.Original, "clone": c.Clone} {
		if d.Disk != nil {
			image, err := d.Disk()
			require.NoError(t, err)
			w.disks[role] = image
		}
	}
	return w
}

// met are the machines of package field, as technicians meet them.
func met(t *testing.T) (list []whole) {
	for _, group := range slices.Sorted(maps.Keys(field.Groups)) {
		for _, m := range field.Groups[group](t) {
			w := whole{group + ": " + m.Name, m.At(t), map[string]io.ReaderAt{}, nil}
			for _, d := range w.machine.Drives {
				if image := field.Image(d.Contents); image != nil {
					w.disks[d.Name] = image
				}
			}
			list = append(list, w)
		}
	}
	return list
}

// answer is what a check says: the verdict, and what is started.
func answer(m machine.Machine) string {
	t := startup.Simulate(m)
	if t.Verdict == startup.Starts || t.Verdict == startup.StartsOriginal {
		return fmt.Sprintf("%s from %s", t.Verdict, t.Drive)
	}
	return string(t.Verdict)
}

// TestLessEvidenceNeverGivesAnotherAnswer takes evidence away from machines of which the
// answer is known: what is left must give the same answer, or say that it depends.
func TestLessEvidenceNeverGivesAnotherAnswer(t *testing.T) {
	list := machines(t)
	if testing.Short() {
		*count = min(*count, 8)
	}
	var tried, same, open, broken atomic.Int64
	var mu sync.Mutex
	classes := map[string]int{}
	side(len(list), func(i int) {
		w := list[i]
		full := answer(w.machine)
		if full == string(startup.Depends) {
			return
		}
		h := fnv.New64a()
		h.Write([]byte(w.name))
		r := rand.New(rand.NewPCG(h.Sum64(), *seed))
		for range *count {
			m, lost := weakened(r, &w)
			tried.Add(1)
			switch got := answer(m); got {
			case full:
				same.Add(1)
			case string(startup.Depends):
				open.Add(1)
			default:
				broken.Add(1)
				mu.Lock()
				class := full + " → " + got + ": " + strings.Join(lost, " + ")
				if classes[class]++; classes[class] == 1 {
					trace := startup.Simulate(m)
					t.Errorf("%s: %s, and without %s %s: %s", w.name, full, strings.Join(lost, " and "), got, trace.Headline)
				}
				mu.Unlock()
			}
		}
	})
	t.Logf("%d machines weakened %d times: %d the same, %d open, %d violations", len(list), tried.Load(), same.Load(), open.Load(), broken.Load())
	require.NotZero(t, same.Load())
	require.NotZero(t, open.Load())
}

// weakened takes one to three things away.
func weakened(r *rand.Rand, w *whole) (m machine.Machine, lost []string) {
	m = weaker.Copy(w.machine)
	for len(lost) == 0 {
		for range 1 + r.IntN(3) {
			if what := weaken(r, &m, w); what != "" {
				lost = append(lost, what)
			}
		}
	}
	return m, lost
}

func weaken(r *rand.Rand, m *machine.Machine, w *whole) string {
	lists := [][]weaker.Loss{weaker.Facts, weaker.Entries, weaker.Disks}
	kind := r.IntN(len(lists) + 5)
	switch {
	case kind < len(lists):
		l := lists[kind][r.IntN(len(lists[kind]))]
		if l.Of(r, m) {
			return l.Name
		}
	case kind == len(lists):
		return weaker.Told(r, m)
	case kind == len(lists)+1:
		return entriesText(r, m)
	case kind == len(lists)+2:
		return listed(r, m, w)
	default:
		return parted(r, m, w)
	}
	return ""
}

// parted examines a disk anew of which only parts are held.
func parted(r *rand.Rand, m *machine.Machine, w *whole) string {
	d := &m.Drives[r.IntN(len(m.Drives))]
	bytes, held := w.disks[d.Name], w.machine.Drives[slices.IndexFunc(w.machine.Drives, func(x machine.Drive) bool {
		return x.Name == d.Name
	})].Contents
	if bytes == nil || held == nil || d.Contents == nil {
		return ""
	}
	size := held.Layout.Bytes()
	ranges, what := weaker.Part(r, size)
	on, err := disk.New(&weaker.Holes{ReaderAt: bytes, Held: ranges}, size, held.Layout.SectorSize)
	if err != nil {
		return ""
	}
	var paths []string
	if e := w.machine.Firmware.Entries; e != nil {
		paths = e.Files()
	}
	d.Contents = machine.Examine(on, paths...)
	return what + " of " + d.Name + pasted(r, d, w)
}

// entriesText replaces the boot entries by what is left of a listing of them.
func entriesText(r *rand.Rand, m *machine.Machine) string {
	e := m.Firmware.Entries
	if e == nil {
		return ""
	}
	for _, one := range e.All {
		if one.App {
			return "" // the listing does not print categories, which loaders have none of
		}
	}
	print := weaker.EntriesText
	if r.IntN(3) == 0 && !e.Open && !e.OrderOpen && !e.NextOpen {
		print = weaker.FirmwareText
	}
	text, what := weaker.Cut(r, print(e))
	m.Firmware.Entries = nil
	if l, err := listing.Read("", []byte(text), ""); err == nil {
		m.Firmware.Entries = l.Entries
	}
	return "the bytes of the boot variables but their listing, of it " + what
}

// commands print what a disk's table holds, each in its own form.
var commands = [][]string{
	{"sfdisk", "--dump"}, {"sfdisk", "--json"}, {"sfdisk", "--list"}, {"fdisk", "--list"},
	{"parted", "--script", "--machine", "%", "unit", "s", "print"}, {"parted", "--script", "--machine", "%", "print"},
	{"parted", "--script", "%", "print"}, {"parted", "--script", "%", "unit", "B", "print"}, {"sgdisk", "--print"},
	{"gdisk", "-l"}, {"parted", "--script", "--json", "%", "unit", "s", "print"}, {"blkid", "-p"},
}

// listed replaces a disk by what is left of a listing of it: one of the project's own
// export, or of a tool's.
func listed(r *rand.Rand, m *machine.Machine, w *whole) string {
	d := &m.Drives[r.IntN(len(m.Drives))]
	if d.Contents == nil {
		return ""
	}
	text, form := printed(r, &d.Contents.Layout, w.files[d.Name])
	if text == "" {
		return ""
	}
	text, what := weaker.Cut(r, text)
	d.Contents = nil
	if l, err := listing.Read("", []byte(text), ""); err == nil && len(l.Disks) > 0 {
		d.Contents = l.Disks[0].Contents()
	}
	return fmt.Sprintf("the bytes of %s but the output of %s%s, of it %s", d.Name, form, pasted(r, d, w), what)
}

// pasted adds some of the disk's files of configuration as people paste them, cut.
func pasted(r *rand.Rand, d *machine.Drive, w *whole) (beside string) {
	at := slices.IndexFunc(w.machine.Drives, func(x machine.Drive) bool { return x.Name == d.Name })
	held := w.machine.Drives[at].Contents
	if held == nil {
		return ""
	}
	for i := range held.Volumes {
		for _, c := range held.Volumes[i].Configs {
			if c.Kind != machine.ConfigFstab && c.Kind != machine.ConfigGRUB || c.File == nil || r.IntN(2) == 0 {
				continue
			}
			text, what := weaker.Cut(r, string(c.File.Bytes))
			l, err := listing.Read("", []byte(text), "")
			if err != nil {
				continue
			}
			for _, file := range l.Written {
				if d.TellWritten(file, fact.Source{Origin: fact.Text}) {
					beside += " and " + c.Path + " without " + what
				}
			}
		}
	}
	return beside
}

func printed(r *rand.Rand, l *disk.Layout, file string) (text, form string) {
	switch n := r.IntN(2 + len(commands)); {
	case n == 0:
		out, _ := listing.ExportDump(l, "/dev/sda")
		return string(out), "the export"
	case n == 1:
		out, _ := listing.ExportJSON(l, "/dev/sda")
		return string(out), "the export as JSON"
	case file == "":
		return "", ""
	default:
		args, placed := slices.Clone(commands[n-2]), false
		for i, a := range args {
			if a == "%" {
				args[i], placed = file, true
			}
		}
		if !placed {
			args = append(args, file)
		}
		return reference.Printed(args[0], args[1:]...), strings.Join(commands[n-2], " ")
	}
}
