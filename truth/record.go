package truth

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"sync"

	"latchkey/core/repair"
)

// Record keeps what real firmware did with machines, line by line in a file, so that a table of
// hundreds can be broken off and gone on with, and new rules be held against starts that were.
// What is computed is never kept. A machine is known by its name: who changes one takes its
// line out of the file. A repair is known by its commands, too.
type Record struct {
	mu   sync.Mutex
	file *os.File
	kept map[string]Result
}

// keptLine is one start in the file.
type keptLine struct {
	Name   string // as Scenario.Called gives it
	Script string `json:",omitempty"` // of a repair: SHA-256 of its commands
	Result Result
}

// longestKept is how much of a serial port's output is kept of a start, from its end on: bytes.
const longestKept = 256 << 10

// OpenRecord opens a record, or begins one. A last line that was cut off by the end of a run is
// passed over, another that cannot be read is an error.
func OpenRecord(path string) (*Record, error) {
	raw, err := os.ReadFile(path)
	if err != nil && !os.IsNotExist(err) {
		return nil, err
	}
	whole := bytes.LastIndexByte(raw, '\n') + 1
	r := &Record{kept: map[string]Result{}}
	lines := bufio.NewScanner(bytes.NewReader(raw[:whole]))
	lines.Buffer(nil, 8*longestKept)
	for at := 1; lines.Scan(); at++ {
		var l keptLine
		if err := json.Unmarshal(lines.Bytes(), &l); err != nil {
			return nil, fmt.Errorf("%s, line %d: expected what became of a machine: %w", path, at, err)
		}
		r.kept[l.key()] = l.Result
	}
	if err := lines.Err(); err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return nil, err
	}
	if r.file, err = os.OpenFile(path, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o644); err != nil {
		return nil, err
	}
	return r, r.file.Truncate(int64(whole))
}

// Close ends the record.
func (r *Record) Close() error { return r.file.Close() }

func (l keptLine) key() string { return l.Name + "\x00" + l.Script }

func (r *Record) of(l keptLine) (Result, bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	result, ok := r.kept[l.key()]
	return result, ok
}

func (r *Record) add(l keptLine) error {
	l.Result.Serial = l.Result.Serial[max(0, len(l.Result.Serial)-longestKept):]
	line, err := json.Marshal(l)
	if err != nil {
		return err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.kept[l.key()] = l.Result
	_, err = r.file.Write(append(line, '\n'))
	return err
}

// Run is Run of a machine that may stand in the record: its start is taken from there, and what
// is computed is held against it. One that does not stand there is started and added.
func (r *Record) Run(s Scenario) Report {
	known := keptLine{Name: s.Called()}
	result, ok := r.of(known)
	if !ok {
		report := Run(s)
		if report.Err == nil {
			known.Result = report.Result
			report.Err = r.add(known)
		}
		return report
	}
	return s.report(func(string) (Result, error) { return result, nil })
}

// Repair is Repair of a machine that may stand in the record, with the same commands.
func (r *Record) Repair(s Scenario) Repaired {
	plan, err := s.planned()
	if err != nil {
		return Repaired{Scenario: s, Err: err}
	}
	script, _ := repair.Script(plan, repair.Linux)
	sum := sha256.Sum256([]byte(script))
	known := keptLine{Name: s.Called(), Script: hex.EncodeToString(sum[:])}
	if result, ok := r.of(known); ok {
		done := Repaired{Scenario: s, Plan: plan, Result: result}
		done.Started = done.startedFromClone()
		return done
	}
	done := Repair(s)
	if done.Err == nil {
		known.Result = done.Result
		done.Err = r.add(known)
	}
	return done
}
