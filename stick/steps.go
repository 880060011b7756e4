package stick

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"latchkey/capture"
	"latchkey/capture/planfile"
	"latchkey/core/machine"
	"latchkey/core/repair"
	"latchkey/core/startup"
)

// Next is the step that comes next; ok is false where there is none.
func (s *Session) Next() (step repair.PlanStep, ok bool) {
	if len(s.Plan.Steps) == 0 {
		return step, false
	}
	return s.Plan.Steps[0], true
}

// ByHandFirst are the steps with which the plan begins that are done by hand, and how many of those
// behind them the stick does.
func (s *Session) ByHandFirst() (byHand []repair.PlanStep, then int) {
	first := slices.IndexFunc(s.Plan.Steps, func(step repair.PlanStep) bool { return !ByHand(step) })
	if first < 0 {
		return s.Plan.Steps, 0
	}
	for _, step := range s.Plan.Steps[first:] {
		if !ByHand(step) {
			then++
		}
	}
	return s.Plan.Steps[:first], then
}

// ByHand reports whether a step is done by hand, when the stick is out: in the firmware's screens, or
// in the case's inside.
func ByHand(step repair.PlanStep) bool { return step.Toolbox != repair.Linux || step.Shell == "" }

// Confirms reports whether what was typed is the capacity of the drive that a step writes to.
func (s *Session) Confirms(step repair.PlanStep, typed string) bool {
	d := s.target(step)
	return d != nil && capture.ConfirmsCapacity(typed, d.Size)
}

// Asks says what a step writes to, and what is to be typed to confirm it.
func (s *Session) Asks(step repair.PlanStep) (writes, typed string) {
	d := s.target(step)
	if d == nil {
		return "", ""
	}
	number, unit := capture.WholeCapacity(d.Size)
	return "It writes to the " + string(d.Role) + ": " + d.Called() + ".",
		fmt.Sprintf("To be sure that it is this one, type its capacity, %s %s:", number, unit)
}

// target is the drive that a step touches; of one that touches none, such as a boot entry, the
// clone that it is made for.
func (s *Session) target(step repair.PlanStep) *Drive {
	if step.Disk == "" {
		return s.ByRole(machine.RoleClone)
	}
	for _, d := range s.Drives {
		if d.Name == step.Disk {
			return d
		}
	}
	return nil
}

// Done is what became of a step.
type Done struct {
	Output string
	Failed error  // why the commands ended early
	Judged string // what looking again says
	Good   bool   // the machine stands as the step was to leave it
	Looked bool   // it was a step that only looks: what it said is what is wanted of it
}

// Do runs a step's commands, which save on the stick what they overwrite, and looks again.
// Before it writes anything it puts down that it begins: a step that was interrupted is known
// by that at the next start. The passphrase is of what the step opens; it goes to its commands,
// and is kept nowhere.
func (s *Session) Do(ctx context.Context, step repair.PlanStep, passphrase, stick string) (Done, error) {
	if ByHand(step) {
		return Done{}, errors.New("this step is done by hand")
	}
	script, shell := repair.Script(repair.Plan{Steps: []repair.PlanStep{step}}, repair.Linux)
	if shell != repair.POSIX {
		return Done{}, errors.New("the step has no commands for the stick")
	}
	s.steps++
	folder := s.stepFolder()
	if err := os.Mkdir(folder, 0o755); err != nil {
		return Done{}, fmt.Errorf("the stick does not take the step: %w", err)
	}
	path := filepath.Join(folder, "step.sh")
	if err := save(path, []byte(script)); err != nil {
		return Done{}, err
	}
	if len(step.PutBack) > 0 {
		if err := save(filepath.Join(folder, undoName), []byte(undoScript(step))); err != nil {
			return Done{}, err
		}
	}
	if err := save(filepath.Join(folder, begunName), []byte(step.Title+"\r\n")); err != nil {
		return Done{}, err
	}
	s.Log("step %d begins: %s", s.steps, step.Title)
	began := s.now()
	out, err := s.run(path, typed(step, passphrase))
	d := Done{Output: string(out), Failed: err}
	ended := s.now()
	if kept := save(filepath.Join(folder, "output.txt"), out); kept != nil {
		return d, kept
	}
	if err == nil {
		if renamed := os.Rename(filepath.Join(folder, begunName), filepath.Join(folder, "done.txt")); renamed != nil {
			return d, renamed
		}
	}
	if err == nil {
		s.done = append(s.done, step.Key)
		maps.Copy(s.Answers, repair.Shown(s.Machine, step.Key))
	} else {
		s.failed = append(s.failed, step)
	}
	if err := s.again(ctx, stick); err != nil {
		return d, err
	}
	d.Good = err == nil && s.Trace.Verdict == step.After.Verdict && s.Trace.Stage == step.After.Stage
	d.Judged, d.Looked = s.Trace.Headline, err == nil && step.Risk == repair.RiskNone && step.Passphrase != ""
	s.Log("step %d: failed %v, now: %s", s.steps, err, s.Trace.Headline)
	return d, s.keep(planfile.Record{Key: step.Key, Title: step.Title, State: stateOf(err), Began: began, Ended: ended})
}

// again takes new captures and judges them.
func (s *Session) again(ctx context.Context, stick string) error {
	if err := s.Look(ctx, stick, nil); err != nil {
		return err
	}
	return s.Judge()
}

