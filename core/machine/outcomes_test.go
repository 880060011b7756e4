package machine_test

import (
	"testing"

	"latchkey/internal/expected"
)

func TestEveryMachineEndsAsExpected(t *testing.T) {
	if testing.Short() {
		t.Skip("package expected judges them, too")
	}
	expected.Outcomes(t, expected.Quick(t))
}
