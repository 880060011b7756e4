package truth

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/fit"
	"latchkey/core/machine"
	"latchkey/internal/diskmaker"
	"latchkey/internal/reference"
)

// fromFile reads an image that a tool wrote.
func fromFile(path string) (*diskmaker.Image, error) {
	raw, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	m := diskmaker.NewImage(int64(len(raw)), 512)
	for at := 0; at < len(raw); at += 1 << 20 {
		piece := raw[at:min(at+1<<20, len(raw))]
		for _, b := range piece {
			if b != 0 {
				if _, err := m.WriteAt(piece, int64(at)); err != nil {
					return nil, err
				}
				break
			}
		}
	}
	return m, nil
}

// Copies that Debian's tools made in different ways are started in real firmware, and do
// there what was predicted before they were made.
func TestPredictedCopiesInRealFirmware(t *testing.T) {
	if testing.Short() {
		t.Skip("starts real firmware")
	}
	if err := Ready(); err != nil {
		reference.Lacks(t, "%v", err)
	}
	ways := map[string]func(reference.Copying, string){
		"blocks":     func(c reference.Copying, _ string) { c.Blocks() },
		"blocks-new": func(c reference.Copying, _ string) { c.BlocksWithNewIdentifiers() },
		"whole":      func(c reference.Copying, _ string) { c.Whole() },
		"main":       reference.Copying.Main,
	}
	for _, s := range []Scenario{uefi("UEFI", good("a", 1)), legacy("legacy firmware", classic("a", 1, 1))} {
		for key, copied := range ways {
			t.Run(s.Name+" by "+key, func(t *testing.T) {
				dir := t.TempDir()
				image, err := s.Drives[0].build(dir)
				require.NoError(t, err)
				on, err := disk.New(image, image.Size, 512)
				require.NoError(t, err)
				original := machine.Examine(on)
				c := reference.Copying{T: t, From: filepath.Join(dir, "from.img"), To: reference.Image(t, 2*image.Size)}
				require.NoError(t, image.WriteFile(c.From))
				style, mode, like := "gpt", firmware.UEFI, "edk2"
				if s.Firmware == SeaBIOS {
					style, mode, like = "dos", firmware.Legacy, "seabios"
				}
				for _, p := range original.Layout.Partitions {
					part := reference.Part{Start: p.Start, Length: p.Length, Type: p.TypeGUID.String()}
					if style == "dos" {
						part.Type = fmt.Sprintf("%x", p.MBRType)
					}
					c.Parts = append(c.Parts, part)
				}
				copied(c, style)

				behaviour, _ := firmware.Named(like)
				m := fit.Planned(machine.Machine{Until: machine.UntilLoader, DeviceOrder: []string{"a"},
					Firmware: firmware.Settings{Mode: fact.Tell(mode), Arch: fact.Tell(firmware.X64),
						SecureBoot: fact.Tell(false),
						Behaviour:  behaviour, Entries: &firmware.Entries{All: map[uint16]firmware.Entry{}}},
					Drives: []machine.Drive{{Name: "o", Role: machine.RoleOriginal, Contents: original},
						{Name: "a", Role: machine.RoleClone}}}, "sata", true, fact.Unknown[bool]())
				target := fit.Target{Bytes: 2 * image.Size, SectorSize: 512}
				parts := fit.Parts(original)
				var predicted fit.Prediction
				for _, w := range fit.Ways {
					if w.Key == key {
						predicted = fit.Predict(m, w, parts, fit.Lay(parts, original.Layout.Style, target, fit.Keep,
							nil), target)
					}
				}
				require.NotNil(t, predicted.Clone, predicted.Says)
				real := Scenario{Name: s.Name, Firmware: s.Firmware, Drives: []Drive{{Name: "a",
					Make: func(string) (*diskmaker.Image, error) { return fromFile(c.To) }}}}
				report := Run(real)
				require.NoError(t, report.Err)
				assert.Empty(t, report.Differs, "the check of the real copy")
				assert.Empty(t, real.Disagreement(predicted.Trace, report.Result), "the prediction")
			})
		}
	}
}
