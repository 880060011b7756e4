package demo_test

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/course"
	"latchkey/core/machine"
	"latchkey/core/repair"
	"latchkey/core/startup"
	"latchkey/demo"
	"latchkey/internal/expected"
)

// ending is how a demo case must end when its real bytes are examined.
type ending struct {
	verdict startup.Verdict
	reaches startup.Verdict
	stage   course.Stage
}

var endings = map[string]ending{
	"harbour-desktop": {startup.Starts, startup.Starts, ""},
	"kiosk-north":     {startup.Stops, startup.Stops, course.StageBootPartition},
	"bridge-laptop":   {startup.Stops, startup.Stops, course.StageMode},
	"engine-log":      {startup.Depends, startup.Depends, ""},
	"camera-recorder": {startup.Stops, startup.Stops, course.StageSystem},
	"kiosk-south":     {startup.StartsOriginal, startup.StartsOriginal, ""},
	"booking-office":  {startup.Stops, startup.Stops, course.StageBootPartition},
	"timetable":       {startup.Depends, startup.Depends, ""},
	"kiosk-east":      {startup.Stops, startup.Stops, course.StageLoader},
	"crew-mess":       {startup.Stops, startup.Stops, course.StageDrive},
	"stores-laptop":   {startup.Stops, startup.Stops, course.StageTable},
	"lounge-display":  {startup.Stops, startup.Stops, course.StageConfiguration},
	"purser-laptop":   {startup.Stops, startup.Stops, course.StageConfiguration},
	"chart-table":     {startup.Depends, startup.Starts, ""},
	"tide-office":     {startup.Depends, startup.Depends, ""},
	"weather-station": {startup.Starts, startup.Starts, ""},
	"wharf-scales":    {startup.Starts, startup.Starts, ""},
	"tide-archive":    {startup.Starts, startup.Starts, ""},
	"ticket-hall":     {startup.Stops, startup.Stops, course.StageSystem},
	"design-mac":      {startup.Depends, startup.Depends, ""},
	"cargo-server":    {startup.Starts, startup.Starts, ""},
}

func TestEveryDemoCaseEndsAsItIsMeantTo(t *testing.T) {
	for _, c := range demo.Cases() {
		t.Run(c.Name, func(t *testing.T) {
			if c.Original.Disk == nil {
				t.Skip("told by listings: the command's tests load it as the demo does")
			}
			want, known := endings[c.Name]
			require.True(t, known, "the case has no ending here")
			m := expected.Demo(t, c)
			trace := startup.Simulate(m)
			assert.Equal(t, want, ending{trace.Verdict, trace.Reaches, trace.Stage}, trace.Headline)
			// The original of every case is sound: alone, in a machine that suits it,
			// it reaches its loader, or hangs on the very fact that the case asks for.
			for _, p := range startup.Pins(m, "original") {
				assert.NotEqual(t, course.Blocks, p.State, "%s: %s", p.Stage, p.Text)
			}
		})
	}
	assert.Equal(t, len(endings)+4, len(demo.Cases()), "four cases have no bytes")
}

// The demo's machines stop, by the rules, at every stage at which one can, and end in
// every verdict.
func TestTheDemoShowsEveryStageThatIsJudged(t *testing.T) {
	shown, verdicts := map[course.Stage]bool{}, map[startup.Verdict]bool{}
	for _, c := range demo.Cases() {
		if _, has := endings[c.Name]; has {
			trace := startup.Simulate(expected.Demo(t, c))
			shown[trace.Stage], verdicts[trace.Verdict] = true, true
		}
	}
	assert.Len(t, verdicts, 4)
	for _, stage := range []course.Stage{course.StageDrive, course.StageMode, course.StageTable,
		course.StageBootPartition, course.StageLoader, course.StageConfiguration, course.StageSystem} {
		assert.True(t, shown[stage], stage)
	}
}

