package listing

import (
	"regexp"
	"slices"
	"strings"

	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/loader"
)

// bcdedit: the maker's BCDEdit reference. Headings are translated, the names of
// the elements are not.

var (
	bcdRule   = regexp.MustCompile(`^-{5,}\s*$`)
	bcdField  = regexp.MustCompile(`^(\S+\s{2,}|\S{23} )(\S.*?)\s*$`)
	bcdMore   = regexp.MustCompile(`^\s{10,}(\S.*?)\s*$`)
	bcdObject = regexp.MustCompile(`^\{[0-9A-Za-z-]+\}$`)
)

// wellKnown are the identifiers that are printed as names without /v. The maker's
// BCDEdit reference, "identifiers".
var wellKnown = map[string]string{"{bootmgr}": loader.BootManager}

// elementsByName are the elements that are taken from a listing.
var elementsByName = map[string]uint32{
	"device": loader.ElementDevice, "path": loader.ElementPath, "description": loader.ElementDescription, "osdevice": loader.ElementOSDevice,
	"systemroot": loader.ElementSystemRoot, "default": loader.ElementDefault, "displayorder": loader.ElementDisplayOrder, "bootsequence": loader.ElementBootSequence,
}

func isBcdedit(t *text) bool {
	return anyLine(t, bcdRule.MatchString) && anyLine(t, func(s string) bool {
		m := bcdField.FindStringSubmatch(s)
		return m != nil && bcdObject.MatchString(m[2])
	})
}

func readBcdedit(t *text, l *Listing) {
	r := &bcdReader{l: l, store: &loader.Store{}, lines: map[string]int{}}
	for i, s := range t.lines {
		if t.brokenOff(i) && !hasEnd(s) && strings.TrimSpace(s) != "" {
			r.cut = true
			l.unread(i+1, "what the text ends with may lack its end")
			continue
		}
		r.line(strings.TrimRight(s, "\r"), i+1)
	}
	l.Entries = r.entries()
	r.store.Objects = slices.DeleteFunc(r.store.Objects, r.ofFirmware)
	for i := range r.store.Objects {
		r.finish(&r.store.Objects[i])
	}
	loads := slices.ContainsFunc(r.store.Objects, func(o loader.Object) bool { return o.IsLoader() })
	if loads {
		l.Store = r.store // with the firmware's list alone comes no more than the boot manager
	}
}

// ofFirmware tells the firmware's own list, and the entries that it alone has, from what a
// store on a disk holds: "bcdedit /enum firmware" prints them as if they were of one. They
// prove UEFI; the numbers of the entries and where they lead are not in them.
func (r *bcdReader) ofFirmware(o loader.Object) bool {
	path, hasPath := o.Element(loader.ElementPath)
	_, hasSystem := o.Element(loader.ElementOSDevice)
	own := o.ID != loader.BootManager && !hasSystem && (!hasPath || strings.HasSuffix(strings.ToLower(path.Text), ".efi"))
	switch {
	case o.ID == firmwareManager:
		r.firmware = true
	case !r.firmware || !own:
		return false
	}
	r.l.Mode = fact.Known(firmware.UEFI, fact.Source{Origin: fact.Text, Structure: string(Bcdedit),
		Line: r.lines[o.ID]})
	return true
}

type bcdReader struct {
	l       *Listing
	store   *loader.Store
	object  *loader.Object
	element *loader.Element
	lines   map[string]int // of each object's identifier
	// firmware is set when the firmware's own list was met.
	firmware bool
	// cut is set where an identifier was cut off.
	cut bool
}

