package recovery

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
)

// Commits makes commits of uncommitted work.
type Commits struct {
	repo    vcs.System
	planner *plan.Planner
	files   change.WorkTree
	applier change.Mover
}

// Draft is a commit to be made.
type Draft struct {
	Staged  bool              // what is staged, and not Paths
	Paths   []string          // files, as they are in the working tree
	Texts   map[string]string // of these, the files of which only some edits are committed: their text in the commit
	Message string
	// Commented reports that the message has comments, which are not part of it.
	Commented bool
	Amends    bool // the last commit is replaced by one with the work in it
}

// LastUnpushed returns the last commit of the branch if it is on no remote, so that work can be added to it.
func (c *Commits) LastUnpushed(ctx context.Context) (*history.Node, error) {
	b, err := c.repo.Current(ctx)
	if err != nil || b.Name == "" || b.Tip.IsZero() {
		return nil, err
	}
	last, err := c.planner.Store.Commit(ctx, b.Tip)
	if err != nil {
		return nil, err
	}
	unpushed, err := c.repo.Unpushed(ctx, []object.ID{b.Tip}, last.Parents)
	if err != nil || !unpushed[b.Tip] {
		return nil, err
	}
	return &history.Node{ID: b.Tip, Commit: last}, nil
}

// Template returns the text that commit.template names, for a new message.
func (c *Commits) Template(ctx context.Context) (string, error) {
	path, err := c.repo.ConfigPath(ctx, "commit.template")
	if err != nil || path == "" {
		return "", err
	}
	if !filepath.IsAbs(path) {
		path = filepath.Join(c.repo.Where().Dir, path)
	}
	data, err := os.ReadFile(path)
	if err != nil {
		return "", fmt.Errorf("reading the template of messages: %w", err)
	}
	return string(data), nil
}

// Begin has changes that are one commit, as they are in no list, be uncommitted work, so that some can be chosen. End
// has them be one commit again.
func (c *Commits) Begin(ctx context.Context) error { return c.ungroup(ctx, true) }

// End ends Begin.
func (c *Commits) End(ctx context.Context) error { return c.ungroup(ctx, false) }

func (c *Commits) ungroup(ctx context.Context, apart bool) error {
	if by, ok := c.repo.(vcs.Ungrouping); ok {
		return by.Ungroup(ctx, apart)
	}
	return nil
}

// Make makes the commit. Branch and index move; no file changes. Hooks run and the commit is signed as git would do it.
// Work that is not committed stays as it is, staged what is staged.
func (c *Commits) Make(ctx context.Context, d Draft, consent change.Consent) (wp *ledger.Waypoint, err error) {
	b, dirty, err := c.repo.Status(ctx)
	if err == nil && b.Ungroup {
		defer func() { err = errors.Join(err, c.End(ctx)) }() // once there is a list, that has no effect
		if err = c.Begin(ctx); err == nil {
			b, dirty, err = c.repo.Status(ctx)
		}
	}
	if err != nil {
		return nil, err
	}
	if err := c.possible(b, dirty); err != nil {
		return nil, err
	}
	if d.Staged && !c.repo.Dialect().Index {
		d.Staged = false
		for _, one := range dirty {
			if !one.Untracked {
				d.Paths = append(d.Paths, one.Path)
			}
		}
	}
	p := &plan.Position{Branch: b, Yours: b.Tip, Dirty: dirty, Kind: plan.Committing{}}
	if p.Carried, err = c.files.Uncommitted(ctx, b.Tip, dirty); err != nil {
		return nil, err
	}
	j, err := c.join(ctx, b.Tip, dirty, p.Carried, d)
	if err != nil {
		return nil, err
	}
	commit, err := c.commit(ctx, b.Tip, j.Tree, d)
	if err != nil {
		return nil, err
	}
	p.Theirs = c.planner.Store.PutCommit(commit)
	p.Divergence = &history.Divergence{Theirs: []history.Node{{ID: p.Theirs, Commit: commit}}}
	what := "commit: "
	if d.Amends {
		what = "commit (amend): "
	}
	return c.applier.Accept(ctx, p, j, plan.Built{Tip: p.Theirs}, consent, what+commit.Subject())
}

// possible returns why no commit can be made now, or nil.
func (c *Commits) possible(b vcs.Branch, dirty []vcs.Dirty) error {
	switch {
	case b.Name == "" || b.Tip.IsZero():
		return &plan.Blocked{What: "There is no branch with a commit here to commit on.", Next: "Nothing was changed."}
	case c.repo.Busy() != "" || plan.HasConflicts(dirty):
		return &plan.Blocked{What: "An operation or a conflict is half done here.",
			Next: "Finish it first, or take it back. Nothing was changed."}
	}
	return nil
}

