package machine

import (
	"path"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/loader"
)

// payload is what a file is that a boot loader loads, or why that is not told.
type payload struct {
	loader.Payload
	name string
	err  error
	// shows is where its first bytes lie, of an empty one what tells of it, from the start of the volume.
	shows fact.Source
}

// maxPayloads bounds the files of a volume of which the beginning is looked at.
const maxPayloads = 1024

// payloadShown is how much of a file is shown as what it begins with, in bytes.
const payloadShown = 16

// maxBeside bounds the files beside a kernel that may be an initial RAM disk by any name.
const maxBeside = 32

// payload looks for a file that a boot loader loads, and at what it begins with.
func (g *gathering) payload(name string) {
	v, key := g.volume, strings.ToLower(name)
	_, done := v.payloads[key]
	switch {
	case name == "", done:
		return
	case len(v.payloads) == maxPayloads:
		g.look(name)
		return
	}
	f, err := g.find(name)
	if err != nil {
		return
	}
	p := payload{name: name, shows: fact.Source{Origin: fact.Bytes, Structure: f.Record, Field: name, Offset: f.Offset,
		Length: f.Length}}
	s, err := g.files.Open(f)
	if p.err = err; err == nil {
		p.Payload, p.err = loader.ExaminePayload(s, s.Size())
		if place := s.Place(0); place >= 0 && s.Size() > 0 {
			p.shows = fact.Source{Origin: fact.Bytes, Structure: name, Field: "first bytes", Offset: place,
				Length: min(s.Size(), payloadShown)}
		}
		packed := p.Form == loader.PayloadArchive || p.Form == loader.PayloadCompressed
		if packed && s.Size() == f.Size {
			p.Drivers = g.ramDisk(s)
		}
	}
	if v.payloads == nil {
		v.payloads = map[string]payload{}
	}
	v.payloads[key] = p
}

// putPayload has a file as a repair leaves it.
func (v *Volume) putPayload(name string, is loader.Payload) {
	own := map[string]payload{strings.ToLower(name): {Payload: is, name: name}}
	for key, p := range v.payloads {
		if _, put := own[key]; !put {
			own[key] = p
		}
	}
	v.payloads = own
}

// likeRAMDisk reports whether a file has a name as initial RAM disks have. Common practice: the
// names that the families' tools give, and the ends that people give by hand.
func likeRAMDisk(name string) bool {
	name = strings.ToLower(name)
	switch path.Ext(name) {
	case ".img", ".cpio", ".gz", ".xz", ".zst", ".lz4", ".lzma", ".bz2":
		return true
	}
	return strings.HasPrefix(name, "initrd") || strings.HasPrefix(name, "initramfs")
}

// Payload tells what a file at a place is that a boot loader loads, and where that is seen. The error
// is one of bytes that are not in evidence, or that cannot be read.
func (s Spot) Payload(name string) (p loader.Payload, shows fact.Source, err error) {
	found, read := s.Volume().payloads[strings.ToLower(name)]
	if !read {
		return p, shows, &disk.Spent{}
	}
	shows = found.shows
	shows.Offset += s.Base()
	return found.Payload, shows, found.err
}
