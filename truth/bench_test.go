package truth_test

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"latchkey/capture"
	"latchkey/core/machine"
	"latchkey/core/repair"
	"latchkey/core/startup"
	"latchkey/truth"
)

// Planning for every machine of the truth set that does not start: the median and
// the worst time, and the most states that one took.
func BenchmarkPlanEveryMachine(b *testing.B) {
	ready := []machine.Machine{}
	for _, s := range truth.Scenarios() {
		path, err := s.Prepare(b.TempDir())
		require.NoError(b, err)
		m, err := capture.Load(path)
		require.NoError(b, err)
		if startup.Simulate(m).Verdict != startup.Starts {
			ready = append(ready, m)
		}
	}
	var took []time.Duration
	states, planned := 0, 0
	for b.Loop() {
		took, states, planned = nil, 0, 0
		for _, m := range ready {
			began := time.Now()
			p := repair.Find(m)
			took = append(took, time.Since(began))
			states = max(states, p.States)
			if len(p.Steps) > 0 {
				planned++
			}
		}
	}
	slices.Sort(took)
	b.ReportMetric(float64(took[len(took)/2].Microseconds())/1000, "median-ms")
	b.ReportMetric(float64(took[len(took)-1].Microseconds())/1000, "worst-ms")
	b.ReportMetric(float64(states), "most-states")
	b.ReportMetric(float64(len(ready)), "machines")
	b.ReportMetric(float64(planned), "planned")
}