func (r *bcdReader) line(s string, n int) {
	field, more := bcdField.FindStringSubmatch(s), bcdMore.FindStringSubmatch(s)
	switch {
	case strings.TrimSpace(s) == "":
		r.object, r.element = nil, nil
	case bcdRule.MatchString(s):
		r.object, r.element = nil, nil
		r.l.mark(n, Passed, "")
		r.l.mark(n-1, Passed, "heading")
	case r.element != nil && (more != nil || bcdObject.MatchString(strings.TrimSpace(s))):
		r.reference(r.element, strings.TrimSpace(s), n)
	case field != nil && r.object == nil && bcdObject.MatchString(field[2]):
		r.store.Objects = append(r.store.Objects, loader.Object{ID: identifier(field[2])})
		r.lines[identifier(field[2])] = n
		r.object, r.element = &r.store.Objects[len(r.store.Objects)-1], nil
		r.l.mark(n, Understood, "object %s", field[2])
	case field != nil && r.object != nil:
		r.field(strings.ToLower(strings.TrimSpace(field[1])), field[2], n)
	}
}

func identifier(s string) string {
	s = strings.ToLower(strings.TrimSpace(s))
	if id, ok := wellKnown[s]; ok {
		return id
	}
	return s
}

func (r *bcdReader) field(name, val string, n int) {
	kind, known := elementsByName[name]
	if !known {
		r.l.mark(n, Passed, "")
		r.element = nil
		return
	}
	e := loader.Element{Type: kind, Line: n}
	r.l.mark(n, Understood, "%s %s", name, val)
	switch kind {
	case loader.ElementDefault, loader.ElementDisplayOrder, loader.ElementBootSequence:
		r.reference(&e, val, n)
	case loader.ElementDevice, loader.ElementOSDevice:
		e.Device = deviceNamed(val)
	default:
		e.Text = val
	}
	r.object.Elements = append(r.object.Elements, e)
	r.element = &r.object.Elements[len(r.object.Elements)-1]
}

// reference adds an object that an element names, where its identifier has its end.
func (r *bcdReader) reference(e *loader.Element, id string, n int) {
	if !bcdObject.MatchString(id) {
		r.cut = true
		r.l.unread(n, "expected an identifier in braces")
		return
	}
	e.IDs = append(e.IDs, identifier(id))
	r.l.mark(n, Understood, "%s %s", e.Name(), id)
}

// deviceNamed reads a device as the listing names it.
func deviceNamed(s string) *loader.BCDDevice {
	lower := strings.ToLower(s)
	switch {
	case lower == "boot":
		return &loader.BCDDevice{Kind: loader.DeviceBoot}
	case lower == "unknown":
		return &loader.BCDDevice{Kind: loader.DeviceGone}
	case strings.HasPrefix(lower, "partition="):
		return &loader.BCDDevice{Kind: loader.DeviceNamed, Name: strings.TrimSuffix(s[len("partition="):], ":")}
	case strings.HasPrefix(lower, "locate="):
		return &loader.BCDDevice{Kind: loader.DeviceLocate}
	}
	return &loader.BCDDevice{Kind: loader.DeviceNamed, Name: s}
}

// finish settles what kind of object it is, and what that tells of the mode.
func (r *bcdReader) finish(o *loader.Object) {
	path, _ := o.Element(loader.ElementPath)
	lower := strings.ToLower(path.Text)
	_, hasSystem := o.Element(loader.ElementOSDevice)
	o.SetKind(o.ID == loader.BootManager, hasSystem && strings.Contains(lower, "winload"))
	if o.ID != loader.BootManager {
		return
	}
	tell := func(mode firmware.Mode, store string) {
		r.l.Mode, r.l.StorePath = fact.Known(mode, fact.Source{Origin: fact.Text, Structure: string(Bcdedit),
			Line: path.Line}), store
	}
	switch {
	case strings.HasSuffix(lower, ".efi"):
		tell(firmware.UEFI, loader.StoreUEFI)
	case lower != "" || withoutPath(o):
		tell(firmware.Legacy, loader.StoreLegacy)
	}
}

// withoutPath reports whether an object has no path: its description stands where that would.
func withoutPath(o *loader.Object) bool {
	device, hasDevice := o.Element(loader.ElementDevice)
	description, described := o.Element(loader.ElementDescription)
	return hasDevice && described && description.Line == device.Line+1
}