// join returns the tree of the commit, and what index and files hold afterwards: the index has the chosen files as they
// are committed, and the files stay.
func (c *Commits) join(ctx context.Context, head object.ID, dirty []vcs.Dirty, u *plan.Uncommitted, d Draft) (
	*plan.Join, error) {
	store := c.planner.Store
	was, err := c.planner.Tree(ctx, head)
	if err != nil {
		return nil, err
	}
	j := &plan.Join{Tree: was}
	now := u.Holds(was)
	if d.Staged {
		j.Tree = now.Staged
	} else {
		commits, holds, err := c.chosen(ctx, head, dirty, d)
		if err != nil {
			return nil, err
		}
		if j.Tree, err = store.Edit(ctx, was, commits); err != nil {
			return nil, err
		}
		if now.Staged, err = store.Edit(ctx, now.Staged, commits); err != nil {
			return nil, err
		}
		if now.Files, err = store.Edit(ctx, now.Files, holds); err != nil {
			return nil, err
		}
	}
	if u != nil {
		j.Carried = &plan.Carried{Of: u, Staged: now.Staged, Files: now.Files}
	}
	if j.Tree == was && !d.Amends {
		what := "None of the chosen files has a change."
		if d.Staged {
			what = "Nothing is staged."
		}
		return nil, &plan.Blocked{What: what, Next: "Nothing was committed."}
	}
	return j, nil
}

// chosen returns the entries that the commit has for the chosen files, and those that the working tree holds.
func (c *Commits) chosen(ctx context.Context, head object.ID, dirty []vcs.Dirty, d Draft) (commits,
	holds map[string]object.Entry, err error) {
	as := slices.Clone(dirty)
	for _, path := range d.Paths { // read a new file like one that is known
		if !slices.ContainsFunc(dirty, func(d vcs.Dirty) bool { return d.Path == path && !d.Untracked }) {
			as = append(as, vcs.Dirty{Path: path, Unstaged: true})
		}
	}
	all, err := c.files.Uncommitted(ctx, head, as)
	if err != nil || all == nil {
		return nil, nil, err
	}
	commits, holds = map[string]object.Entry{}, map[string]object.Entry{}
	for _, path := range d.Paths {
		e, err := c.planner.Store.Find(ctx, all.Files, path)
		if err != nil {
			return nil, nil, err
		}
		holds[path] = e
		if text, some := d.Texts[path]; some && !e.Absent() {
			e.ID = c.planner.Store.Put(object.KindBlob, []byte(text))
		}
		commits[path] = e
	}
	return commits, holds, nil
}

// Changed lists the files with uncommitted work, each new file by itself.
func (c *Commits) Changed(ctx context.Context) ([]vcs.Dirty, error) {
	_, dirty, err := c.repo.Status(ctx)
	if err != nil {
		return nil, err
	}
	dirty = slices.DeleteFunc(dirty, func(d vcs.Dirty) bool { return d.Untracked })
	fresh, err := c.repo.Untracked(ctx)
	for _, path := range fresh {
		dirty = append(dirty, vcs.Dirty{Path: path, Untracked: true})
	}
	return dirty, err
}

// commit returns the commit object.
func (c *Commits) commit(ctx context.Context, head, tree object.ID, d Draft) (*object.Commit, error) {
	who, err := c.repo.Committer(ctx)
	if err != nil {
		return nil, err
	}
	text := d.Message
	cleanup, err := c.repo.Config(ctx, "commit.cleanup")
	if err != nil {
		return nil, err
	}
	if d.Commented || cleanup == "strip" || cleanup == "scissors" {
		if text, err = c.repo.Uncommented(ctx, text); err != nil {
			return nil, err
		}
	}
	if text = strings.TrimSpace(text); text == "" {
		return nil, &plan.Blocked{What: "The commit has no message.", Next: "Nothing was committed."}
	}
	out := &object.Commit{Tree: tree, Parents: []object.ID{head}, AuthorLine: who.String(), Committer: who,
		Message: text + "\n"}
	if d.Amends {
		last, err := c.LastUnpushed(ctx)
		if err != nil {
			return nil, err
		}
		if last == nil {
			return nil, &plan.Blocked{What: "The last commit was pushed, so it is not replaced.",
				Next: "Make a new commit. Nothing was changed."}
		}
		out.Parents, out.AuthorLine = last.Parents, last.AuthorLine
	}
	return out, nil
}

// Texts returns a file in the last commit and in the working tree. ok is false if one of them is no text.
func (c *Commits) Texts(ctx context.Context, path string) (was, is string, ok bool, err error) {
	b, dirty, err := c.repo.Status(ctx)
	if err != nil {
		return "", "", false, err
	}
	_, holds, err := c.chosen(ctx, b.Tip, dirty, Draft{Paths: []string{path}})
	if err != nil {
		return "", "", false, err
	}
	tree, err := c.planner.Tree(ctx, b.Tip)
	if err != nil {
		return "", "", false, err
	}
	if was, ok, err = c.planner.TextAt(ctx, tree, path); err != nil || !ok {
		return "", "", false, err
	}
	if tree, err = c.planner.Store.Edit(ctx, tree, holds); err != nil {
		return "", "", false, err
	}
	is, ok, err = c.planner.TextAt(ctx, tree, path)
	return was, is, ok, err
}
