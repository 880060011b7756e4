package judge

import (
	"context"
	"errors"
	"time"

	"golang.org/x/sync/semaphore"
)

// Room is the memory that all requests together may take for reading evidence and for
// planning; who finds none waits.
type Room struct{ left *semaphore.Weighted }

// What there is in all, and how long is waited for some of it.
const (
	allRoom  = 96 << 20 // bytes
	roomWait = 15 * time.Second
)

// What the work takes, in bytes: examining a disk, planning a repair.
const (
	examineRoom = 32 << 20
	planRoom    = 32 << 20
)

// ErrBusy reports that there was no room for some time.
var ErrBusy = errors.New("the server is busy with other evidence")

// NewRoom returns the whole room.
func NewRoom() *Room { return &Room{semaphore.NewWeighted(allRoom)} }

// Take takes room for so many bytes, at most all there is, and returns what gives it
// back. It must not be taken twice by one request.
func (r *Room) Take(ctx context.Context, bytes int64) (back func(), err error) {
	bytes = min(bytes, allRoom)
	wait, cancel := context.WithTimeout(ctx, roomWait)
	defer cancel()
	if err := r.left.Acquire(wait, bytes); err != nil {
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		return nil, ErrBusy
	}
	return func() { r.left.Release(bytes) }, nil
}
