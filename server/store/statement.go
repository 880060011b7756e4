package store

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"latchkey/capture/told"
	"latchkey/core/course"
	"latchkey/core/firmware"
)

// Statement is what a person told of the machine: a fact, its value, and who told it
// when.
type Statement struct {
	Fact  course.FactName
	Value string
	Saying
}

// Saying is what is kept of a statement besides its value.
type Saying struct {
	Who      string    `json:"who,omitempty"`
	At       time.Time `json:"at,omitzero"`
	Question string    `json:"question,omitempty"` // that was answered
	Answer   string    `json:"answer,omitempty"`   // in the words of the option
	Model    bool      `json:"model,omitempty"`    // taken over from other cases of the machine's model
}

// ChoiceFact names the fact of a firmware's choice.
func ChoiceFact(key string) course.FactName { return course.FactName{Of: course.OfChoice, Key: key} }

// stated is how statements of one subject stand in a case.
type stated struct {
	of     course.Subject
	label  string
	values []string // nil allows any
	// keys lists what the subject tells apart; nil for a subject that is one fact.
	keys func(c *Case) []string
	get  func(c *Case, key string) string
	set  func(c *Case, key, value string)
}

var yesNo = []string{"yes", "no"}

// Buses, and the modes of a storage controller, that can be told.
var (
	buses        = []string{"sata", "nvme", "usb", "ide", "scsi", "virtio", "sd"}
	storageModes = []string{"ahci", "raid"}
)

// statements lists the subjects in the order in which they are shown.
var statements = []stated{
	word(course.OfMode, "Firmware mode", []string{"uefi", "legacy", "uefi-csm"}, func(c *Case) **string { return &c.Firmware.Mode }),
	word(course.OfArch, "Architecture", []string{"x64", "ia32", "arm64"}, func(c *Case) **string { return &c.Firmware.Arch }),
	{of: course.OfSecureBoot, label: "Secure boot", values: yesNo,
		get: func(c *Case, _ string) string { return yesOrNo(c.Firmware.SecureBoot) },
		set: func(c *Case, _, v string) { c.Firmware.SecureBoot = answered(v) }},
	word(course.OfStorageMode, "Storage controller mode now", storageModes, func(c *Case) **string { return &c.Firmware.StorageMode }),
	word(course.OfStorageModeBefore, "Storage controller mode when the system last ran", storageModes, func(c *Case) **string { return &c.Firmware.StorageModeBefore }),
	{of: course.OfFirst, label: "First in the boot order", values: Roles, get: first, set: setFirst},
	flags(course.OfEntry, "Has a boot entry for the %s", func(c *Case) *map[string]bool { return &c.Firmware.Entries }, roles),
	flags(course.OfShown, "Its boot list shows the %s", func(c *Case) *map[string]bool { return &c.Firmware.Shown }, roles),
	{of: course.OfAttached, label: "The %s is attached", values: yesNo, keys: roles,
		get: func(c *Case, key string) string { return yesOrNo(c.drive(key).Attached) },
		set: func(c *Case, key, v string) { c.drive(key).Attached = answered(v) }},
	{of: course.OfBus, label: "Bus of the %s", values: buses, keys: roles,
		get: func(c *Case, key string) string { return orEmpty(c.drive(key).Bus) },
		set: func(c *Case, key, v string) { c.drive(key).Bus = orNil(v) }},
	flags(course.OfChoice, "%s", func(c *Case) *map[string]bool { return &c.Firmware.Choices }, choices),
	{of: course.OfBootOrder, label: "Order of the boot entries, changed",
		get: func(c *Case, _ string) string { return strings.Join(c.Firmware.BootOrder, ", ") },
		set: func(c *Case, _, v string) { c.Firmware.BootOrder = split(v) }},
	{of: course.OfAnswer, label: "%s", keys: func(c *Case) []string { return keysOf(c.Firmware.Answers) },
		get: func(c *Case, key string) string { return c.Firmware.Answers[key] },
		set: func(c *Case, key, v string) { put(&c.Firmware.Answers, key, v, v != "") }},
}

func word(of course.Subject, label string, values []string, at func(*Case) **string) stated {
	return stated{of: of, label: label, values: values,
		get: func(c *Case, _ string) string { return orEmpty(*at(c)) },
		set: func(c *Case, _, v string) { *at(c) = orNil(v) }}
}

func flags(of course.Subject, label string, at func(*Case) *map[string]bool, keys func(*Case) []string) stated {
	return stated{of: of, label: label, values: yesNo, keys: keys,
		get: func(c *Case, key string) string {
			if yes, known := (*at(c))[key]; known {
				return yesOrNo(&yes)
			}
			return ""
		},
		set: func(c *Case, key, v string) { put(at(c), key, v == "yes", v != "") }}
}

// put sets a key in a copy of a map, or takes it out.
func put[V any](m *map[string]V, key string, value V, in bool) {
	changed := map[string]V{}
	for k, v := range *m {
		changed[k] = v
	}
	delete(changed, key)
	if in {
		changed[key] = value
	}
	*m = changed
}

func roles(*Case) []string { return Roles }

func choices(*Case) []string {
	var keys []string
	for _, c := range firmware.Choices {
		keys = append(keys, c.Key)
	}
	return keys
}

