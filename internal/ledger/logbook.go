package ledger

import (
	"cmp"
	"errors"
	"fmt"
	"os"
	"slices"
	"time"

	"go.etcd.io/bbolt"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/exact"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
)

// Event is a kind of log entry. The names are those of `logbook --json`.
type Event string

// The events.
const (
	Joined Event = "accept" // the branch moved to a result
	Undone Event = "undo"   // a join was undone
	Sent   Event = "push"
	Moved  Event = "branch"    // a branch was deleted, or another one was checked out
	Taken  Event = "take-over" // git's half-done operation was finished, joined again, or abandoned
)

// LogEntry is an entry of the logbook.
type LogEntry struct {
	Waypoint string    `json:"waypoint"` // its waypoint; empty if none
	What     Event     `json:"what"`
	When     time.Time `json:"when"`
	Branch   string    `json:"branch"`
	From     object.ID `json:"from"` // tip before; for a push, the remote's tip before, if known
	To       object.ID `json:"to"`
	By       By        `json:"route"`
	Return   string    `json:"return,omitempty"` // waypoint that was restored
	Was      string    `json:"was,omitempty"`    // for a switch: the branch before
	Line     *vcs.Line `json:"line,omitempty"`   // for a deletion: the remote branch that was deleted, too
	At       object.ID `json:"at,omitzero"`      // its tip
	Of       Doing     `json:"of,omitempty"`     // kind of change, or of the undone one, if the route does not say it
}

// Doing is a kind of change that is no join.
type Doing string

// The kinds.
const (
	WentBack    Doing = "return"    // returned to before a waypoint
	StashBack   Doing = "stash"     // a stash of git was applied
	GaveBack    Doing = "give-back" // git's half-done operation was abandoned
	SettledOnly Doing = "settle"    // conflicts without an operation were settled
	Committed   Doing = "commit"    // uncommitted work was committed
	Exchanged   Doing = "exchange"  // the push replaced one's own commits
	PutForward  Doing = "forward"   // the push moved another branch
	Switched    Doing = "switch"    // another branch was checked out
	Deleted     Doing = "delete"    // a branch was deleted
	CounteredBy Doing = "counter"   // a new commit reverted what a join brought
)

// doing returns the kind of change, or an empty string for a join.
func (w *Waypoint) doing() Doing {
	switch {
	case w.Commits:
		return Committed
	case w.Return == OfTheStash:
		return StashBack
	case w.Return != "":
		return WentBack
	case w.TakenOver() && w.Kept.Operation == string(vcs.Unmerged) && !w.Kept.GaveBack:
		return SettledOnly
	case w.TakenOver() && w.By == Nothing:
		return GaveBack
	case w.Counter != "":
		return CounteredBy
	}
	return ""
}

var bucketLogbook = []byte("logbook") // by number

// Log appends an entry.
func (s *Store) Log(e LogEntry) error {
	err := s.update(func(tx *bbolt.Tx) error {
		b := tx.Bucket(bucketLogbook)
		n, err := b.NextSequence()
		if err != nil {
			return err
		}
		data, err := exact.Marshal(e)
		if err != nil {
			return err
		}
		return b.Put(number(int(n)), data)
	})
	if err != nil {
		return fmt.Errorf("writing the logbook: %w", err)
	}
	return nil
}

// LogSwitch appends the entry of a switch, which has no waypoint, unless there is one of its time already.
func (s *Store) LogSwitch(e LogEntry) error {
	return s.logUnless(e, func(o LogEntry) bool { return o.What == e.What && o.Of == e.Of && o.When.Equal(e.When) })
}

// logOnce appends an entry unless the waypoint has one of this kind.
func (s *Store) logOnce(e LogEntry) error {
	return s.logUnless(e, func(o LogEntry) bool { return o.Waypoint == e.Waypoint && o.What == e.What })
}

// logUnless appends an entry unless there is one that is the same.
func (s *Store) logUnless(e LogEntry, same func(LogEntry) bool) error {
	all, err := s.logged()
	if err != nil || slices.ContainsFunc(all, same) {
		return err
	}
	return s.Log(e)
}

// logged returns the stored entries, oldest first.
func (s *Store) logged() (all []LogEntry, err error) {
	err = safely(func() error {
		return s.db.View(func(tx *bbolt.Tx) error { return getList(tx.Bucket(bucketLogbook), &all) })
	})
	if err != nil {
		return nil, fmt.Errorf("reading the logbook: %w", err)
	}
	return all, nil
}

// logbook returns all entries, newest first. It adds entries for joins that are older than the logbook, from their
// waypoints.
func (s *Store) logbook() ([]LogEntry, error) {
	all, err := s.logged()
	if err != nil {
		return nil, err
	}
	points, err := s.Waypoints()
	if err != nil {
		return nil, err
	}
	known := map[string]bool{}
	for _, e := range all {
		known[e.Waypoint] = true
	}
	for _, w := range points {
		if !known[w.Name] && !w.GoneBack {
			all = append(all, w.entry(Joined))
		}
	}
	slices.Reverse(all)
	slices.SortStableFunc(all, func(a, b LogEntry) int { return cmp.Compare(b.When.UnixNano(), a.When.UnixNano()) })
	return all, nil
}

