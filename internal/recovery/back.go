package recovery

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/lookback"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// WayBack describes how to undo an entry of the logbook.
type WayBack struct {
	Waypoint *ledger.Waypoint
	Since    []history.Node // later commits of the branch: the undo leaves them behind under a new waypoint
	Pushed   string         // remote branch that has the join
}

// Direct reports whether a plain undo is possible: nothing came after it and it was not pushed.
func (b *WayBack) Direct() bool { return len(b.Since) == 0 && b.Pushed == "" }

// Sentence describes the consequences.
func (b *WayBack) Sentence() string {
	w := b.Waypoint
	out := fmt.Sprintf("%s goes back to where it was before waypoint %s, with its files.", w.Branch, w.Name)
	if n := len(b.Since); n > 0 {
		var names []string
		for _, c := range b.Since {
			names = append(names, "“"+c.Subject()+"”")
		}
		out += fmt.Sprintf(" %s made since %s left behind and kept under a waypoint: %s.", words.Count(n, "commit",
			"commits"),
			words.Is(n, "is", "are"), words.List(words.Some(names, 3)))
	}
	if w.TakenOver() && !b.Direct() {
		out += " What was half done is not brought back; it stays under the waypoint."
	}
	if b.Pushed != "" {
		out += " " + b.Pushed + " keeps what was pushed: what is there is taken back by a new commit only."
	}
	return out
}

// WayBack computes how to undo an entry. It changes nothing.
func (s *Session) WayBack(ctx context.Context, name string) (*WayBack, error) {
	w, err := s.Ledger.Store.ToUndo(name)
	if err != nil {
		return nil, err
	}
	b, err := s.Repo.Current(ctx)
	if err != nil {
		return nil, err
	}
	if b.Name != w.Branch {
		return nil, &plan.Blocked{What: "The waypoint " + name + " is of the branch " + w.Branch + ", and you are on " +
			words.If(b.Name == "", "none",
				b.Name) + ".", Next: "Go there with " + s.Repo.Dialect().SwitchTo(w.Branch) + ". Nothing was changed."}
	}
	out := &WayBack{Waypoint: w}
	if out.Since, err = history.Only(ctx, s.Planner.Store, b.Tip, w.After, w.Before); err != nil {
		return nil, err
	}
	if b.Tip != w.After && len(out.Since) == 0 {
		if b.Tip == w.Before {
			return nil, &plan.Blocked{What: w.Branch + " is there already.", Next: "Nothing was changed."}
		}
		// The branch already moved back further: it leaves its current tip.
		if out.Since, err = history.Only(ctx, s.Planner.Store, b.Tip, w.Before); err != nil {
			return nil, err
		}
	}
	if w.After != w.Theirs && b.Tracking != "" {
		out.Pushed, err = s.Repo.OnRemote(ctx, w.After)
	}
	return out, err
}

// Return has the branch go back to where it was before an entry, whatever came after. What it was at
// is kept under a waypoint of its own, so that this can be undone in its turn. Uncommitted work is
// brought along where it fits; where it does not, nothing is changed.
func (s *Session) Return(ctx context.Context, name string) (*ledger.Waypoint, error) {
	back, err := s.WayBack(ctx, name)
	if err != nil {
		return nil, err
	}
	if back.Direct() {
		return s.Applier.GoBack(ctx, name)
	}
	p, err := s.Applier.Returning(ctx, back.Waypoint)
	if err != nil {
		return nil, err
	}
	st := s.Ledger.State()
	j, err := s.Planner.Join(ctx, p, "", &st.Decisions, plan.Amends{}, nil)
	if err != nil {
		return nil, err
	}
	if j.Open > 0 {
		return nil, &change.AsksError{Position: p, Paths: j.Carried.Asking()}
	}
	return s.FastForward(ctx, p, change.Consent{MoveAside: true})
}

