package machine

import (
	"errors"
	"slices"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/loader"
	"latchkey/core/volume"
)

// Missing reports whether the evidence does not hold the files of a volume.
func Missing(v *Volume) bool { return disk.IsNotCaptured(v.FilesErr) }

// Damage is why a file of a volume cannot be read though what is read of it is in evidence; nil where
// it is not, or nothing is wrong with it.
func (v *Volume) Damage(name string) error {
	key := strings.ToLower(name)
	errs := []error{v.FilesErr, v.looked[key], v.payloads[key].err}
	for i := range v.Configs {
		if strings.EqualFold(v.Configs[i].Path, name) {
			errs = append(errs, v.Configs[i].Err)
		}
	}
	for _, err := range errs {
		spent := new(disk.Spent)
		if err != nil && !disk.IsNotCaptured(err) && !errors.Is(err, volume.ErrNotFound) && !errors.As(err, &spent) {
			return err
		}
	}
	return nil
}

// MayHoldProgram reports whether a boot entry may lead to a program on the drive, other
// than to one of a path: one is there, or the evidence does not tell.
func (d *Drive) MayHoldProgram(besides string) bool {
	if d.Contents == nil {
		return true
	}
	c := d.Contents
	if !c.TableKnown() || c.Layout.Open {
		return true
	}
	for i := range c.Volumes {
		v := &c.Volumes[i]
		if v.Kind == volume.NotCaptured || v.IsFAT() && (v.Told || v.ProgramsOpen) ||
			slices.ContainsFunc(v.Programs, func(p string) bool { return !strings.EqualFold(p, besides) }) {
			return true
		}
	}
	return false
}

// Lists reports whether the directories of a FAT volume show an EFI program at a path.
func (v *Volume) Lists(path string) bool {
	return slices.ContainsFunc(v.Programs, func(p string) bool { return strings.EqualFold(p, path) })
}

// VendorLoader returns the loader that a boot entry would name: an operating
// system's own, the shim before the GRUB that it starts.
func (d *Drive) VendorLoader() (path string, found bool) {
	if d.Contents == nil {
		return "", false
	}
	for i, v := range d.Contents.Volumes {
		if !d.Contents.Layout.Partitions[i].IsESP() {
			continue
		}
		for _, f := range v.Loaders {
			if f.Name != loader.Fallback && (path == "" || f.Name == loader.Shim) {
				path, found = f.Path, true
			}
		}
	}
	return path, found
}
