package api

import (
	"context"
	"encoding/base64"
	"fmt"
	"net/http"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/server/judge"
	"latchkey/server/store"
)

// CaseInput is what a person enters about a case.
type CaseInput struct {
	Title       string       `json:"title" minLength:"1" maxLength:"200"`
	Machine     string       `json:"machine,omitempty" maxLength:"200" doc:"Model and place of the machine"`
	Firmware    Firmware     `json:"firmware,omitempty"`
	DeviceOrder []string     `json:"deviceOrder,omitempty" maxItems:"2" doc:"Drive roles, first tried first; empty is unknown"`
	Said        string       `json:"said,omitempty" maxLength:"500" doc:"What the screen said when the machine did not start"`
	Stands      string       `json:"stands,omitempty" enum:"before,copied,fails,old,runs" doc:"Where the person stands"`
	Reach       string       `json:"reach,omitempty" enum:"running,disks,screens" doc:"What the person can get hold of: a system that runs in the machine, the disks on another computer, only its screens"`
	Drives      []DriveInput `json:"drives,omitempty" maxItems:"2"`
}

// Firmware holds the typed facts of the firmware; absent ones are unknown. It is
// store.Firmware with what is allowed for each.
type Firmware struct {
	Mode              *string           `json:"mode,omitempty" enum:"uefi,legacy,uefi-csm"`
	Arch              *string           `json:"arch,omitempty" enum:"x64,ia32,arm64"`
	SecureBoot        *bool             `json:"secureBoot,omitempty"`
	StorageMode       *string           `json:"storageMode,omitempty" enum:"ahci,raid" doc:"The storage controller's mode now"`
	StorageModeBefore *string           `json:"storageModeBefore,omitempty" enum:"ahci,raid" doc:"The storage controller's mode when the system last ran"`
	Choices           map[string]bool   `json:"choices,omitempty" doc:"What the standards leave to the firmware, by their keys"`
	Entries           map[string]bool   `json:"entries,omitempty" doc:"By drive role: whether a boot entry leads to the drive's own loader"`
	BootOrder         []string          `json:"bootOrder,omitempty" maxItems:"128" doc:"The boot entries' order as changed since the evidence was taken"`
	Shown             map[string]bool   `json:"shown,omitempty" doc:"By drive role: whether the firmware's boot list shows the drive"`
	Answers           map[string]string `json:"answers,omitempty" doc:"Typed answers to the questions of a check, by their ID"`
}

// DriveInput is what a person enters about a drive.
type DriveInput struct {
	Role     string  `json:"role" enum:"original,clone"`
	Model    string  `json:"model,omitempty" maxLength:"200"`
	Bus      *string `json:"bus,omitempty" enum:"sata,nvme,usb,ide,scsi,virtio,sd"`
	Attached *bool   `json:"attached,omitempty"`
}

// Case is a case as it is listed and opened.
type Case struct {
	ID          uint64      `json:"id"`
	Version     uint32      `json:"version"`
	Title       string      `json:"title"`
	Machine     string      `json:"machine"`
	Firmware    Firmware    `json:"firmware"`
	DeviceOrder []string    `json:"deviceOrder"`
	Said        string      `json:"said,omitempty"`
	Stands      string      `json:"stands,omitempty" enum:"before,copied,fails,old,runs"`
	Reach       string      `json:"reach,omitempty" enum:"running,disks,screens"`
	ProvedAt    *time.Time  `json:"provedAt,omitempty" doc:"When a first start from the clone was proved"`
	Proof       string      `json:"proof,omitempty"`
	Drives      []CaseDrive `json:"drives"`
	Statements  []Statement `json:"statements" doc:"What was told of the machine, with who told it and when"`
	Verdict     string      `json:"verdict" doc:"Of the latest recorded check; empty before the first"`
	Reaches     string      `json:"reaches"`
	Stage       string      `json:"stage"`
	Headline    string      `json:"headline"`
	Demo        bool        `json:"demo" doc:"Belongs to the demo world"`
	ClosedAt    *time.Time  `json:"closedAt,omitempty" doc:"When a person closed it"`
	ClearedAt   *time.Time  `json:"clearedAt,omitempty" doc:"When its evidence was removed, some time after it was closed"`
	CreatedAt   time.Time   `json:"createdAt"`
	UpdatedAt   time.Time   `json:"updatedAt"`
}

