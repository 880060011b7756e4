package course_test

import (
	"testing"

	"latchkey/internal/expected"
)

func TestEveryMachineEndsAsExpected(t *testing.T) { expected.Outcomes(t, expected.Quick(t)) }