// Counter prepares taking back what an entry brought, and only that, by a new commit: one whose
// change is the opposite, to be brought onto the branch like any picked commit. Neither what came
// after nor anything on the remote is rewritten.
func (s *Session) Counter(ctx context.Context, name string) error {
	w, err := s.Ledger.Store.Waypoint(name)
	if err != nil {
		return err
	}
	if w == nil || w.By == ledger.Nothing {
		return &plan.Blocked{What: "There is no join under the waypoint " + name + " here.",
			Next: "Nothing was changed."}
	}
	without := w.Theirs
	if w.By.Is(plan.Pick) || w.After == w.Theirs {
		without = w.Before
	}
	tree, err := s.Planner.Tree(ctx, without)
	if err != nil {
		return err
	}
	brought, err := history.Only(ctx, s.Planner.Store, w.After, without)
	if err != nil {
		return err
	}
	who, err := s.Repo.Committer(ctx)
	if err != nil {
		return err
	}
	var text strings.Builder
	fmt.Fprintf(&text, "Take back what %s brought\n\nThis undoes %s by a new one:\n\n", w.After.Prefix(12),
		words.Count(len(brought), "commit", "commits"))
	for i, n := range brought {
		if i == 20 {
			fmt.Fprintf(&text, "- and %d more\n", len(brought)-i)
			break
		}
		fmt.Fprintf(&text, "- %s\n", n.Subject())
	}
	id := s.Planner.Store.PutCommit(&object.Commit{Tree: tree, Parents: []object.ID{w.After}, AuthorLine: who.String(),
		Committer: who, Message: text.String()})
	if err := s.Repo.Keep(ctx, s.Planner.Store, id); err != nil {
		return err
	}
	old, err := s.Repo.Ref(ctx, w.CounterRef())
	if err != nil {
		return err
	}
	if err := s.Repo.UpdateRefs(ctx, "dorvik: take back", vcs.RefUpdate{Name: w.CounterRef(), New: id,
		Old: old}); err != nil {
		return err
	}
	return s.Pick(ctx, []string{id.String()}, 0)
}

// Since returns the files that differ between the branch before an entry and now.
func (s *Session) Since(ctx context.Context, name string) (*ledger.Waypoint, []lookback.ChangedFile, error) {
	w, err := s.Ledger.Store.Waypoint(name)
	if err != nil || w == nil {
		return nil, nil, err
	}
	b, err := s.Repo.Current(ctx)
	if err != nil {
		return nil, nil, err
	}
	was, err := s.Planner.Tree(ctx, w.Before)
	if err != nil {
		return w, nil, err
	}
	is, err := s.Planner.Tree(ctx, b.Tip)
	if err != nil {
		return w, nil, err
	}
	files, err := s.History.Changed(ctx, was, is, nil)
	return w, files, err
}

// Clean removes waypoints older than an age and returns their number. Their commits lose their protection. A join that
// is not pushed yet keeps its waypoint.
func (s *Session) Clean(ctx context.Context, age time.Duration) (n int, err error) {
	points, err := s.Ledger.Store.Waypoints()
	if err != nil {
		return 0, err
	}
	for _, w := range points {
		if time.Since(w.Time) < age || s.Ledger.State().Accepted != nil && s.Ledger.State().Accepted.Name == w.Name {
			continue
		}
		var gone []vcs.RefUpdate
		for _, ref := range []string{w.Ref(), w.KeptRef(), w.CounterRef()} {
			at, err := s.Repo.Ref(ctx, ref)
			if err != nil {
				return n, err
			}
			if !at.IsZero() {
				gone = append(gone, vcs.RefUpdate{Name: ref, Old: at})
			}
		}
		if len(gone) > 0 {
			err = s.Repo.UpdateRefs(ctx, "dorvik: clean", gone...)
		}
		if err = errors.Join(err, s.Applier.Forget(w), s.Ledger.Store.DropWaypoint(w.Name)); err != nil {
			return n, fmt.Errorf("cleaning the waypoint %s: %w", w.Name, err)
		}
		n++
	}
	return n, nil
}

// KeepFor returns how long waypoints are kept, from dorvik.keepWaypoints in days. Zero means forever.
func (w *Workspace) KeepFor(ctx context.Context) (time.Duration, error) {
	said, err := w.Repo.Config(ctx, "dorvik.keepWaypoints")
	if err != nil || said == "" {
		return 0, err
	}
	age, err := Days(said)
	if err != nil {
		return 0, fmt.Errorf("dorvik.keepWaypoints: %w", err)
	}
	return age, nil
}

// Days parses a number of days.
func Days(said string) (time.Duration, error) {
	var n int
	if _, err := fmt.Sscanf(strings.TrimSuffix(said, "d")+" ", "%d ", &n); err != nil || n < 1 {
		return 0, fmt.Errorf("%q is not a number of days", said)
	}
	return time.Duration(n) * 24 * time.Hour, nil
}
