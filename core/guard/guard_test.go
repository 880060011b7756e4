package guard_test

import (
	"bytes"
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"

	"latchkey/core/disk"
	"latchkey/core/guard"
)

func TestABudgetEndsADecoderThatGoesOnAfterErrors(t *testing.T) {
	g := guard.New(bytes.NewReader(make([]byte, 64)))
	b := make([]byte, 8)
	reads := 0
	forever := func() error {
		for {
			reads++
			_, _ = g.ReadAt(b, 1<<40)
		}
	}
	assert.ErrorIs(t, g.Within(10_000, "the thing", forever), guard.ErrBudget)
	assert.Less(t, reads, 1000)
	assert.ErrorIs(t, g.Within(10_000, "the thing", func() error { return nil }), guard.ErrBudget, "it is not begun again")
}

type lacking struct{}

func (lacking) ReadAt(_ []byte, off int64) (int, error) { return 0, &disk.NotCaptured{Offset: off} }

func TestWhatTheEvidenceLacksIsNoDamage(t *testing.T) {
	g := guard.New(lacking{})
	err := g.Within(1000, "the thing", func() error {
		_, _ = g.ReadAt(make([]byte, 4), 77)
		return errors.New("it makes no sense")
	})
	assert.True(t, disk.IsNotCaptured(err))
	err = g.Within(1000, "the thing", func() error { panic("index out of range") })
	assert.ErrorContains(t, err, "the thing is damaged")
}
