package demo_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/fit"
	"latchkey/core/startup"
	"latchkey/demo"
	"latchkey/internal/expected"
)

// What each demo case before a copy must answer: does it fit, and which way is best.
func TestEveryDemoCaseBeforeACopyAnswersAsItIsMeantTo(t *testing.T) {
	for name, want := range map[string]struct{ fits, way string }{
		"slip-office": {"smaller", "blocks"}, "ballast-log": {"no", ""}, "lock-keeper": {"smaller", "blocks"}, "cannery-scales": {"as-it-is", "blocks"},
		"survey-laptop": {"as-it-is", ""}, "poster-mac": {"as-it-is", "restore"}, "gauge-house": {"as-it-is", "blocks"},
	} {
		t.Run(name, func(t *testing.T) {
			var c demo.Case
			for _, one := range demo.Before() {
				if one.Name == name {
					c = one
				}
			}
			require.NotEmpty(t, c.Name)
			m := fit.Planned(expected.Demo(t, c), c.Clone.Bus, true, fact.Unknown[bool]())
			original := m.Drives[0].Contents
			target := fit.Target{SectorSize: 512}
			if blank := m.Drives[1].Contents; blank != nil {
				target.Bytes, _ = blank.Size()
				target.SectorSize = blank.Layout.SectorSize
			} else {
				n, _, err := disk.ParseSize(c.Copy.Capacity, disk.DecimalUnits)
				require.NoError(t, err)
				target.Bytes = fit.Sold(n / 1e9)
			}
			parts := fit.Parts(original)
			a := fit.Judge(original, parts, target)
			assert.Equal(t, want.fits, a.Fits, a.Says)
			strategy := fit.Keep
			if a.Fits != "as-it-is" {
				strategy = fit.Main
			}
			layout := fit.Lay(parts, original.Layout.Style, target, strategy, nil)
			var list []fit.Prediction
			for _, w := range fit.WaysOf(original) {
				list = append(list, fit.Predict(m, w, parts, layout, target))
			}
			best := fit.Best(list)
			if want.way == "" {
				for _, p := range list {
					assert.NotEqual(t, startup.Starts, p.Verdict, p.Way.Key)
				}
				return
			}
			require.GreaterOrEqual(t, best, 0)
			assert.Equal(t, want.way, list[best].Way.Key)
			switch name {
			case "lock-keeper":
				assert.Contains(t, a.Trap, "20 sectors")
			case "ballast-log":
				assert.InDelta(t, 3<<30, a.Short, 1<<29)
			case "gauge-house":
				situation := fit.Situation{Machine: m, Parts: parts, Target: target}
				assert.Equal(t, "failing", situation.List()[0].Key)
			case "cannery-scales":
				for _, p := range list {
					if p.Way.ToUEFI {
						assert.NotEmpty(t, p.After, p.Says)
					}
				}
			}
		})
	}
	assert.Len(t, demo.Before(), 7)
}
