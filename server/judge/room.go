package judge

import (
	"context"
	"errors"
	"time"

	"latchkey/core/machine"

	"golang.org/x/sync/semaphore"
)

// Room is the memory that all requests together may take for reading evidence and for
// planning; who finds none waits.
type Room struct{ left *semaphore.Weighted }

// What there is in all, and how long is waited for some of it.
const (
	allRoom  = 80 << 20 // bytes
	roomWait = 15 * time.Second
)

// What the work takes, in bytes: examining a disk, and simulating a machine, by its
// partitions. Planning simulates it more than once.
const (
	examineRoom  = 40 << 20
	machineRoom  = 1 << 20
	perPartition = 128 << 10
	planTimes    = 2
)

// simulating takes the room for a machine.
func (r *Room) simulating(ctx context.Context, m machine.Machine, times int64) (back func(), err error) {
	bytes := int64(machineRoom)
	for _, d := range m.Drives {
		if d.Contents != nil {
			bytes += perPartition * int64(len(d.Contents.Volumes))
		}
	}
	return r.Take(ctx, times*bytes)
}

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