// CaseDrive is a drive as a case lists it.
type CaseDrive struct {
	DriveInput
	Capacity   string `json:"capacity,omitempty" doc:"Both ways, when a disk is in evidence"`
	SectorSize int    `json:"sectorSize,omitempty"`
	Filename   string `json:"filename,omitempty"`
	Evidence   uint64 `json:"evidence,omitempty" doc:"The piece that is in force"`
}

func caseOf(c *store.Case) Case {
	out := Case{
		ID: c.ID, Version: c.Version, Title: c.Title, Machine: c.Machine, Firmware: Firmware(c.Firmware),
		Said: c.Said, Stands: c.Stands, Reach: c.Reach, ProvedAt: c.ProvedAt, Proof: c.Proof,
		DeviceOrder: append([]string{}, c.DeviceOrder...), Drives: []CaseDrive{}, Statements: statementsOf(c),
		Verdict: c.Verdict, Reaches: c.Reaches,
		Stage: c.Stage, Headline: c.Headline, Demo: c.Demo != nil, ClosedAt: c.ClosedAt, ClearedAt: c.ClearedAt,
		CreatedAt: c.CreatedAt, UpdatedAt: c.UpdatedAt,
	}
	for _, d := range c.Drives {
		drive := CaseDrive{DriveInput: DriveInput{Role: d.Role, Model: d.Model, Bus: d.Bus, Attached: d.Attached}}
		if d.Evidence != nil {
			drive.Capacity, drive.SectorSize, drive.Filename, drive.Evidence = disk.Both(d.Evidence.Capacity),
				d.Evidence.SectorSize, d.Evidence.Filename, d.Evidence.ID
		}
		out.Drives = append(out.Drives, drive)
	}
	return out
}

type caseOutput struct {
	ETag string `header:"ETag"`
	Body Case
}

func reply(c *store.Case) *caseOutput {
	return &caseOutput{ETag: fmt.Sprintf(`"%d"`, c.Version), Body: caseOf(c)}
}

type listInput struct {
	Search  string `query:"q" maxLength:"200" doc:"Words; each must begin a word of the case"`
	Reaches string `query:"reaches" enum:"starts,starts-original,stops,depends" doc:"Only cases with this verdict up to the loader"`
	Stage   string `query:"stage" enum:"drive,mode,order,table,boot-partition,loader,configuration,system" doc:"Only cases that ever stopped there"`
	Model   string `query:"model" maxLength:"200" doc:"Only machines of this model"`
	Drive   string `query:"drive" maxLength:"200" doc:"Only cases with a drive of this model"`
	Action  string `query:"action" maxLength:"60" pattern:"^[a-z-]*$" doc:"Only cases in which this step of a repair was done"`
	Time    string `query:"time" enum:"within an hour,within four hours,within a day,within a week,later" doc:"Only cases whose first start came so soon"`
	Cursor  string `query:"cursor" maxLength:"100"`
	Limit   int    `query:"limit" minimum:"1" maximum:"100" default:"50"`
}

// ListedCase is a case with where the work on it stands.
type ListedCase struct {
	Case
	Phase Phase `json:"phase"`
}

type listOutput struct {
	Body struct {
		Cases []ListedCase `json:"cases"`
		Next  string       `json:"next,omitempty" doc:"Cursor of the next page; absent on the last"`
	}
}

// CaseID is the number of a case in an address.
type CaseID struct {
	ID uint64 `path:"id"`
}

// IfMatch is the version of a case that a change is based on.
type IfMatch struct {
	Version string `header:"If-Match" doc:"The version of the case that the change is based on, in quotation marks"`
}

func (m IfMatch) parse() (uint32, error) {
	v, err := strconv.ParseUint(strings.Trim(m.Version, `"`), 10, 32)
	if err != nil {
		return 0, huma.NewError(http.StatusPreconditionRequired, `If-Match: expected the case's version in quotation marks, such as "3".`)
	}
	return uint32(v), nil
}

