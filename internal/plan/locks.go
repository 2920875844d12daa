package plan

import (
	"context"
	"fmt"
	"time"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// LockSentence says who holds a lock. stops reports that it is on a file of yours, which cannot be pushed while it is
// held.
func LockSentence(now time.Time, l vcs.Lock, changed map[string]bool) (text string, stops bool) {
	held := fmt.Sprintf("%s is locked by %s, %s", l.Path, l.Owner, words.Ago(now, l.Since))
	if l.Why != "" {
		held += ": “" + l.Why + "”"
	}
	switch {
	case l.Broken && l.Owner == "":
		return "Your lock on " + l.Path + " was broken; nobody has it now.", true
	case l.Broken:
		return "Your lock on " + l.Path + " was broken: " + held + ".", true
	case l.Mine:
		return "You hold the lock on " + l.Path + ", taken " + words.Ago(now, l.Since) + ".", false
	case changed[l.Path]:
		return held + ". What you changed there is not taken until it is given back.", true
	}
	return held + ".", false
}

// Mine returns the paths that your commits change.
func (rd *Reader) Mine(ctx context.Context, p *Position) (map[string]bool, error) {
	out := map[string]bool{}
	if p.Base().IsZero() {
		return out, nil
	}
	was, err := rd.Tree(ctx, p.Base())
	if err != nil {
		return nil, err
	}
	is, err := rd.Tree(ctx, p.Yours)
	if err != nil {
		return nil, err
	}
	return out, rd.Store.EachChange(ctx, was, is, func(c object.Change) { out[c.Path] = true })
}
