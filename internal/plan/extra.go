package plan

import (
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"dorvik.dev/dorvik/internal/core/caught"
)

// extraLimit is the total time for foresight and diagnosis of one position.
const extraLimit = 20 * time.Second

// NotLookedAt is a foresight or diagnosis that failed. The job continues without it.
type NotLookedAt struct {
	What string // such as "what will not work together"
	Why  string
}

// Sentence describes the failure to the person.
func (n NotLookedAt) Sentence() string { return "Not looked at: " + n.What + " (" + n.Why + ")." }

// Extra runs optional work. If do fails, panics or exceeds the time limit, Extra records that and ok is false. err is
// only set if ctx is cancelled. do must not write to anything but its results, because it may still run after the time
// limit.
func Extra[T any](ctx context.Context, x *Extras, what string, do func(context.Context) (T, error)) (found T,
	ok bool,
	err error) {
	type outcome struct {
		found T
		err   error
	}
	x.mu.Lock()
	left := x.Limit - x.took
	x.mu.Unlock()
	limited, cancel := context.WithTimeout(ctx, left)
	defer cancel()
	begun := time.Now()
	defer func() {
		x.mu.Lock()
		defer x.mu.Unlock()
		x.took += time.Since(begun)
	}()
	o := outcome{err: limited.Err()} // no time is left: do not begin
	if o.err == nil {
		ended := make(chan outcome, 1)
		go func() {
			var o outcome
			o.err = caught.Do(func() (err error) {
				o.found, err = do(limited)
				return err
			})
			ended <- o
		}()
		select {
		case o = <-ended:
		case <-limited.Done():
			o.err = limited.Err()
		}
	}
	switch {
	case ctx.Err() != nil:
		return found, false, ctx.Err()
	case o.err == nil:
		return o.found, true, nil
	case errors.Is(o.err, context.DeadlineExceeded):
		x.Skip(NotLookedAt{what, "it took longer than " + x.Limit.String()})
	default:
		x.Skip(NotLookedAt{what, o.err.Error()})
	}
	return found, false, nil
}

// Skip records failed work once.
func (x *Extras) Skip(n NotLookedAt) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if !slices.Contains(x.failed, n) {
		x.failed = append(x.failed, n)
	}
}

// Begin restarts the time limit for a new position.
func (x *Extras) Begin() {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.took = 0
}

// NotLookedAt returns the failures since the workspace was opened.
func (x *Extras) NotLookedAt() []NotLookedAt {
	x.mu.Lock()
	defer x.mu.Unlock()
	return slices.Clone(x.failed)
}

// Extras runs optional work and records what failed.
type Extras struct {
	Limit time.Duration // time limit for all of them together

	mu     sync.Mutex
	took   time.Duration // time used for the last position
	failed []NotLookedAt
}