func (a *API) registerCases(api huma.API) {
	huma.Register(api, huma.Operation{OperationID: "list-cases", Method: http.MethodGet, Path: "/cases", Summary: "List and search cases"}, a.list)
	huma.Register(api, huma.Operation{OperationID: "create-case", Method: http.MethodPost, Path: "/cases", Summary: "Create a case",
		DefaultStatus: http.StatusCreated}, a.create)
	huma.Register(api, huma.Operation{OperationID: "get-case", Method: http.MethodGet, Path: "/cases/{id}", Summary: "Open a case"}, a.get)
	huma.Register(api, huma.Operation{OperationID: "update-case", Method: http.MethodPut, Path: "/cases/{id}", Summary: "Change a case"}, a.update)
}

func (a *API) list(ctx context.Context, in *listInput) (*listOutput, error) {
	after, err := decodeCursor(in.Cursor)
	if err != nil {
		return nil, err
	}
	cases, err := a.store.List(ctx, store.Page{Search: in.Search, Reaches: in.Reaches, Stage: in.Stage,
		Model: in.Model, Drive: in.Drive, Action: in.Action, Time: in.Time,
		After: after, Limit: in.Limit + 1})
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	out := &listOutput{}
	out.Body.Cases = []ListedCase{}
	shown := cases[:min(len(cases), in.Limit)]
	standings, err := a.store.Standings(ctx, shown)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	for i := range shown {
		out.Body.Cases = append(out.Body.Cases,
			ListedCase{caseOf(&shown[i]), phaseOf(&shown[i], standings[shown[i].ID])})
	}
	if len(cases) > in.Limit {
		last := cases[in.Limit-1]
		out.Body.Next = encodeCursor(store.Cursor{UpdatedAt: last.UpdatedAt, ID: last.ID})
	}
	return out, nil
}

func encodeCursor(c store.Cursor) string {
	return base64.RawURLEncoding.EncodeToString(fmt.Appendf(nil, "%d %d", c.UpdatedAt.UnixMicro(), c.ID))
}

func decodeCursor(s string) (*store.Cursor, error) {
	if s == "" {
		return nil, nil
	}
	raw, err := base64.RawURLEncoding.DecodeString(s)
	var micros int64
	var id uint64
	if err == nil {
		_, err = fmt.Sscanf(string(raw), "%d %d", &micros, &id)
	}
	if err != nil {
		return nil, huma.Error422UnprocessableEntity("cursor: expected one that this list returned.")
	}
	return &store.Cursor{UpdatedAt: time.UnixMicro(micros).UTC(), ID: id}, nil
}

func (a *API) create(ctx context.Context, in *struct{ Body CaseInput }) (*caseOutput, error) {
	c := &store.Case{Drives: []store.Drive{}}
	if err := in.Body.fill(c); err != nil {
		return nil, err
	}
	if err := a.store.Create(ctx, c, by(ctx, store.WhatMade, c.Title)); err != nil {
		return nil, a.problem(ctx, err)
	}
	return a.remembered(ctx, c.ID)
}

// fill takes over what was entered; drives that were not mentioned stay unknown.
func (in CaseInput) fill(c *store.Case) error {
	if strings.TrimSpace(in.Title) == "" {
		return huma.Error422UnprocessableEntity("title: expected a name for the case.")
	}
	c.Title, c.Machine, c.Firmware = strings.TrimSpace(in.Title), strings.TrimSpace(in.Machine),
		store.Firmware(in.Firmware)
	c.DeviceOrder, c.Said = append([]string{}, in.DeviceOrder...), strings.TrimSpace(in.Said)
	c.Stands, c.Reach = in.Stands, in.Reach
	if _, err := judge.BootOrder(in.Firmware.BootOrder); err != nil {
		return huma.Error422UnprocessableEntity("firmware.bootOrder: " + err.Error())
	}
	if err := in.Firmware.bounded(); err != nil {
		return err
	}
	for i, role := range c.DeviceOrder {
		if !slices.Contains(store.Roles, role) || slices.Contains(c.DeviceOrder[:i], role) {
			return huma.Error422UnprocessableEntity(fmt.Sprintf("deviceOrder[%d] is %q: expected original and clone, each once.", i, role))
		}
	}
	if len(c.Drives) == 0 {
		for _, role := range store.Roles {
			c.Drives = append(c.Drives, store.Drive{CaseID: c.ID, Role: role})
		}
	}
	for _, d := range in.Drives {
		for i := range c.Drives {
			if c.Drives[i].Role == d.Role {
				c.Drives[i].Model, c.Drives[i].Bus, c.Drives[i].Attached = d.Model, d.Bus, d.Attached
			}
		}
	}
	return nil
}

