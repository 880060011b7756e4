package judge

import (
	"context"

	"latchkey/server/store"
)

// words are the texts by which a case is found: whatever was entered of it, and what its
// evidence holds that a person could have before them: identifiers, serial numbers, labels,
// the paths of loaders, what the screen says.
func (j *Judge) words(ctx context.Context, c *store.Case, k *Check) []string {
	out := []string{c.Title, c.Machine, c.Said, k.Trace.Headline, k.Trace.Symptom, k.Trace.Loader,
		j.serialOf(ctx, c, "original"), j.serialOf(ctx, c, "clone")}
	for _, d := range c.Drives {
		out = append(out, d.Model)
		if d.Evidence != nil {
			out = append(out, d.Evidence.Filename, d.Evidence.Serial)
		}
	}
	if c.Handover != nil {
		out = append(out, c.Handover.Place)
	}
	for _, e := range k.Entries {
		out = append(out, e.Name, e.Path)
	}
	for _, d := range k.Drives {
		if d.Disk == nil {
			continue
		}
		out = append(out, d.Disk.ID)
		for _, p := range d.Disk.Partitions {
			out = append(out, p.Type, p.Name, p.Label, p.GUID, p.Serial, p.Kind)
		}
		for _, pin := range d.Pins {
			out = append(out, pin.Text)
			for _, f := range pin.Facts {
				out = append(out, f.Value)
			}
		}
	}
	return out
}
