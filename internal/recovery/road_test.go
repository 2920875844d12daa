package recovery

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/plan"
)

func idOf(t *testing.T, hex string) object.ID {
	id, err := object.ParseID(hex)
	require.NoError(t, err)
	return id
}

// newRoad is a team in which mine has five commits: a, b, c and d each add a file, and e what
// theirs has by then, with a line of its own in a second file.
func newRoad(t *testing.T) (*team, map[string]object.ID) {
	tm := newTeam(t)
	ids := map[string]object.ID{}
	for _, name := range []string{"a", "b", "c", "d"} {
		tm.mine.Commit("Add "+name+"\n\nWhy "+name+" is there.\n", name+".txt", name+"\n")
		ids[name] = idOf(t, tm.mine.Git("rev-parse", "HEAD"))
	}
	tm.mine.Commit("Add e\n", "e.txt", "e\n")
	ids["e"] = idOf(t, tm.mine.Git("rev-parse", "HEAD"))
	tm.other.Commit("theirs", "e.txt", "e\n", "f.txt", "f\n")
	tm.other.Git("push", "-q")
	return tm, ids
}

// TestRequestsAreAsGitDoes has commits be left out, reworded, kept and joined with the one before,
// and compares with git told the same.
func TestRequestsAreAsGitDoes(t *testing.T) {
	t.Parallel()
	const shown = "--format=%an|%ae|%ad|%T%n%B"
	for name, c := range map[string]struct {
		requests map[string]replay.Request
		list     string // for git's list, in which NAME stands for the line of that commit
		edits    string // for git's messages
	}{
		"none":     {nil, "", ""},
		"left out": {map[string]replay.Request{"b": {Leave: true}}, "/Add b/d", ""},
		"all left out": {map[string]replay.Request{"a": {Leave: true}, "b": {Leave: true}, "c": {Leave: true},
			"d": {Leave: true}, "e": {Leave: true}}, "s/^pick/drop/", ""},
		"reworded": {map[string]replay.Request{"c": {Message: "See\n\nwhy\n"}}, "/Add c/s/^pick/reword/",
			`printf 'See\n\nwhy\n' >`},
		"joined": {map[string]replay.Request{"c": {Into: true}}, "/Add c/s/^pick/squash/", ""},
		"three in one": {map[string]replay.Request{"b": {Into: true}, "c": {Into: true}}, "/Add [bc]/s/^pick/squash/",
			""},
		"joined, and its message": {map[string]replay.Request{"c": {Into: true, Message: "Both\n"}}, "/Add " +
			"c/s/^pick/squash/",
			`printf 'Both\n' >`},
		"joined with one before that is left out": {map[string]replay.Request{"b": {Leave: true}, "c": {Into: true}},
			"/Add b/d;/Add c/s/^pick/squash/", ""},
		"edited": {map[string]replay.Request{"b": {Edits: (*replay.Edits)(nil).With(merge.TextEdit{Path: "b.txt",
			Before: "b\n",
			After:  "edited\n"})}}, "/Add b/a exec sed -i s/b/edited/ b.txt && git commit -q -a --amend --no-edit", ""},
		"the first cannot be joined": {map[string]replay.Request{"a": {Into: true}}, "", ""},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			tm, ids := newRoad(t)
			theirs := gittest.At(t, filepath.Join(t.TempDir(), "git"))
			require.NoError(t, os.CopyFS(theirs.Dir, os.DirFS(tm.mine.Dir)))
			theirs.Git("fetch", "-q")
			edits := c.edits
			if edits == "" {
				edits = "sed -i -e '/^#/d'"
			}
			theirs.Git("config", "sequence.editor", "sed -i -e '"+c.list+"'")
			theirs.Git("config", "core.editor", edits)
			theirs.Git("rebase", "-q", "-i", "--empty=drop", "origin/main")

			s := tm.session()
			for name, request := range c.requests {
				require.NoError(t, s.Ledger.Request(ids[name], request))
			}
			s.Close()
			s = tm.session() // they are kept
			p, j, b := ready(t, s, plan.Rebase, settle.Theirs)
			_, err := s.Accept(t.Context(), p, j, b, change.Consent{})
			require.NoError(t, err)
			is, want := tm.mine.Git("log", shown), theirs.Git("log", shown)
			assert.Equal(t, strings.ReplaceAll(want, "\n\n\n", "\n\n"), strings.ReplaceAll(is, "\n\n\n", "\n\n"))

			_, err = s.Applier.GoBack(t.Context(), "")
			require.NoError(t, err)
			p, err = s.Locate(t.Context(), false)
			require.NoError(t, err)
			require.NoError(t, s.Ledger.Sync(p))
			assert.Len(t, s.Ledger.State().Requests, len(c.requests), "an undo keeps them")
		})
	}
}

