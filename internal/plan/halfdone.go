package plan

import (
	"fmt"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// StuckError reports a half-done operation that can be taken over.
type StuckError struct{ *Stuck }

func (e *StuckError) Error() string {
	return e.Sentence()
}

// Stuck describes a half-done operation of git: its state and what is settled already.
type Stuck struct {
	Left    *vcs.Unfinished
	On      vcs.Branch // the branch it changes
	With    vcs.Line   // what it merges, or rebases onto; the upstream unless it is another line
	Dirty   []vcs.Dirty
	Open    []string // unsettled paths
	Marked  []string // unsettled paths in which some conflicts are already settled
	Settled []string // settled paths that were in conflict
	Resume  *Resume  // how to continue; nil if Dorvik cannot
	Why     string   // why Dorvik cannot continue
	Notes   []string // remarks about its list, as sentences
	Runs    []string // commands that its list already ran

	Found   []settle.Decision      // decisions found between the marks of unsettled files
	Held    *Uncommitted           // all uncommitted work
	Stand   object.ID              // tree of the index, with what is settled in files
	Join    *merge.Result          // the join at which it stopped; nil if none
	trees   merge.Three[object.ID] // trees of that join, if they are not those of commits
	swapped bool                   // HEAD is theirs, as in a merge made by a rebase
	stashed bool                   // the conflicts come from a stash
	from    object.ID              // for a merge: the commit that is joined with the last of the others
	beside  object.ID              // tree: staged work beyond it belongs to no commit; zero if all belongs to one
}

// Resume describes how to continue a half-done operation.
type Resume struct {
	Merged  []object.ID   // commits that are merged into the branch
	From    object.ID     // for several: the branch with all but the last, in memory
	Todo    []replay.Todo // commits left to replay
	Onto    object.ID     // new base of the commits
	Begun   *merge.Begun  // a merge that was begun
	Message string        // message of the merge commit

	moves []branchMove // moves of other branches at the end
}

// HasConflicts reports whether the index has unmerged paths.
func HasConflicts(dirty []vcs.Dirty) bool {
	return slices.ContainsFunc(dirty, func(d vcs.Dirty) bool { return d.Conflict })
}

// begin stores the current state of the merge.
func (s *Stuck) begin(edits []merge.TextEdit) {
	s.Resume = &Resume{Begun: &merge.Begun{Tree: s.Stand, Open: s.Open, Edits: edits}}
}

// openOf returns the path that git uses for a conflict. ok is false if it is settled.
func (s *Stuck) openOf(c *merge.Conflict) (string, bool) {
	for _, p := range c.Paths() {
		for _, o := range s.Open {
			if o == p || strings.HasPrefix(o, p+"~") {
				return o, true
			}
		}
	}
	return "", false
}

// pending reports whether the commit at which git stopped is not made yet.
func (s *Stuck) pending() bool {
	if s.Left.Operation != vcs.Rebasing || s.Left.Remade == nil ||
		len(s.Left.Done) == 0 { // when patches are applied, only git's index knows
		return true
	}
	if s.Left.Done[len(s.Left.Done)-1].Verb.Joins() {
		return s.Left.Amend == s.Left.Head
	}
	return s.Left.Picking || len(s.Left.Merged) > 0
}

// typedBetween returns text that the person typed between conflict markers, or an empty string.
func (s *Stuck) typedBetween(q *settle.Question, first, second string) string {
	headIs, otherIs := q.Yours, q.Theirs
	// The first half is HEAD's, which is theirs.
	if s.Left.Operation == vcs.Rebasing && len(s.Left.Merged) == 0 || s.swapped || s.stashed {
		headIs, otherIs = otherIs, headIs
	}
	switch {
	case first != headIs && second != otherIs:
		return first + second
	case first != headIs:
		return first
	case second != otherIs:
		return second
	}
	return ""
}

// What returns the operation with its article, such as “the rebase”.
func (s *Stuck) What() string {
	return map[vcs.Operation]string{vcs.Merging: "the merge", vcs.Rebasing: "the rebase", vcs.Picking: "the pick",
		vcs.Reverting: "the revert", vcs.Applying: "the series of patches",
		vcs.Unmerged: "the conflicts"}[s.Left.Operation]
}

// Sentence describes where git stopped.
func (s *Stuck) Sentence() string {
	if s.Left.Operation == vcs.Unmerged {
		return words.If(s.stashed, "what was "+words.If(s.Left.Unshelving, "shelved", "stashed")+
			" was brought back, and does not fit what is here.",
			words.If(s.Left.By == vcs.InSubversion.Name,
				"a merge of svn stopped at conflicts, which are in your files.",
				"your files contain conflicts that belong to no merge or rebase.")) + " " + s.standing()
	}
	what := map[vcs.Operation]string{vcs.Merging: "a merge", vcs.Rebasing: "a rebase", vcs.Picking: "a pick",
		vcs.Reverting: "a revert", vcs.Applying: "applying patches"}[s.Left.Operation]
	out := s.Left.By + " stopped in the middle of " + what
	if s.Left.Operation == vcs.Applying {
		out += fmt.Sprintf(": at the %s of %s", words.Nth(s.Left.At), words.Count(s.Left.Patches, "patch", "patches"))
	} else if done := CommitsOf(s.Left.Done); done > 0 && done+CommitsOf(s.Left.Todo) > 1 &&
		s.Left.Operation != vcs.Merging {
		whose := words.If(s.Left.Operation == vcs.Rebasing, "your ", "")
		out += fmt.Sprintf(": at the %s of %s%s", words.Nth(done), whose,
			words.Count(done+CommitsOf(s.Left.Todo), "commit", "commits"))
	}
	return out + ". " + s.standing()
}

// CommitsOf returns the number of commands that make a commit.
func CommitsOf(list []vcs.Command) (n int) {
	for _, c := range list {
		if !c.Commit.IsZero() && c.Verb != vcs.Drop {
			n++
		}
	}
	return n
}

// standing describes the state of the files.
func (s *Stuck) standing() string {
	var out []string
	if n := len(s.Open); n > 0 {
		out = append(out, words.Count(n, "file has", "files have")+" conflicts")
	}
	if n := len(s.Settled); n > 0 {
		out = append(out, words.Count(n, "is", "are")+" settled already")
	}
	switch {
	case len(out) == 0 && s.Left.Operation == vcs.Applying:
		return "It does not fit the files, or was to be looked at; git changed none of them for it."
	case len(out) == 0 && s.Join != nil && s.Join.Clean():
		return "Nothing is in conflict."
	case len(out) == 0:
		return "Nothing waits to be settled."
	}
	return strings.Join(out, ", ") + "."
}

// NotAnew returns why the operation cannot be joined again, or an empty string.
func (s *Stuck) NotAnew() string {
	switch {
	case s.Left.Operation == vcs.Unmerged:
		return "nothing was being joined: there are only conflicts to settle"
	case s.Left.Operation == vcs.Applying:
		return "patches from mails are not commits, so they cannot be joined"
	case s.Left.Branch == "":
		return "it runs on no branch (a detached HEAD), so there is no upstream to join with"
	case s.With.Name == "":
		return "the branch " + s.Left.Branch + " has no upstream to join with"
	}
	return ""
}

// NotBack returns why the operation cannot be undone, or an empty string.
func (s *Stuck) NotBack() string {
	if s.Left.Operation == vcs.Unmerged && s.Left.Edits.IsZero() {
		return s.Left.By + " did not record how the files were before these conflicts"
	}
	return ""
}

// Tip returns the tip of the branch, or HEAD if it is detached.
func (s *Stuck) Tip() object.ID {
	if s.Left.Branch == "" {
		return s.Left.Head
	}
	return s.On.Tip
}

// GitName returns git's command for an operation.
func GitName(o vcs.Operation) string {
	if o == vcs.Picking {
		return "cherry-pick"
	}
	return string(o)
}

// Note adds a note once.
func (s *Stuck) Note(format string, args ...any) {
	if n := fmt.Sprintf(format, args...); !slices.Contains(s.Notes, n) {
		s.Notes = append(s.Notes, n)
	}
}

// reworded notes that the list rewords a commit.
func (s *Stuck) reworded(n *object.Commit) {
	s.Note("Its list rewords “%s”: on the road (n), w writes its message; otherwise it stays.", n.Subject())
}

// withoutFollowing adds notes for options of the operation that Dorvik treats differently.
func (s *Stuck) withoutFollowing() {
	for _, o := range s.Left.Options {
		switch o.Name {
		case "strategy":
			s.Note("It was begun with --strategy=%s: Dorvik joins in its own way, and asks where both sides meet.",
				o.Value)
		case "strategy-option":
			s.Note("It was begun with -X %s: Dorvik asks where both sides meet, and prefers neither.",
				strings.TrimPrefix(strings.Trim(o.Value, "'"), "--"))
		case "committer-date-is-author-date":
			s.Note("It was to give each new commit its author's date as the committer's: Dorvik gives it the date of " +
				"now.")
		case "reset-author-date":
			s.Note("It was to give each new commit a new author's date: Dorvik keeps the one it has.")
		case vcs.KeepsReplaced:
			s.Note("It was begun with --keep: the changesets that are made again stay as they were, too.")
		case "gpg-sign":
			s.Note("It was to sign its commits: Dorvik signs those it makes with the key that user.signingKey names.")
		}
	}
}

// branchMove is the move of another branch in a rebase list.
type branchMove struct {
	move vcs.BranchMove
	at   replay.Parent // new parent
}

// Prospect compares the ways to take over a half-done operation.
type Prospect struct {
	Asks    int // decisions needed to continue
	More    int // commits to replay after the current one
	Kept    int // decisions that joining again keeps
	Commits []StuckCommit
	Dirty   int // files with other edits, which stay unchanged
}

// StuckCommit is a commit of the operation with its progress.
type StuckCommit struct {
	history.Node
	State string    // done, stopped, to come
	Now   object.ID // the commit's new id
}
