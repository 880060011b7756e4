package listing

import (
	"hash/fnv"
	"slices"
	"strings"

	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/loader"
)

// firmwareManager is the object that stands for the firmware's own boot manager: its
// display order is BootOrder, its boot sequence BootNext. The maker's BCDEdit reference.
const firmwareManager = "{fwbootmgr}"

// entries are the firmware's boot entries as bcdedit lists them: in their order, with their
// programs, and without the numbers and the partitions that they lead to. nil where the
// firmware's list is not in the text.
func (r *bcdReader) entries() *firmware.Entries {
	at := slices.IndexFunc(r.store.Objects, func(o loader.Object) bool { return o.ID == firmwareManager })
	if at < 0 {
		return nil
	}
	manager, last := &r.store.Objects[at], at == len(r.store.Objects)-1
	e := &firmware.Entries{All: map[uint16]firmware.Entry{}, OrderOpen: last || r.cut, NextOpen: last || r.cut}
	numbers := map[string]uint16{}
	order, _ := manager.Element(loader.ElementDisplayOrder)
	for i := range r.store.Objects {
		o := &r.store.Objects[i]
		_, system := o.Element(loader.ElementOSDevice)
		if i == at || system || !slices.Contains(order.IDs, o.ID) && !isApplication(o) {
			continue
		}
		n := numberOf(o.ID, e)
		numbers[o.ID], e.All[n] = n, r.entry(o, n)
	}
	for _, id := range order.IDs {
		n, told := numbers[id]
		if !told {
			n, e.Open = numberOf(id, e), true
			numbers[id] = n
			e.All[n] = firmware.Entry{Number: n, Named: true, Description: id, Active: true,
				Path: firmware.Path{Open: true}}
		}
		e.Order = append(e.Order, n)
	}
	if next, set := manager.Element(loader.ElementBootSequence); set && len(next.IDs) > 0 {
		if n, told := numbers[next.IDs[0]]; told {
			e.Next = &n
		} else {
			e.NextOpen = true
		}
	}
	return e
}

// isApplication reports whether an object that does not stand in the order is an entry of the
// firmware's: a program without a system, other than the boot manager of the store.
func isApplication(o *loader.Object) bool {
	path, ok := o.Element(loader.ElementPath)
	return ok && o.ID != loader.BootManager && strings.HasPrefix(strings.ToUpper(path.Text), `\EFI\`) &&
		!strings.EqualFold(path.Text, memoryTest)
}

// memoryTest is a program of the store, which the boot manager offers.
const memoryTest = `\EFI\Microsoft\Boot\memtest.efi`

// entry is the boot entry that an object stands for. A name that ends as programs do was
// not cut off.
func (r *bcdReader) entry(o *loader.Object, n uint16) firmware.Entry {
	words, _ := o.Element(loader.ElementDescription)
	path, _ := o.Element(loader.ElementPath)
	device, _ := o.Element(loader.ElementDevice)
	e := firmware.Entry{Number: n, Named: true, Description: words.Text, Active: true, Path: firmware.Path{Open: true},
		Text: path.Text, Source: fact.Source{Origin: fact.Text, Structure: string(Bcdedit), Line: r.lines[o.ID]}}
	if device.Device != nil && device.Device.Name != "" {
		e.Text = strings.TrimSpace(device.Device.Name + " " + path.Text)
	}
	if strings.HasSuffix(strings.ToLower(path.Text), ".efi") {
		e.Path.File, e.Path.FileTold = path.Text, true
	}
	return e
}

// numberOf is a number for an entry of which none is told: the same for the same
// identifier, whatever the order is, so that an answer that was given keeps its question.
func numberOf(id string, e *firmware.Entries) uint16 {
	h := fnv.New32a()
	h.Write([]byte(id))
	n := uint16(0xE000 + h.Sum32()%0x1000)
	for _, taken := e.All[n]; taken; _, taken = e.All[n] {
		n++
	}
	return n
}
