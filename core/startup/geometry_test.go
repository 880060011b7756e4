package startup_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/course"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/internal/sample"
)

// Code that reads by cylinder, head and sector is judged by a geometry that somebody tells, and
// never by one that is assumed.
func TestTheGeometryIsAsked(t *testing.T) {
	t.Parallel()
	image := sample.MBRDisk("classic", 0).MustBuild()
	// INT 13h, AH=02h: the sector of cylinder 1, head 0, to 0:7E00, and a jump there.
	code := []byte{0xB8, 0x01, 0x02, 0xBB, 0x00, 0x7E, 0xB9, 0x01, 0x01, 0xBA, 0x80, 0x00, 0xCD, 0x13,
		0xEA, 0x00, 0x7E, 0, 0}
	_, err := image.WriteAt(append(code, make([]byte, 440-len(code))...), 0)
	require.NoError(t, err)
	there := append([]byte{0xB4, 0x41, 0xCD, 0x13, 0xCD, 0x18}, make([]byte, 506)...)
	_, err = image.WriteAt(there, 255*63*512)
	require.NoError(t, err)
	m := sample.EDK2(firmware.Legacy, sample.Drive(t, machine.RoleClone, image))
	m.Firmware.Behaviour, _ = firmware.Named("seabios")
	trace := startup.Simulate(m)
	require.Equal(t, startup.Depends, trace.Verdict)
	m.Answers = map[string]string{"boot-code-goes-on:clone": "yes"}
	trace = startup.Simulate(m)
	require.Equal(t, startup.Depends, trace.Verdict)
	asked := func(q course.Question) bool { return q.ID == "geometry:clone" }
	assert.True(t, slices.ContainsFunc(trace.Missing, asked), "%v", trace.Missing)
	m.Answers = map[string]string{"geometry:clone": "no"}
	trace = startup.Simulate(m)
	assert.Equal(t, startup.Depends, trace.Verdict, trace.Headline)
	m.Answers["geometry:clone"] = "yes"
	assert.Equal(t, startup.Stops, startup.Simulate(m).Verdict, "by the usual geometry it hands back")
}