func keysOf[V any](m map[string]V) []string {
	var keys []string
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

func yesOrNo(b *bool) string {
	switch {
	case b == nil:
		return ""
	case *b:
		return "yes"
	}
	return "no"
}

func answered(v string) *bool {
	if v == "" {
		return nil
	}
	yes := v == "yes"
	return &yes
}

func orEmpty(s *string) string {
	if s == nil {
		return ""
	}
	return *s
}

func orNil(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}

func split(list string) []string {
	if list == "" {
		return nil
	}
	return strings.Split(list, ", ")
}

func first(c *Case, _ string) string {
	if len(c.DeviceOrder) == 0 {
		return ""
	}
	return c.DeviceOrder[0]
}

func setFirst(c *Case, _, role string) {
	c.DeviceOrder = []string{}
	if role != "" {
		c.DeviceOrder = append([]string{role},
			slices.DeleteFunc(slices.Clone(Roles), func(r string) bool { return r == role })...)
	}
}

// drive returns a drive of the case by its role; one that it does not have is nobody's.
func (c *Case) drive(role string) *Drive {
	for i := range c.Drives {
		if c.Drives[i].Role == role {
			return &c.Drives[i]
		}
	}
	return &Drive{Role: role}
}

// Statements lists what was told of the machine.
func (c *Case) Statements() []Statement {
	var list []Statement
	for _, s := range statements {
		keys := []string{""}
		if s.keys != nil {
			keys = s.keys(c)
		}
		for _, key := range keys {
			if v := s.get(c, key); v != "" {
				name := course.FactName{Of: s.of, Key: key}
				list = append(list, Statement{name, v, c.Sayings[name.String()]})
			}
		}
	}
	return list
}

// State takes over what a person tells of the machine; the empty value withdraws it. It
// is stored with the case.
func (c *Case) State(fact course.FactName, value string) error {
	i := slices.IndexFunc(statements, func(s stated) bool { return s.of == fact.Of })
	if i < 0 {
		return fmt.Errorf("%s is no fact that can be told", fact)
	}
	s := statements[i]
	if s.keys != nil && s.of != course.OfAnswer && !slices.Contains(s.keys(c), fact.Key) {
		return fmt.Errorf("%s: expected one of %q behind the colon", fact, s.keys(c))
	}
	if value != "" && s.values != nil && !slices.Contains(s.values, value) {
		return fmt.Errorf("%s is %q: expected one of %q", fact, value, s.values)
	}
	s.set(c, fact.Key, value)
	return nil
}

// Say keeps the words of an answer, until the case is stored.
func (c *Case) Say(fact course.FactName, words Saying) {
	if c.Sayings == nil {
		c.Sayings = map[string]Saying{}
	}
	c.Sayings[fact.String()] = words
}

// Label says in words what a statement is of.
func (s Statement) Label() string {
	i := slices.IndexFunc(statements, func(of stated) bool { return of.of == s.Fact.Of })
	key := s.Fact.Key
	switch c := firmware.ChoiceOf(key); {
	case i < 0:
		return s.Fact.String()
	case s.Fact.Of == course.OfChoice && c != nil:
		return c.Label
	case s.Fact.Of == course.OfAnswer && s.Question != "":
		return s.Question
	case strings.Contains(statements[i].label, "%s"):
		return fmt.Sprintf(statements[i].label, key)
	}
	return statements[i].label
}

// words says values as people do.
var words = map[string]string{"yes": "Yes", "no": "No", "uefi": "UEFI", "legacy": "Legacy", "uefi-csm": "UEFI with compatibility support",
	"ahci": "AHCI", "raid": "RAID or VMD", "original": "The original", "clone": "The clone", "sata": "SATA", "nvme": "NVMe", "usb": "USB",
	"ide": "IDE", "scsi": "SCSI", "virtio": "virtio", "sd": "SD card"}

// Says is the value in words.
func (s Statement) Says() string {
	if s.Answer != "" {
		return s.Answer
	}
	if in, ok := words[s.Value]; ok {
		return in
	}
	return s.Value
}

// sign keeps who told what is new or different in a case, and forgets who told what is
// not told any more.
func (c *Case) sign(before *Case, who string, at time.Time) {
	was := map[string]Statement{}
	for _, s := range before.Statements() {
		was[s.Fact.String()] = s
	}
	said := map[string]Saying{}
	for _, s := range c.Statements() {
		name := s.Fact.String()
		old, told := was[name]
		if !told || old.Value != s.Value {
			s.Who, s.At = who, at
			s.Model = s.Model && !told // what is told otherwise is a person's own
			if told && old.Answer == s.Answer {
				s.Answer = ""
			}
			said[name] = s.Saying
		} else {
			said[name] = old.Saying
		}
	}
	c.Sayings = said
}

// TakeBootList takes over what a boot list tells: that it shows a drive, that an entry
// leads to it, and which of the two comes first. What it does not show is not told.
func (c *Case) TakeBootList(lines []told.BootListLine) {
	f := &c.Firmware
	if f.Shown == nil {
		f.Shown = map[string]bool{}
	}
	var order, entries []string
	for _, l := range lines {
		if l.Role == "" {
			continue
		}
		f.Shown[l.Role] = true
		if !slices.Contains(order, l.Role) {
			order = append(order, l.Role)
		}
		if l.Entry {
			if f.Entries == nil {
				f.Entries = map[string]bool{}
			}
			f.Entries[l.Role] = true
			if !slices.Contains(entries, l.Role) {
				entries = append(entries, l.Role)
			}
		}
	}
	c.DeviceOrder = order
	if len(entries) > 1 {
		if f.Answers == nil {
			f.Answers = map[string]string{}
		}
		f.Answers[course.FirstEntry] = entries[0]
	}
}
