package recovery

import (
	"context"
	"errors"
	"fmt"
	"time"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// sender pushes, and asks the remote what came of it.
type sender struct {
	repo  vcs.System
	waits func(try, of int) // called before a push is tried again because of a lock; nil if nobody asks
}

// lockWaits are the pauses before a push is tried again while the server's branch is locked.
var lockWaits = []time.Duration{time.Second, 2 * time.Second, 4 * time.Second, 8 * time.Second}

// send pushes to out.To, and again while another push holds the server's lock on the branch. seen is the tip that the
// branch had when it was last asked. A refusal is in out; the error is about anything else.
func (sd sender) send(ctx context.Context, what vcs.Sending, seen object.ID, out *Pushed) error {
	for try := 0; ; try++ {
		var err error
		out.Tries, out.Refusal = try+1, nil
		out.Said, err = sd.repo.Push(ctx, what)
		if errors.As(err, &out.Refusal) && ctx.Err() == nil {
			sd.confirm(ctx, what, seen, out)
			err = nil
		}
		if err != nil || out.Refusal == nil || out.Refusal.Kind != vcs.Busy || try == len(lockWaits) {
			return err
		}
		if sd.waits != nil {
			sd.waits(try+2, len(lockWaits)+1)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(lockWaits[try]):
		}
	}
}

// confirm asks the remote what it holds after a refusal, because the message alone can be wrong.
func (sd sender) confirm(ctx context.Context, what vcs.Sending, seen object.ID, out *Pushed) {
	at, err := sd.repo.RemoteTip(ctx, what.Remote, what.Ref)
	out.Unsure = err != nil
	switch r := out.Refusal; {
	case err != nil:
	case at == what.Tip:
		out.Refusal = nil
	case r.Kind == vcs.Behind && r.Raced() && at == seen:
		r.Kind = vcs.Busy // nothing is new there: the branch was locked
	}
}

// holds asks the remote what it holds after an accepted push.
func (sd sender) holds(ctx context.Context, out *Pushed) (err error) {
	if out.Holds, err = sd.repo.RemoteTip(ctx, out.To.Remote, out.To.Ref); err != nil {
		return fmt.Errorf("the push was accepted, but then the remote did not answer: %w", err)
	}
	return nil
}