// Bounds of the answers that are kept.
const (
	maxAnswers = 100
	maxAnswer  = 120 // signs
)

// bounded refuses maps that are longer, or hold longer words, than any question asks for.
func (f *Firmware) bounded() error {
	for _, m := range []map[string]bool{f.Entries, f.Shown} {
		for role := range m {
			if !judge.ValidRole(role) {
				return huma.Error422UnprocessableEntity(fmt.Sprintf("firmware: %q is no drive: expected original or clone.", clean(role)))
			}
		}
	}
	for key := range f.Choices {
		if firmware.ChoiceOf(key) == nil {
			return huma.Error422UnprocessableEntity(fmt.Sprintf("firmware.choices: %q is no choice of a firmware.", clean(key)))
		}
	}
	if len(f.Answers) > maxAnswers {
		return huma.Error422UnprocessableEntity(fmt.Sprintf("firmware.answers has %d answers: expected at most %d.", len(f.Answers), maxAnswers))
	}
	for question, answer := range f.Answers {
		if len(question) > maxAnswer || len(answer) > maxAnswer {
			return huma.Error422UnprocessableEntity(fmt.Sprintf("firmware.answers: expected questions and answers of at most %d signs.", maxAnswer))
		}
	}
	return nil
}

// answersAlone are what changes when a question is answered.
const answersAlone = "answers"

// changes says in words what of a case is changed.
func (in CaseInput) changes(before *store.Case) string {
	var what []string
	note := func(changed bool, name string) {
		if changed {
			what = append(what, name)
		}
	}
	note(strings.TrimSpace(in.Title) != before.Title, "title")
	note(strings.TrimSpace(in.Machine) != before.Machine, "machine")
	note(strings.TrimSpace(in.Said) != before.Said, "what the screen said")
	note(in.Stands != before.Stands || in.Reach != before.Reach, "situation")
	note(!slices.Equal(in.DeviceOrder, before.DeviceOrder), "order of the drives")
	was, is := Firmware(before.Firmware), in.Firmware
	note(!reflect.DeepEqual(was.Answers, is.Answers) && len(was.Answers)+len(is.Answers) > 0, answersAlone)
	was.Answers, is.Answers = nil, nil
	note(!reflect.DeepEqual(was, is), "firmware")
	for _, d := range in.Drives {
		for _, old := range before.Drives {
			note(old.Role == d.Role && (old.Model != d.Model || !reflect.DeepEqual(old.Bus, d.Bus) ||
				!reflect.DeepEqual(old.Attached, d.Attached)), d.Role)
		}
	}
	return strings.Join(what, ", ")
}

func (a *API) get(ctx context.Context, in *CaseID) (*caseOutput, error) {
	c, err := a.store.Get(ctx, in.ID)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	return reply(c), nil
}

type updateInput struct {
	CaseID
	IfMatch
	Body CaseInput
}

func (a *API) update(ctx context.Context, in *updateInput) (*caseOutput, error) {
	version, err := in.parse()
	if err != nil {
		return nil, err
	}
	c, err := a.store.Get(ctx, in.ID)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	before := *c
	before.Drives = slices.Clone(c.Drives)
	if err := in.Body.fill(c); err != nil {
		return nil, err
	}
	c.Version = version
	what, changes := store.WhatChanged, in.Body.changes(&before)
	if changes == answersAlone {
		what = store.WhatAnswered
	}
	if err := a.store.Update(ctx, c, by(ctx, what, changes)); err != nil {
		return nil, a.problem(ctx, err)
	}
	if c.Model != before.Model {
		return a.remembered(ctx, c.ID)
	}
	return a.recheck(ctx, c.ID)
}

// recheck records the verdict after a change, which is stored by then, and returns the
// case.
func (a *API) recheck(ctx context.Context, id uint64) (*caseOutput, error) {
	c, err := a.store.Get(ctx, id)
	if err != nil {
		return nil, a.stored(ctx, err)
	}
	if _, err := a.judge.Record(ctx, c); err != nil {
		return nil, a.stored(ctx, err)
	}
	if c, err = a.store.Get(ctx, id); err != nil {
		return nil, a.stored(ctx, err)
	}
	return reply(c), nil
}
