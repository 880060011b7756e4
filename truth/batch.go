package truth

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
)

// batchSize is how many drives one machine is given, beside the one that starts them.
const batchSize = 47

// starter is a drive with the program that starts those of all others.
func starter() diskmaker.Disk {
	return gptDisk(2, esp(fat(map[string][]byte{vendorPath: StartEvery.Program("").Bytes()})))
}

var errNoEnd = errors.New("the firmware did not come to its end")

// tryBatch holds machines of one drive each against one start of the firmware that goes
// through the drives of all: which of them have a program that is started.
func tryBatch(batch []spoiltByte) []Tried {
	dir, err := os.MkdirTemp("", "truth")
	if err != nil {
		return []Tried{{Report: Report{Err: err}}}
	}
	defer os.RemoveAll(dir)
	out := make([]Tried, len(batch))
	image, err := starter().Build()
	if err == nil {
		err = image.WriteFile(filepath.Join(dir, "starter.img"))
	}
	if err != nil {
		return []Tried{{Report: Report{Err: err}}}
	}
	args := attached(dir, "starter", batchSize)
	for i, b := range batch {
		out[i].Scenario = b.scenario()
		name := fmt.Sprintf("d%d", i)
		image, err := b.on(name, MarkNext).build(dir)
		if err != nil {
			return []Tried{{Report: Report{Scenario: out[i].Scenario, Err: err}}}
		}
		if err := image.WriteFile(filepath.Join(dir, name+".img")); err != nil {
			return []Tried{{Report: Report{Scenario: out[i].Scenario, Err: err}}}
		}
		out[i].Trace, out[i].Err = computeAlone(out[i].Scenario)
		args = append(args, attached(dir, name, i)...)
	}
	said, err := startAll(dir, args)
	if half := len(batch) / 2; errors.Is(err, errNoEnd) && half > 0 { // one of them keeps the firmware
		return append(tryBatch(batch[:half]), tryBatch(batch[half:])...)
	}
	for i := range out {
		t := &out[i]
		started := strings.Contains(said, fmt.Sprintf("MARK d%d:", i))
		t.Open = t.Trace.Verdict == startup.Depends
		switch {
		case t.Err != nil:
		case errors.Is(err, errNoEnd):
			t.Differs = err.Error()
		case err != nil:
			t.Err = err
		case started != (t.Trace.Verdict == startup.Starts):
			t.Differs = fmt.Sprintf("computed %s, started among others: %v", t.Trace.Verdict, started)
		}
	}
	return out
}

func attached(dir, name string, place int) []string {
	return []string{"-drive", fmt.Sprintf("if=none,id=%s,format=raw,cache=unsafe,file=%s", name, filepath.Join(dir, name+".img")),
		"-device", fmt.Sprintf("virtio-blk-pci,drive=%s,addr=%#x.%d,multifunction=on", name, 4+place/8, place%8)}
}

// computeAlone is what the check says of a machine.
func computeAlone(s Scenario) (startup.Trace, error) {
	dir, err := os.MkdirTemp("", "truth")
	if err != nil {
		return startup.Trace{}, err
	}
	defer os.RemoveAll(dir)
	description, err := s.Prepare(dir)
	if err != nil {
		return startup.Trace{}, err
	}
	return Compute(description)
}

// startAll starts the firmware with drives, and returns what the serial port said.
func startAll(dir string, drives []string) (string, error) {
	raw, err := OVMF.store()
	if err != nil {
		return "", err
	}
	first := []diskmaker.Entry{entry(0, starter(), 1, vendorPath)}
	vars, err := withVariables(raw, diskmaker.Variables(first, []uint16{0}, nil))
	if err != nil {
		return "", err
	}
	args, err := arguments(OVMF, dir, nil, vars)
	if err != nil {
		return "", err
	}
	args = append(args, drives...)
	r, err := bootUntil(dir, args, 2*time.Minute, func(serial string) (r Result) {
		if strings.Contains(serial, "All are tried") {
			r.Ended = "gave up"
		}
		return r
	})
	if err == nil && r.Ended != "gave up" {
		err = errNoEnd
	}
	return r.Serial, err
}
