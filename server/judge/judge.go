// Package judge runs start checks over stored cases.
package judge

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"latchkey/capture/listing"
	"latchkey/capture/running"
	"latchkey/core/compare"
	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/core/symptom"
	"latchkey/server/store"
)

// Judge examines evidence and simulates starts. What was examined is kept in
// memory, as evidence never changes.
type Judge struct {
	store    *store.Store
	room     *Room
	contents *cache[string, *machine.Contents]
	listings *cache[uint64, *listing.Listing]
	entries  *cache[uint64, *firmware.Entries] // boot entries, by the evidence
	answers  *cache[uint64, running.Answer]    // of running systems
	remarks  *cache[string, string]            // on what was pasted for steps, by its text
}

// What the caches may take in memory, in bytes.
const (
	contentsCache = 24 << 20
	listingsCache = 12 << 20
	smallCache    = 2 << 20
)

// New returns a judge over a store.
func New(s *store.Store) *Judge {
	return &Judge{store: s, room: NewRoom(), contents: newCache[string, *machine.Contents](contentsCache),
		listings: newCache[uint64, *listing.Listing](listingsCache),
		entries:  newCache[uint64, *firmware.Entries](smallCache), remarks: newCache[string, string](smallCache),
		answers: newCache[uint64, running.Answer](smallCache)}
}

// Room is the room that reading evidence takes, for what comes in.
func (j *Judge) Room() *Room { return j.room }

// Check is a whole start check.
type Check struct {
	Rules      string             `json:"rules" doc:"Version of the rules"`
	Trace      startup.Trace      `json:"trace"`
	Drives     []Drive            `json:"drives"`
	Comparison compare.Comparison `json:"comparison"`
	Mode       *machine.Fact      `json:"mode,omitempty" doc:"The firmware mode with its source; absent when it is not known"`
	// Runs are the start on the machine as it stands and with one drive or both.
	Runs    []Run       `json:"runs"`
	Entries []BootEntry `json:"entries" doc:"The firmware's boot entries, those of the order first"`
	// Symptom holds what the screen said against what was computed.
	Symptom *symptom.Judgement `json:"symptom,omitempty"`
	// Contradictions are facts that two pieces of evidence tell differently.
	Contradictions []machine.Contradiction `json:"contradictions"`
	Doubts         []compare.Doubt         `json:"doubts" doc:"Reasons to look again at which disk is which"`
}

// WhatIf changes a machine for one check; nil fields leave it as it is.
type WhatIf struct {
	Mode        *string         `json:"mode,omitempty" enum:"uefi,legacy,uefi-csm"`
	SecureBoot  *bool           `json:"secureBoot,omitempty"`
	StorageMode *string         `json:"storageMode,omitempty" enum:"ahci,raid"`
	BootOrder   []string        `json:"bootOrder,omitempty" maxItems:"128" doc:"Numbers of the boot entries, four hexadecimal digits, first tried first; those left out are not tried"`
	DeviceOrder []string        `json:"deviceOrder,omitempty" doc:"Drive roles, first tried first"`
	Attached    map[string]bool `json:"attached,omitempty" doc:"By drive role"`
}

// Case checks a case as it stands, with the changes of a what-if.
func (j *Judge) Case(ctx context.Context, c *store.Case, w WhatIf) (*Check, error) {
	a, err := j.assemble(ctx, c)
	if err != nil {
		return nil, err
	}
	if err := w.apply(&a.machine); err != nil {
		return nil, err
	}
	back, err := j.room.simulating(ctx, a.machine, 1)
	if err != nil {
		return nil, err
	}
	defer back()
	k := check(a.machine, c)
	k.Contradictions = a.contradictions
	k.Doubts = append(k.Doubts, a.doubts...)
	if mode, known := a.machine.Firmware.Mode.Get(); known {
		k.Mode = &machine.Fact{Label: "Firmware mode", Value: string(mode), Source: a.machine.Firmware.Mode.Source()}
	}
	return k, nil
}

func check(m machine.Machine, c *store.Case) *Check {
	k := &Check{Rules: startup.RulesVersion, Trace: startup.Simulate(m), Drives: []Drive{},
		Runs: runs(m), Entries: bootEntries(m.Firmware.Entries)}
	byRole := map[machine.Role]*machine.Drive{}
	pins := map[machine.Role][]startup.Pin{}
	for i := range m.Drives {
		d := &m.Drives[i]
		byRole[d.Role], pins[d.Role] = d, startup.Pins(m, d.Name)
		k.Drives = append(k.Drives, describe(d, pins[d.Role], stored(c, string(d.Role))))
	}
	k.Comparison = compare.Compare(m, byRole[machine.RoleOriginal], byRole[machine.RoleClone],
		pins[machine.RoleOriginal], pins[machine.RoleClone])
	k.Doubts = compare.Doubts(byRole[machine.RoleOriginal], byRole[machine.RoleClone], stored(c, "original").Model,
		stored(c, "clone").Model)
	if c.Said != "" {
		mode, _ := m.Firmware.Mode.Get()
		said := symptom.Judge(c.Said, mode, startup.Endings(m), pins[machine.RoleClone])
		k.Symptom = &said
	}
	reason := []string{k.Trace.Reason}
	switch k.Trace.Reaches {
	case startup.Stops:
		reason = []string{k.Comparison.Cause, k.Trace.Reason, alone("original", pins[machine.RoleOriginal])}
	case startup.StartsOriginal:
		reason = append(reason, alone("clone", startup.Pins(machine.Alone(m, "clone"), "clone")))
	}
	k.Trace.Reason = strings.Join(slices.DeleteFunc(reason, func(s string) bool { return s == "" }), " ")
	return k
}

