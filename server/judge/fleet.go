package judge

import (
	"context"
	"errors"
	"log/slog"
	"runtime"
	"sync"
	"time"

	"latchkey/core/startup"
	"latchkey/server/store"
)

// Bounds of judging the fleet beside use.
const (
	fleetBatch = 50
	fleetPause = 20 * time.Second // between looks for cases of other rules
	fleetRest  = 5 * time.Second  // after the database or the room failed
)

// WatchFleet judges all cases again whose latest check was made by other rules, until ctx
// ends. Two servers on one database may do so beside each other.
func (j *Judge) WatchFleet(ctx context.Context, log *slog.Logger) {
	for ctx.Err() == nil {
		n, err := j.JudgeFleet(ctx)
		pause := fleetPause
		if err != nil && ctx.Err() == nil {
			log.WarnContext(ctx, "judging the fleet", "cause", err)
			pause = fleetRest
		}
		if n > 0 {
			log.InfoContext(ctx, "judged again", "cases", n, "rules", startup.RulesVersion)
		}
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
	}
}

// JudgeFleet judges every case once whose latest check was made by other rules, and returns
// how many there were. A case that cannot be judged is passed over, and its error returned.
func (j *Judge) JudgeFleet(ctx context.Context) (judged int, err error) {
	var mu sync.Mutex
	var failed error
	for after := uint64(0); ; {
		ids, err := j.store.Outdated(ctx, startup.RulesVersion, after, fleetBatch)
		if err != nil || len(ids) == 0 {
			return judged, errors.Join(err, failed)
		}
		work := make(chan uint64)
		var all sync.WaitGroup
		for range max(1, runtime.GOMAXPROCS(0)-1) {
			all.Go(func() {
				for id := range work {
					err := j.judgeAgain(ctx, id)
					mu.Lock()
					if err == nil {
						judged++
					} else if !errors.Is(err, store.ErrNotFound) {
						failed = err
					}
					mu.Unlock()
				}
			})
		}
		for _, id := range ids {
			work <- id
		}
		close(work)
		all.Wait()
		after = ids[len(ids)-1]
		if ctx.Err() != nil {
			return judged, ctx.Err()
		}
	}
}

func (j *Judge) judgeAgain(ctx context.Context, id uint64) error {
	c, err := j.store.Get(ctx, id)
	if err != nil {
		return err
	}
	k, err := j.Case(ctx, c, WhatIf{})
	if err != nil {
		return err
	}
	return j.store.RecordAgain(ctx, c, k.record(id), k.Trace.Reason, j.words(ctx, c, k))
}
