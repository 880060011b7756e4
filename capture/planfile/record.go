package planfile

import (
	"encoding/json"
	"fmt"
	"io"
	"time"

	"latchkey/core/disk"
)

// RecordName is how the record of a session's steps is called in its folder.
const RecordName = "steps.json"

const maxRecords = 200

// Record is what became of a step on the stick. Docs/formats.md, "Folder of the stick".
type Record struct {
	Key   string    `json:"key"`
	Title string    `json:"title"`
	State string    `json:"state"` // "done", "failed" or "undone"
	Began time.Time `json:"began"` // by the machine's clock
	Ended time.Time `json:"ended"`
	Now   string    `json:"now"` // how the machine stood when it was looked at again
}

// ReadRecords reads the record of a session's steps.
func ReadRecords(r io.Reader) ([]Record, error) {
	raw, err := io.ReadAll(io.LimitReader(r, MaxSize+1))
	if err != nil {
		return nil, err
	}
	if len(raw) > MaxSize {
		return nil, fmt.Errorf("the record has more than %s", disk.Binary(MaxSize))
	}
	var list []Record
	if err := json.Unmarshal(raw, &list); err != nil {
		return nil, fmt.Errorf("it is no record of steps: %w", err)
	}
	if len(list) > maxRecords {
		return nil, fmt.Errorf("%d steps, expected at most %d", len(list), maxRecords)
	}
	for i, x := range list {
		known := x.State == "done" || x.State == "failed" || x.State == "undone"
		if x.Key == "" || !known || len(x.Key) > 80 || len(x.Title) > maxText || len(x.Now) > 2*maxText ||
			x.Ended.IsZero() {
			return nil, fmt.Errorf("step %d of the record is none: expected a key, what became of it and when", i+1)
		}
	}
	return list, nil
}