// plans are how the demo cases that do not start are repaired; none is the case
// that cannot be.
var plans = map[string][]string{
	"kiosk-north": {"create-esp", "windows-boot-files", "driver-at-start"}, "bridge-laptop": {"set-mode"}, "engine-log": {"restore-primary"},
	"camera-recorder": {"copy-again"}, "kiosk-south": {"clone-first"}, "booking-office": {"set-active"}, "timetable": {"add-entry"},
	"kiosk-east": {"windows-boot-files", "driver-at-start"}, "crew-mess": nil, "stores-laptop": {"copy-again"}, "lounge-display": {"linux-names"},
	"purser-laptop": {"windows-references"}, "chart-table": {"recovery-key"}, "tide-office": {"driver-at-start"}, "ticket-hall": {"driver-at-start"},
}

func TestEveryDemoCaseThatFailsHasItsPlan(t *testing.T) {
	for _, c := range demo.Cases() {
		want, fails := plans[c.Name]
		if !fails {
			continue
		}
		p := repair.Find(expected.Demo(t, c))
		var got []string
		for _, s := range p.Steps {
			got = append(got, s.Action)
		}
		assert.Equal(t, want, got, "%s: %s", c.Name, p.Reason)
		if want == nil {
			assert.Contains(t, p.Reason, "use a drive or an adapter", "it says what remains")
		}
	}
}

// What may start as it is gets no plan that puts its data at risk: the question comes first.
func TestTheMacIsAskedFirst(t *testing.T) {
	for _, c := range demo.Cases() {
		if c.Name != "design-mac" {
			continue
		}
		p := repair.Find(expected.Demo(t, c))
		assert.Empty(t, p.Steps)
		require.NotNil(t, p.Ask)
		assert.Equal(t, "mac-installed:clone", p.Ask.ID)
	}
}

// Planning for every demo case with bytes: the median and the worst time, and the
// most states that one took.
func BenchmarkPlanEveryCase(b *testing.B) {
	var machines []machine.Machine
	for _, c := range demo.Cases() {
		if c.Original.Disk != nil {
			machines = append(machines, expected.Demo(b, c))
		}
	}
	var took []time.Duration
	states := 0
	for b.Loop() {
		took = nil
		for _, m := range machines {
			began := time.Now()
			states = max(states, repair.Find(m).States)
			took = append(took, time.Since(began))
		}
	}
	slices.Sort(took)
	b.ReportMetric(float64(took[len(took)/2].Microseconds())/1000, "median-ms")
	b.ReportMetric(float64(took[len(took)-1].Microseconds())/1000, "worst-ms")
	b.ReportMetric(float64(states), "most-states")
}

func TestDemoNamesAreTheirOwn(t *testing.T) {
	seen := map[string]bool{}
	for _, c := range demo.Cases() {
		assert.False(t, seen[c.Name] || seen[c.Title])
		seen[c.Name], seen[c.Title] = true, true
	}
}

// Whether an encrypted system asks for its key nobody can tell before: without it at hand that is not proven, and no
// stop; to find it writes nothing.
func TestAnEncryptedSystemMayAskForItsKey(t *testing.T) {
	cases := demo.Cases()
	at := slices.IndexFunc(cases, func(c demo.Case) bool { return c.Name == "chart-table" })
	m := expected.Demo(t, cases[at])
	for answer, wants := range map[string]startup.Verdict{"": startup.Depends, "no": startup.Depends, "yes": startup.Starts} {
		m.Answers = map[string]string{"recovery-key:clone": answer}
		trace, p := startup.Simulate(m), repair.Find(m)
		require.Equal(t, wants, trace.Verdict, "%s: %s %s", answer, trace.Headline, trace.Reason)
		assert.Equal(t, startup.Starts, trace.Reaches)
		if wants == startup.Starts {
			assert.Empty(t, p.Steps)
			continue
		}
		assert.Equal(t, answer == "", trace.Missing[0].ID == "recovery-key:clone", "%v", trace.Missing)
		require.Len(t, p.Steps, 1, p.Reason)
		assert.Equal(t, "recovery-key", p.Steps[0].Action)
		assert.Empty(t, p.Steps[0].Saves)
	}
}
