package truth_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/startup"
	"latchkey/internal/expected"
	"latchkey/truth"
)

// What the named firmwares are said to choose is held by machines that real firmware
// was started on: nothing is left open on any, and each choice, made the other way,
// ends some machine in another way.
func TestEveryNamedChoiceIsHeldByAMachine(t *testing.T) {
	all := expected.Quick(t)
	if truth.KernelFolder() != "" { // a choice that only a system's own reading of the disk shows
		for _, s := range truth.Scenarios() {
			if s.Called() == "OVMF: Linux, table: GPT, the primary's sum wrong" {
				all = append(all, expected.Of(t, s)...)
			}
		}
	}
	for _, p := range all {
		trace := startup.Simulate(p.Machine)
		assert.Equal(t, 1, trace.Worlds, "%s: %v", p.Name, trace.Missing)
	}
	for _, name := range []string{"edk2", "seabios"} {
		behaviour, ok := firmware.Named(name)
		require.True(t, ok)
		for _, c := range firmware.Choices {
			made, known := behaviour.Of(c).Get()
			if !known || c == firmware.RestoresGPT && truth.KernelFolder() == "" {
				continue
			}
			held := 0
			for _, p := range all {
				m := p.Machine
				if now, _ := m.Firmware.Behaviour.Of(c).Get(); now != made ||
					m.Firmware.Behaviour.Of(c).Source().Structure != name {
					continue
				}
				if len(m.Drives) == 1 {
					m.DeviceOrder = nil // what the boot list shows is not in question otherwise
				}
				before := expected.Outcome(startup.Simulate(m))
				m.Firmware.Behaviour = m.Firmware.Behaviour.With(c, fact.Tell(!made))
				if expected.Outcome(startup.Simulate(m)) != before {
					held++
				}
			}
			assert.Positive(t, held, "%s of %s decides on no machine", c.Key, name)
		}
	}
}