// entry returns the log entry for a join or its undo.
func (w *Waypoint) entry(what Event) LogEntry {
	e := LogEntry{Waypoint: w.Name, What: what, When: w.Time, Branch: w.Branch, From: w.Before, To: w.After,
		By: w.By, Of: w.doing()}
	if w.After == w.Theirs && w.By != Nothing { // none of your commits was left to replay
		e.By = Forward
	}
	if w.TakenOver() && what == Joined {
		e.What = Taken
	}
	if w.Return != "" && what == Joined {
		e.What, e.Return = Undone, w.Return
	}
	if what == Undone {
		e.When, e.From, e.To = time.Now(), w.After, w.Before
	}
	return e
}

// Logbook returns all entries, newest first.
func (l *Ledger) Logbook() ([]LogEntry, error) { return l.Store.logbook() }

// ReadLogbook reads the logbook in a git directory without locking it.
func ReadLogbook(gitDir string) ([]LogEntry, error) {
	path := StatePath(gitDir)
	if info, err := os.Stat(path); errors.Is(err, os.ErrNotExist) || err == nil && info.Size() == 0 {
		return nil, nil
	}
	db, err := openDB(path, true)
	if err != nil {
		return nil, fmt.Errorf("reading the logbook: %w", err)
	}
	s := &Store{db: db}
	defer s.close()
	return s.logbook()
}

// Name returns the waypoint as it is shown in lists.
func (e *LogEntry) Name() string {
	if e.Waypoint == "" {
		return ""
	}
	return "waypoint " + e.Waypoint
}

// Sentence describes the entry in the words of a system. to is the abbreviated commit that the branch had afterwards.
func (e *LogEntry) Sentence(in vcs.Dialect, to string) string {
	say := func(sentence string, of ...any) string { return fmt.Sprintf(in.Say(sentence), of...) }
	by := string(e.By)
	if e.By.Is(plan.Rebase) {
		by = plan.Rebase.In(in)
	}
	switch {
	case e.Of == Committed && e.What == Undone:
		return say("A commit on %s was taken back, to %s; its work is uncommitted again.", e.Branch, to)
	case e.Of == Committed:
		return say("Uncommitted work was committed on %s, which went to %s.", e.Branch, to)
	case e.Of == PutForward:
		return say("%s was put forward, to %s.", e.Branch, to)
	case e.Of == Exchanged:
		return say("What the remote had of %s was exchanged; it is at %s.", e.Branch, to)
	case e.Of == Switched && e.From == e.To:
		return say("%s was checked out instead of %s; no file changed.", e.Branch, e.Was)
	case e.Of == Switched:
		return say("%s was checked out instead of %s.", e.Branch, e.Was)
	case e.Of == Deleted && e.What == Undone:
		return say("The branch %s was made again, at %s.", e.Branch, to)
	case e.Of == Deleted && e.Line != nil:
		return say("The branch %s was deleted here and as %s.", e.Branch, e.Line.Name)
	case e.Of == Deleted:
		return say("The branch %s was deleted.", e.Branch)
	case e.What == Sent:
		return say("%s was pushed, at %s.", e.Branch, to)
	case e.Of == SettledOnly && e.What == Undone:
		return say("Conflicts that had been settled on %s are there again.", e.Branch)
	case e.Of == SettledOnly:
		return say("Conflicts that had been left were settled on %s, and nothing was committed.", e.Branch)
	case e.Of == WentBack && e.What == Undone && e.Return == "":
		return say("Going back was undone: %s is at %s again.", e.Branch, to)
	case e.Of == StashBack && e.What == Undone && e.Return == "":
		return say("Bringing back what git had put aside was undone: %s stays at %s.", e.Branch, to)
	case e.Of == CounteredBy && e.What == Undone:
		return say("Taking a join back by a new commit was undone: %s went back to %s.", e.Branch, to)
	case e.Of == CounteredBy:
		return say("What a join had brought to %s was taken back by a new commit: it is at %s.", e.Branch, to)
	case e.What == Taken && e.By == Nothing:
		return say("What was half done was taken back: %s is at %s as before.", e.Branch, to)
	case e.What == Taken:
		return say("What was half done was finished by %s: %s went to %s.", by, e.Branch, to)
	case e.Return == OfTheStash:
		return say("Work that git had put aside was brought back: %s stays at %s.", e.Branch, to)
	case e.Return != "":
		return say("%s went back to where it was before waypoint %s: it is at %s.", e.Branch, e.Return, to)
	case e.What == Undone && e.By == Nothing:
		return say("Taking back what was half done was undone: %s is at %s.", e.Branch, to)
	case e.What == Undone && e.By.Is(plan.Pick):
		return say("A pick onto %s was undone: it went back to %s.", e.Branch, to)
	case e.What == Undone:
		return say("A join of %s was undone: it went back to %s.", e.Branch, to)
	case e.By.Is(plan.Pick):
		return say("Commits were picked onto %s, which went to %s.", e.Branch, to)
	case e.By == Forward:
		return say("%s moved forward, to %s.", e.Branch, to)
	}
	return say("%s was joined by %s, and went to %s.", e.Branch, by, to)
}

// OfTheStash marks a waypoint that restored work from the stash.
const OfTheStash = "stash"

// BroughtBack returns the note that work from the stash was restored.
func BroughtBack(id object.ID) string { return "brought back " + id.String() }
