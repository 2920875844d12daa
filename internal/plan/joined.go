package plan

import (
	"context"
	"fmt"
	"iter"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/misfit"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// Route is a way of joining two lines.
type Route string

// The routes.
const (
	Rebase Route = "rebase"
	Merge  Route = "merge"
	Pick   Route = "pick" // single commits of another line are replayed on yours
)

// In names the route as the users of a system do.
func (r Route) In(by vcs.Dialect) string {
	if r == Rebase {
		return by.OnTop()
	}
	return string(r)
}

// Stop is a point of a route with conflicts: the whole merge, or one replayed commit.
type Stop struct {
	Commit history.Node // zero for a merge
	Files  []*settle.File
	Result *merge.Result

	Uncommitted bool // the commit holds uncommitted work and is never published
}

// Mend is an edit to a file of the joined tree, made to let the check pass.
type Mend struct {
	Path          string
	Before, After string
}

// Amends lists the changes to a joined tree besides the decisions.
type Amends struct {
	Mends   []Mend
	Made    []Made
	Message string // message of the merge commit; empty for the proposed one
}

// Join is the result of a route with the decisions made so far.
type Join struct {
	Route         Route
	Refused       error         // why the route is impossible; the other fields are then empty
	Merge         *merge.Result // result of a merge
	Steps         []replay.Step // steps of a rebase
	Stops         []Stop
	Tree          object.ID // joined tree, with placeholders if Open is not 0
	Open          int       // number of conflicts without a decision
	Settled       int
	Mended        []Mend         // mends that were applied
	Lost          []Mend         // mends that no longer fit
	Regenerations []Regeneration // generated files
	Message       string         // message of the merge commit; empty for other routes
	Carried       *Carried

	onto    object.ID      // for a pick: parent of the first step
	work    *Uncommitted   // uncommitted work to carry; nil for the position's
	Plain   object.ID      // the joined tree before files were regenerated; zero if none was
	mended  []Mend         // effects of the applied mends on the joined texts
	besides []merge.Remark // remarks about the whole join

	recorded bool // Tree has a note of what was brought in
}

// Clean reports whether the route has no conflicts.
func (j *Join) Clean() bool { return j.Refused == nil && len(j.Stops) == 0 }

// Remarks lists what the person should know although it is no conflict. Each remark appears once.
func (j *Join) Remarks() []merge.Remark {
	out := slices.Clone(j.besides)
	add := func(r *merge.Result) {
		if r == nil {
			return
		}
		for _, n := range r.Remarks {
			if !slices.Contains(out, n) {
				out = append(out, n)
			}
		}
	}
	add(j.Merge)
	for i := range j.Steps {
		for _, r := range j.Steps[i].Joins() {
			add(r)
		}
	}
	return out
}

// Untold returns the misfits that no remark tells already, as it does of two files with one number.
func (j *Join) Untold(list []Misfit) []Misfit {
	remarks := j.Remarks()
	return slices.DeleteFunc(slices.Clone(list), func(m Misfit) bool {
		return m.Kind == misfit.Duplicate && slices.ContainsFunc(remarks, func(r merge.Remark) bool {
			return r.Asks && (r.Path == m.Used.Path || r.Path == m.Changed.Path)
		})
	})
}

// Conflicts returns the number of decisions that the route needs.
func (j *Join) Conflicts() (n int) {
	for _, s := range j.Stops {
		for _, f := range s.Files {
			n += len(f.Questions)
		}
	}
	return n
}

// take reads the joined tree, the conflicts and the lost mends from the steps.
func (j *Join) take(ctx context.Context) (err error) {
	if j.Tree, err = j.Steps[len(j.Steps)-1].Tree(ctx); err != nil {
		return err
	}
	for _, s := range j.Steps {
		for _, one := range s.Unfit {
			j.Lost = append(j.Lost, Mend(one))
		}
		for _, r := range s.Joins() {
			if !r.Clean() {
				j.Stops = append(j.Stops, Stop{Commit: s.Commit, Result: r})
			}
		}
	}
	return nil
}

// Questions iterates over the questions of all stops, with their files.
func (j *Join) Questions() iter.Seq2[*settle.File, *settle.Question] {
	return func(yield func(*settle.File, *settle.Question) bool) {
		for _, stop := range j.Stops {
			for _, f := range stop.Files {
				for _, q := range f.Questions {
					if !yield(f, q) {
						return
					}
				}
			}
		}
	}
}

// mergeOf resolves a merge with the decisions and returns its tree. resume may hold a merge that git began.
func (j *Join) mergeOf(ctx context.Context, r *merge.Result, resume *Resume, resolve replay.Resolver) (tree object.ID,
	err error) {
	var begun *merge.Begun
	if resume != nil && resume.Begun != nil {
		begun = resume.Begun
		begun.Narrow(r)
	}
	decided, _, err := resolve(r)
	if err != nil {
		return tree, err
	}
	j.Merge = r
	if !r.Clean() {
		j.Stops = []Stop{{Result: r}}
	}
	if tree, err = r.Tree(ctx, decided); err == nil && begun != nil {
		tree, err = begun.Over(ctx, r, tree)
	}
	return tree, err
}

// Kept returns the number of commits in the replayed line.
func (j *Join) Kept() int { return len(replay.Groups(j.Steps)) }

// MendHolder returns the commit that mends go into. ok is false if there is none.
func (j *Join) MendHolder() (name string, ok bool) {
	if j.Route == Merge {
		return "the merge commit", true
	}
	if i, ok := replay.Last(j.Steps); ok && j.Route == Pick {
		return fmt.Sprintf("the last picked commit, “%s”", j.Steps[i].Commit.Subject()), true
	} else if ok {
		return fmt.Sprintf("your last commit, “%s”", j.Steps[i].Commit.Subject()), true
	}
	return "", false
}

// Built is the joined line as commits in memory.
type Built struct {
	Tip   object.ID
	IDs   []object.ID // for a rebase: new commit of each step, zero for omitted ones
	Moves []builtMove // moves of other branches, made together with the branch's
}

// builtMove moves another branch to the commit of a step or, if step is negative, to the commit to.
type builtMove struct {
	Name string
	From object.ID
	Step int
	To   object.ID
}

// Tips returns the commits from which all new ones are reachable.
func (b Built) Tips() []object.ID {
	out := []object.ID{b.Tip}
	for _, m := range b.Moves {
		if m.Step < 0 {
			out = append(out, m.To)
		}
	}
	return out
}

// Made returns the new commits, oldest first.
func (b Built) Made() (ids []object.ID) {
	for _, id := range b.IDs {
		if !id.IsZero() {
			ids = append(ids, id)
		}
	}
	return ids
}

// Authors returns the distinct author names of commits, starting with the author of the newest.
func Authors(commits []history.Node) []string {
	var out []string
	for _, n := range commits {
		if name := n.Author().Name; !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	return out
}

// Published is one of your commits that a remote already has.
type Published struct {
	history.Node
	On  string
	Who []string // others with commits there, who may have this one
}

// String returns the id, the subject and the remote branch.
func (p Published) String() string {
	return fmt.Sprintf("%s “%s” (on %s)", p.ID.Prefix(12), p.Subject(), p.On)
}

// PublishedError reports that a rebase would rewrite published commits.
type PublishedError struct{ Commits []Published }

func (e *PublishedError) Error() string {
	var names []string
	for _, n := range e.Commits {
		names = append(names, n.String())
	}
	names = words.Some(names, 5)
	return "a rebase would give new ids to commits that are on a remote already, and whoever has them would have " +
		"them twice: " + strings.Join(names, ", ") + ". Nothing was changed"
}

// FixedError reports that a rebase is impossible: it would replace commits that others have, and the system keeps those
// for good.
type FixedError struct {
	By      string // the system
	Commits []Published
}

func (e *FixedError) Error() string {
	var names []string
	for _, n := range e.Commits {
		names = append(names, n.String())
	}
	return "a rebase would replace commits that others have, and " + e.By + " keeps those for good: " +
		strings.Join(words.Some(names, 3), ", ") + ". Choose the merge; nothing was changed"
}

// LinearError reports that a route is impossible, as the system keeps one row of commits: a merge with what is new on
// the branch's own line, or a rebase onto another line.
type LinearError struct {
	By   string // the system
	Line string // the other line; empty for the branch's own
}

func (e *LinearError) Error() string {
	if e.Line != "" {
		return "your revisions stay where they are: " + e.By + " keeps them for good. " + e.Line +
			" is brought in as " +
			"one revision on top, by merge. Nothing was changed"
	}
	return e.By + " keeps one row of revisions, and has no commit that joins two. The update puts yours on top. " +
		"Nothing was changed"
}

// EarlyError reports that another line is not brought in yet: in a system with one row of commits that is a commit of
// its own, on top of the last one.
type EarlyError struct {
	Line, Own string
	New       int // commits of the own line that are not here yet; zero if there are changes of yours
}

func (e *EarlyError) Error() string {
	if e.New > 0 {
		return fmt.Sprintf("%s has %s that you do not have yet. Join %s first, and then bring in %s. Nothing was "+
			"changed", e.Own, words.Count(e.New, "revision", "revisions"), words.Is(e.New, "it", "them"), e.Line)
	}
	return fmt.Sprintf("you have changes that are not checked in. Check them in first, and then bring in %s, which is "+
		"a revision of its own. Nothing was changed", e.Line)
}

// early returns why another line cannot be brought in yet, or nil.
func (p *Position) early() error {
	home := p.FromLine().Home
	if home == nil || len(p.Divergence.Theirs) == 0 {
		return nil
	}
	switch n := len(home.Divergence.Theirs); {
	case n > 0:
		return &EarlyError{p.Line().Name, home.Line().Name, n}
	case len(home.Divergence.Yours) > 0:
		return &EarlyError{p.Line().Name, home.Line().Name, 0}
	}
	return nil
}

// DecidedIn returns the decisions that belong to the conflicts of a join.
func DecidedIn(j *Join, all *settle.Decisions) (out []settle.Decision) {
	asked := map[settle.Key]bool{}
	for _, q := range j.Questions() {
		asked[q.Key] = true
	}
	for _, d := range all.List {
		if asked[d.Key] {
			out = append(out, d)
		}
	}
	return out
}

// Regeneration is a generated file that its command must generate again.
type Regeneration struct {
	Path    string
	Command string // command, run in the file's folder
	Made    bool   // the file was generated from the current joined tree
	Same    bool   // the command did not change the file
}

// Made is the output of such a command for one joined tree.
type Made struct {
	Path    string    `json:"path"`
	Command string    `json:"command"`
	From    object.ID `json:"from"` // joined tree from which it was generated
	Text    string    `json:"text"`
}

// Unmade returns the files that are not generated yet.
func (j *Join) Unmade() (out []Regeneration) {
	return slices.DeleteFunc(slices.Clone(j.Regenerations), func(m Regeneration) bool { return m.Made })
}

// Sentence describes what happened to the file.
func (m Regeneration) Sentence() string {
	switch {
	case !m.Made:
		return m.Path + " was not regenerated: “" + m.Command + "” did not run, or failed. It is yours where " +
			"both sides changed it."
	case m.Same:
		return m.Path + " is yours where both sides changed it: “" + m.Command + "” ran, and did not change it."
	}
	return m.Path + " was regenerated by “" + m.Command + "”."
}

// amended reports whether mends or generated files changed the joined tree.
func (j *Join) amended() bool {
	return j.recorded || len(j.Mended) > 0 || slices.ContainsFunc(j.Regenerations,
		func(m Regeneration) bool { return m.Made && !m.Same })
}

// WithoutTexts removes the texts. The joined tree has them.
func WithoutTexts(made []Made) []Made {
	out := slices.Clone(made)
	for i := range out {
		out[i].Text = ""
	}
	return out
}

// Replayed returns the original of a new commit, or the zero node.
func (j *Join) Replayed(b Built, id object.ID) (of history.Node) {
	if i := slices.Index(b.IDs, id); i >= 0 && i < len(j.Steps) && !id.IsZero() {
		of = j.Steps[i].Commit
	}
	return of
}

// Reworded returns the steps with a new message.
func (j *Join) Reworded() (out []int) {
	for _, group := range replay.Groups(j.Steps) {
		if slices.ContainsFunc(group, func(k int) bool {
			return j.Steps[k].Message != "" ||
				j.Steps[k].Says.Does != replay.Nothing && k != group[0]
		}) {
			out = append(out, group[0])
		}
	}
	return out
}

// Route returns the route of the half-done operation.
func (r *Resume) Route(p *Position) Route {
	switch {
	case len(r.Merged) > 0, p.SettlesOnly():
		return Merge
	case p.IsPick():
		return Pick
	}
	return Rebase
}