// TestWhatARequestCosts tells what would be lost and asked before it is so.
func TestWhatARequestCosts(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	tm.mine.Commit("one", "f", strings.Replace(base, "two", "TWO", 1))
	one := idOf(t, tm.mine.Git("rev-parse", "HEAD"))
	tm.mine.Commit("two", "f", strings.Replace(base, "two", "TWO and more", 1))
	tm.mine.Commit("three", "g", "three\n")
	three := idOf(t, tm.mine.Git("rev-parse", "HEAD"))
	tm.other.Commit("theirs", "h", "h\n")
	tm.other.Git("push", "-q")
	s := tm.session()
	p, j, _ := ready(t, s, plan.Rebase, settle.Theirs)
	st := s.Ledger.State()
	pr, err := s.Workspace.Cost(t.Context(), p, &st, j, one, replay.Request{Leave: true})
	require.NoError(t, err)
	assert.Equal(t, 1, pr.Asks, "the next one changes what it wrote")
	pr, err = s.Workspace.Cost(t.Context(), p, &st, j, three, replay.Request{Leave: true})
	require.NoError(t, err)
	require.Len(t, pr.Left, 1)
	assert.Equal(t, "three", pr.Left[0].Text)
	assert.Zero(t, pr.Asks)
	assert.Empty(t, s.Ledger.State().Requests, "nothing is kept of it")
}

// TestAnEditThatFitsNoLonger is not made, and told; one whose file became another is joined with it.
func TestAnEditThatFitsNoLonger(t *testing.T) {
	t.Parallel()
	tm, ids := newRoad(t)
	s := tm.session()
	p, err := s.Locate(t.Context(), true)
	require.NoError(t, err)
	require.NoError(t, s.Ledger.Sync(p))
	edits := (*replay.Edits)(nil).With(merge.TextEdit{Path: "a.txt", Before: "other\n", After: "new\n"}).
		With(merge.TextEdit{Path: "gone.txt", Before: "x\n", After: "y\n"}).
		With(merge.TextEdit{Path: "f.txt", Before: "0\n1\n2\n3\n4\nf\n", After: "zero\n1\n2\n3\n4\nf\n"})
	p.Requests = replay.Requests{ids["a"]: {Edits: edits}, ids["b"]: {Leave: true, Edits: edits}}
	j, err := s.Planner.Join(t.Context(), p, plan.Rebase, &settle.Decisions{}, plan.Amends{}, nil)
	require.NoError(t, err)
	assert.Equal(t, edits.List, j.Steps[0].Unfit)
	assert.Len(t, j.Steps[1].Unfit, 3, "what is left out holds no edits")
	assert.Len(t, j.Lost, 6)
	require.NoError(t, s.Ledger.Request(ids["a"], replay.Request{Edits: edits}))
	require.NoError(t, s.Ledger.AddMend(plan.Mend{Path: "none", Before: "1\n", After: "2\n"}))
	for _, m := range append(j.Lost[:3:3], s.Ledger.State().Mends...) {
		require.NoError(t, s.Ledger.LetGo(m))
	}
	assert.Empty(t, s.Ledger.State().Mends)
	assert.Empty(t, s.Ledger.State().Requests)
	files, err := s.Planner.FilesOf(t.Context(), &j.Steps[2])
	require.NoError(t, err)
	assert.Equal(t, []string{"c.txt"}, files)
}
