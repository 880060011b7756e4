package judge

import (
	"context"
	"encoding/hex"
	"errors"

	"latchkey/core/disk"
	"latchkey/server/store"
)

// maxView bounds the bytes of one view.
const maxView = 1024

// View is a window onto a disk's bytes with the fields that lie in it.
type View struct {
	Offset int64       `json:"offset" doc:"Byte offset of the first byte"`
	Hex    string      `json:"hex" doc:"The bytes in hexadecimal digits"`
	Held   bool        `json:"held" doc:"Whether the evidence holds them"`
	Fields []ViewField `json:"fields"`
}

// ViewField is a named field within a view.
type ViewField struct {
	Structure string `json:"structure"`
	Name      string `json:"name"`
	Offset    int64  `json:"offset" doc:"Byte offset from the start of the disk"`
	Length    int64  `json:"length"`
	Value     string `json:"value"`
}

// ErrNoEvidence reports that a drive has no evidence to look at.
var ErrNoEvidence = errors.New("nothing of this disk is in evidence")

// Bytes returns length bytes of a drive's disk from offset on, at most 1,024,
// cut at the end of the disk.
func (j *Judge) Bytes(ctx context.Context, e *store.Evidence, offset, length int64) (*View, error) {
	c, err := j.examine(ctx, e)
	if err != nil {
		return nil, err
	}
	if c == nil {
		return nil, ErrNoEvidence
	}
	v := &View{Offset: offset, Fields: []ViewField{}}
	length = min(length, maxView, c.Layout.Bytes()-offset)
	if length <= 0 {
		return v, nil
	}
	in, err := j.store.Inside(ctx, e.ID)
	if err != nil {
		return nil, err
	}
	r, err := j.store.Open(ctx, e.ID, in)
	if err != nil {
		return nil, err
	}
	raw := make([]byte, length)
	if _, err := r.ReadAt(raw, offset); disk.IsNotCaptured(err) || disk.IsUnreadable(err) {
		return v, nil
	} else if err != nil {
		return nil, err
	}
	v.Hex, v.Held = hex.EncodeToString(raw), true
	for _, region := range c.Regions() {
		for _, f := range region.Fields {
			from := region.Offset + f.Offset
			if from >= offset && from+f.Length <= offset+length {
				v.Fields = append(v.Fields, ViewField{region.Structure, f.Name, from, f.Length,
					f.Decode(raw[from-offset : from-offset+f.Length])})
			}
		}
	}
	return v, nil
}