// alone says how a drive would fare without the other, which tells the disks'
// troubles from the machine's.
func alone(role string, pins []startup.Pin) string {
	reached := "The " + role + " alone reaches its loader."
	for _, p := range pins {
		switch {
		case p.State == course.Blocks:
			return "The " + role + " alone stops at the " + strings.ToLower(p.Stage.Title()) + "."
		case p.Stage == course.StageSystem && p.State == course.Passes:
			return "The " + role + " alone starts."
		case p.Stage.Before(course.StageConfiguration) && p.State != course.Passes:
			return ""
		}
	}
	return reached
}

func stored(c *store.Case, role string) *store.Drive {
	for i := range c.Drives {
		if c.Drives[i].Role == role {
			return &c.Drives[i]
		}
	}
	return &store.Drive{Role: role}
}

func (w WhatIf) apply(m *machine.Machine) error {
	if w.SecureBoot != nil {
		m.Firmware.SecureBoot = fact.Tell(*w.SecureBoot)
	}
	if w.StorageMode != nil {
		m.Firmware.StorageMode = fact.Tell(*w.StorageMode)
	}
	order, err := BootOrder(w.BootOrder)
	if err != nil {
		return &BadChange{"bootOrder: " + err.Error()}
	}
	reorder(&m.Firmware, order)
	if w.Mode != nil {
		m.Firmware.Mode = fact.Tell(firmware.Mode(*w.Mode))
	}
	if w.DeviceOrder != nil {
		m.DeviceOrder = w.DeviceOrder
		if _, told := m.Answers[course.FirstEntry]; told && len(w.DeviceOrder) > 0 {
			m.Answers = maps.Clone(m.Answers)
			m.Answers[course.FirstEntry] = w.DeviceOrder[0]
		}
	}
	for i := range m.Drives {
		if attached, ok := w.Attached[m.Drives[i].Name]; ok {
			m.Drives[i].Attached = fact.Tell(attached)
		}
	}
	return nil
}

// BadChange is a what-if that cannot be.
type BadChange struct{ Text string }

func (e *BadChange) Error() string { return e.Text }

func tell[T ~string](s *string) fact.Of[T] {
	if s == nil {
		return fact.Unknown[T]()
	}
	return fact.Tell(T(*s))
}

// examine reads a disk once for the programs that the boot entries name; nil
// without evidence.
func (j *Judge) examine(ctx context.Context, e *store.Evidence, paths ...string) (*machine.Contents, error) {
	if e == nil {
		return nil, nil
	}
	slices.Sort(paths)
	key := fmt.Sprint(e.ID, paths)
	if c, ok := j.contents.get(key); ok {
		return c, nil
	}
	back, err := j.room.Take(ctx, examineRoom)
	if err != nil {
		return nil, err
	}
	defer back()
	in, err := j.store.Inside(ctx, e.ID)
	if err != nil {
		return nil, err
	}
	r, err := j.store.Open(ctx, e.ID, in)
	if err != nil {
		return nil, err
	}
	watched := &watch{r: r}
	d, err := disk.New(watched, e.Capacity, e.SectorSize)
	if err != nil {
		return nil, err
	}
	d.SetCounts(in.Counts)
	c := machine.Examine(d, paths...)
	if watched.err != nil {
		return nil, watched.err // a database that fails is no damaged disk
	}
	j.contents.add(key, c, watched.read*perByte+perDisk)
	return c, nil
}

// What is kept of a disk takes some times as much memory as what was read of it.
const (
	perByte = 3
	perDisk = 32 << 10
)

// watch remembers the first error that is not about the evidence's extents, and how
// much was read. After such an error nothing is read any more.
type watch struct {
	r    io.ReaderAt
	read int64
	err  error
}

func (w *watch) ReadAt(p []byte, off int64) (int, error) {
	if w.err != nil {
		return 0, w.err
	}
	n, err := w.r.ReadAt(p, off)
	w.read += int64(n)
	if err != nil && !disk.IsNotCaptured(err) && !disk.IsUnreadable(err) && !errors.Is(err, io.EOF) {
		w.err = err
	}
	return n, err
}

// Record runs a check and keeps its verdict with the case.
func (j *Judge) Record(ctx context.Context, c *store.Case) (*Check, error) {
	k, err := j.Case(ctx, c, WhatIf{})
	if err != nil {
		return nil, err
	}
	return k, j.store.Record(ctx, k.record(c.ID), j.words(ctx, c, k))
}

// record is the check as it is kept.
func (k *Check) record(id uint64) store.Check {
	t := k.Trace
	return store.Check{CaseID: id, Rules: k.Rules, Verdict: string(t.Verdict), Reaches: string(t.Reaches),
		Stage: string(t.Stage), Headline: t.Headline}
}

// ValidRole reports whether a role is one that cases have.
func ValidRole(role string) bool { return slices.Contains(store.Roles, role) }

// tail returns the last four hexadecimal digits of an identifier, as the
// screens show it.
func tail(id string) string {
	if plain := strings.ReplaceAll(id, "-", ""); len(plain) >= 4 {
		return strings.ToLower(plain[len(plain)-4:])
	}
	return ""
}
