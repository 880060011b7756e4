package expected_test

import (
	"flag"
	"testing"

	"latchkey/internal/expected"
)

func init() {
	flag.BoolVar(&expected.Update, "update", false, "write the expectations anew")
}

func TestEveryMachineEndsAsExpected(t *testing.T) {
	if testing.Short() {
		expected.Outcomes(t, expected.Quick(t))
		return
	}
	expected.Outcomes(t, expected.Machines(t))
}

func TestEveryPlanIsAsExpected(t *testing.T) { expected.Plans(t, expected.Quick(t)) }

func TestEveryMachineOfAFamilyIsAsExpected(t *testing.T) { expected.Met(t) }

func TestEveryCopyIsAsExpected(t *testing.T) {
	if testing.Short() {
		t.Skip("makes seven copies of every original")
	}
	expected.Copies(t, expected.Quick(t))
}

func TestEveryDiskIsReadAsExpected(t *testing.T) {
	if testing.Short() {
		t.Skip("reads hundreds of disks drawn at random")
	}
	expected.Evidence(t, expected.Quick(t))
}
