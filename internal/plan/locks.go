package plan

import (
	"context"
	"fmt"
	"slices"
	"time"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// Locks are the locks of files, as they were when the remote was asked last.
type Locks struct {
	List    []vcs.Lock
	Changed map[string]bool // the paths that you changed, if that matters
	Wanted  []string        // of these, the ones that are to be locked before they are changed, and that nobody holds
}

// Sentences says who holds which lock. Those that stop what you changed come first.
func (l Locks) Sentences(now time.Time) (stopping, others []string) {
	for _, one := range l.List {
		text, stops := LockSentence(now, one, l.Changed)
		if stops {
			stopping = append(stopping, text)
		} else {
			others = append(others, text)
		}
	}
	for _, path := range l.Wanted {
		stopping = append(stopping,
			path+" is to be locked before it is changed: “dorvik lock "+path+"” takes the lock.")
	}
	return stopping, others
}

// Holder returns the locks of the person to ask first: who holds a file that you changed, or else the first file.
func (l Locks) Holder() (held []vcs.Lock) {
	others := slices.DeleteFunc(slices.Clone(l.List), func(o vcs.Lock) bool { return o.Mine || o.Owner == "" })
	if len(others) == 0 {
		return nil
	}
	who := others[0].Owner
	if i := slices.IndexFunc(others, func(o vcs.Lock) bool { return l.Changed[o.Path] }); i >= 0 {
		who = others[i].Owner
	}
	return slices.DeleteFunc(others, func(o vcs.Lock) bool { return o.Owner != who })
}

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