const (
	begunName = "begun.txt"
	undoName  = "put-back.sh"
)

// undoScript puts back what a step overwrote: its own commands, in the same way as the step.
func undoScript(step repair.PlanStep) string {
	back := step
	back.Form = repair.Form{Toolbox: step.Toolbox, Shell: step.Shell, Commands: step.PutBack}
	back.Title = "Put back: " + step.Title
	text, _ := repair.Script(repair.Plan{Steps: []repair.PlanStep{back}}, repair.Linux)
	return text
}

// CanUndo reports whether the last step left something that commands put back.
func (s *Session) CanUndo() bool { return PutsBack(s.stepFolder()) }

// PutsBack reports whether commands put back what the step of a folder overwrote.
func PutsBack(folder string) bool {
	_, err := os.Stat(filepath.Join(folder, undoName))
	return err == nil
}

// stepFolder is where the last step was begun.
func (s *Session) stepFolder() string {
	return filepath.Join(s.Folder, fmt.Sprintf("step-%d", s.steps))
}

// Undo puts back what the last step overwrote, and looks again.
func (s *Session) Undo(ctx context.Context, stick string) (Done, error) {
	began := s.now()
	last := len(s.record) - 1
	if last >= 0 {
		s.done = slices.DeleteFunc(s.done, func(key string) bool { return key == s.record[last].Key })
	}
	d, err := s.PutBack(ctx, s.stepFolder(), stick)
	if err != nil || d.Failed != nil || last < 0 {
		return d, err
	}
	undone := s.record[last]
	undone.State, undone.Began, undone.Ended = "undone", began, s.now()
	return d, s.keep(undone)
}

// stateOf is what became of a step by how its commands ended.
func stateOf(err error) string {
	if err != nil {
		return "failed"
	}
	return "done"
}

// keep adds to the record of the session's steps, which the application reads.
func (s *Session) keep(r planfile.Record) error {
	r.Began, r.Ended, r.Now = r.Began.UTC(), r.Ended.UTC(), s.Trace.Headline
	s.record = append(s.record, r)
	raw, err := json.MarshalIndent(s.record, "", "  ")
	if err == nil {
		err = save(filepath.Join(s.Folder, planfile.RecordName), raw)
	}
	return errors.Join(err, s.sums())
}

// run runs a step's script, with the drives' serial numbers where its commands look for them.
func (s *Session) run(script, typed string) ([]byte, error) {
	s.putSerialsDown()
	return s.world.run(script, typed)
}

// PutBack puts back what the step of a folder had saved, of this session or of one that was
// interrupted, and looks again.
func (s *Session) PutBack(ctx context.Context, folder, stick string) (Done, error) {
	s.Log("putting back what %s overwrote", filepath.Base(folder))
	out, err := s.run(filepath.Join(folder, undoName), "")
	d := Done{Output: string(out), Failed: err}
	s.steps++ // the captures after it have names of their own
	if err == nil {
		_ = os.Rename(filepath.Join(folder, begunName), filepath.Join(folder, "put-back.txt"))
	}
	if err := s.again(ctx, stick); err != nil {
		return d, err
	}
	d.Judged, d.Good = s.Trace.Headline, err == nil
	return d, nil
}

// Interrupted finds a step, of any session on the stick, that was begun and not ended.
func Interrupted(stick string) (folder, title string, found bool) {
	list, _ := filepath.Glob(filepath.Join(stick, "LATCHKEY", "*", "step-*", begunName))
	if len(list) == 0 {
		return "", "", false
	}
	raw, _ := os.ReadFile(list[len(list)-1])
	return filepath.Dir(list[len(list)-1]), strings.TrimSpace(string(raw)), true
}

// PassOver takes an interrupted step for looked at: what it left is judged like any disk.
func PassOver(folder string) error {
	return os.Rename(filepath.Join(folder, begunName), filepath.Join(folder, "left.txt"))
}

// Proved reports whether the machine starts from the clone by the evidence as it is now.
func (s *Session) Proved() bool {
	clone := s.ByRole(machine.RoleClone)
	return clone != nil && s.Trace.Verdict == startup.Starts && s.Trace.Drive == clone.Name
}

// stepLimit is how long a step's commands may take.
const stepLimit = 6 * time.Hour

// typed is what a step's commands read from the keyboard: cryptsetup(8), "Notes on passphrase
// processing", reads it up to the end of the line where it is not typed at a terminal.
func typed(step repair.PlanStep, passphrase string) string {
	if step.Passphrase == "" {
		return ""
	}
	return passphrase + "\n"
}

// runScript runs a script of the plan: it begins in its own folder, where it saves. Of one that failed
// nothing stays mounted or open.
func runScript(path, typed string) ([]byte, error) {
	ctx, cancel := context.WithTimeout(context.Background(), stepLimit)
	defer cancel()
	cmd := exec.CommandContext(ctx, "sh", path)
	cmd.Dir, cmd.Env = filepath.Dir(path), append(os.Environ(), "LC_ALL=C")
	cmd.Stdin = strings.NewReader(typed)
	before := heldNow()
	out, err := cmd.CombinedOutput()
	if err != nil {
		before.leave()
	}
	return out, err
}
