package recovery

import (
	"errors"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/prove"
	"dorvik.dev/dorvik/internal/vcs"
)

// TestTheWholeJob goes through it as screen and commands do, by both routes.
func TestTheWholeJob(t *testing.T) {
	for _, route := range []plan.Route{plan.Rebase, plan.Merge} {
		tm := newTeam(t)
		tm.diverge()
		gittest.Own(t, "dorvik.check", "test ! -e broken || ! echo ./f:2:1: broken")
		s, ctx := tm.session(), t.Context()
		v, err := s.Survey(ctx, true, nil)
		require.NoError(t, err)
		assert.False(t, v.State.Underway())
		assert.Equal(t, "A push would be rejected.", v.Position.Standing(false).Head)
		assert.Equal(t, v.Plan.Merge, v.Plan.Of(plan.Merge))
		assert.Equal(t, v.Plan.Rebase, v.Plan.Of(plan.Rebase))
		assert.Len(t, s.Planner.Short(v.Position.Yours), 7)
		assert.Empty(t, s.Planner.Short(object.ID{}))
		assert.NotEmpty(t, v.Position.Me)
		require.Len(t, v.Below, 1)
		decide := map[string]bool{}
		for _, o := range v.Overlap {
			decide[o.Path] = o.Decide
		}
		assert.Equal(t, map[string]bool{"f": true, "m": false, "d/h": false}, decide)

		p := v.Position
		j, err := s.SettleBy(ctx, p, route, []settle.Way{settle.Weave})
		require.NoError(t, err)
		assert.Equal(t, 1, j.Open, "no way that was preferred")
		st := s.Ledger.State()
		asked, err := s.Planner.Attribute(ctx, p, j, &st.Decisions)
		require.NoError(t, err)
		require.Len(t, asked, 1)
		assert.Equal(t, "mine", asked[0].Yours.Subject())
		assert.Equal(t, "theirs", asked[0].Theirs.Subject())
		assert.Nil(t, asked[0].Decision)
		_, err = s.Prover.ToCheck(ctx, p, j)
		require.ErrorContains(t, err, "1 conflict is not settled yet")
		j, err = s.SettleBy(ctx, p, "", []settle.Way{settle.Weave, settle.Theirs})
		require.NoError(t, err)
		assert.Equal(t, route, j.Route, "the one that was taken")
		assert.Zero(t, j.Open)
		st = s.Ledger.State()
		asked, err = s.Planner.Attribute(ctx, p, j, &st.Decisions)
		require.NoError(t, err)
		assert.Equal(t, settle.Theirs, asked[0].Decision.Way)

		require.NoError(t, s.Ledger.AddMend(plan.Mend{Path: "broken", Before: "", After: "x"}))
		_, undone, err := s.Ledger.UndoMend()
		require.NoError(t, err)
		assert.True(t, undone)
		u, err := s.Prover.ToCheck(ctx, p, j)
		require.NoError(t, err)
		assert.True(t, u.Terms != nil && u.Agreed)
		assert.Nil(t, u.Passed)
		holder, ok := j.MendHolder()
		assert.True(t, ok)
		assert.Equal(t, map[plan.Route]string{plan.Rebase: "your last commit, “mine”",
			plan.Merge: "the merge commit"}[route], holder)
		var lines []string
		proof, err := s.Prover.Prove(ctx, p, termsOf("echo ./f:2:1: broken; exit 3", j.Tree), u.Built.Tip,
			func(l string) { lines = append(lines, l) }, nil)
		require.NoError(t, err)
		assert.Equal(t, []string{"./f:2:1: broken"}, lines)
		assert.False(t, proof.Result.Passed)
		require.Len(t, proof.Places, 1)
		assert.Equal(t, plan.LineTheirs, proof.Texts["f"][1].Origin)
		proof, err = s.Prover.Prove(ctx, p, u.Terms, u.Built.Tip, func(string) {}, nil)
		require.NoError(t, err)
		assert.True(t, proof.Result.Passed)
		u, err = s.Prover.ToCheck(ctx, p, j)
		require.NoError(t, err)
		assert.NotNil(t, u.Passed, "the same tree is not built twice")

		d, err := s.Push.Departure(ctx, p, j, u.Built.Tip)
		require.NoError(t, err)
		assert.Equal(t, map[plan.Route]int{plan.Rebase: 1, plan.Merge: 2}[route], d.Commits)
		require.Len(t, d.Left, 1)
		assert.Equal(t, "MINE", d.Left[0].Text)
		assert.Zero(t, d.Mended())
		assert.False(t, d.Moved)
		assert.Equal(t, ledger.Push, s.Ledger.State().Stage)
		assert.True(t, v.State.Stage.String() == "Look")
		wp, err := s.Accept(ctx, p, j, u.Built, change.Consent{})
		require.NoError(t, err)
		assert.Empty(t, s.TakeNotice())
		assert.Empty(t, s.Applier.Signatures())
		pushed, err := s.Push.Tip(ctx, p, change.Consent{})
		require.NoError(t, err)
		assert.Equal(t, wp.After, pushed.Holds)
		_, err = s.Applier.GoBack(ctx, "")
		require.ErrorContains(t, err, "This join was pushed, to origin/main.")
		assert.Equal(t, strings.Replace(base, "two", "THEIRS", 1), tm.mine.Read("f"))
	}
}

// TestAGlanceWritesNothing, and says what is kept.
func TestAGlanceWritesNothing(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	tm.diverge()
	w, err := OpenWorkspace(t.Context(), tm.mine.Dir)
	require.NoError(t, err)
	defer w.Close()
	tm.mine.Write("d/h", "edited\n")
	v, err := w.Glance(t.Context(), true, "")
	require.NoError(t, err)
	assert.Nil(t, v.Kept)
	require.NotNil(t, v.InTheWay)
	assert.Equal(t, []string{"d/h"}, v.InTheWay.Paths)
	assert.ErrorContains(t, v.InTheWay, "d/h")
	assert.NoDirExists(t, filepath.Join(w.Repo.Where().Own, "dorvik"))
	s := tm.session()
	require.NoError(t, s.Ledger.TakeRoute(plan.Merge))
	v, err = w.Glance(t.Context(), false, "")
	require.NoError(t, err)
	assert.True(t, v.InUse)
	s.Close()
	v, err = w.Glance(t.Context(), false, "")
	require.NoError(t, err)
	assert.Equal(t, plan.Merge, v.Kept.Route)
}

// TestPickedCommits are surveyed, settled and put on the branch, and are theirs.
func TestPickedCommits(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	tm.mine.Git("checkout", "-q", "-b", "night")
	tm.mine.Commit("one", "f", strings.Replace(base, "two", "NIGHT", 1))
	tm.mine.Commit("two", "g", "night\n")
	tm.mine.Git("checkout", "-q", "main")
	tm.mine.Commit("mine", "f", strings.Replace(base, "two", "MINE", 1))
	s, ctx := tm.session(), t.Context()
	p, j, err := s.Workspace.PlanPick(ctx, "", []string{"main..night"}, 0)
	require.NoError(t, err)
	assert.True(t, p.IsPick())
	assert.Equal(t, "2 commits to pick.", p.Standing(false).Head)
	assert.Equal(t, 1, j.Conflicts())
	assert.ErrorContains(t, s.Pick(ctx, []string{"nowhere"}, 0), "nowhere")
	require.NoError(t, s.Pick(ctx, []string{"night~1", "night"}, 0))
	v, err := s.Survey(ctx, false, nil)
	require.NoError(t, err)
	assert.Equal(t, "2 commits to pick.", v.Position.Standing(false).Head)
	assert.Equal(t, v.Plan.Pick, v.Plan.Asking())
	assert.Equal(t, v.Plan.Pick, v.Plan.Of(plan.Pick))
	assert.Equal(t, v.Position.Kind.(*plan.Picking).Home, v.Position.Upstream())
	require.NotEmpty(t, v.Overlap)
	assert.Equal(t, "f", v.Overlap[0].Path)
	j, err = s.SettleBy(ctx, v.Position, "", []settle.Way{settle.Theirs})
	require.NoError(t, err)
	assert.Equal(t, 2, j.Kept())
	st := s.Ledger.State()
	asked, err := s.Planner.Attribute(ctx, v.Position, j, &st.Decisions)
	require.NoError(t, err)
	assert.Equal(t, []string{"mine", "one"}, []string{asked[0].Yours.Subject(), asked[0].Theirs.Subject()})
	holder, ok := j.MendHolder()
	assert.True(t, ok)
	assert.Equal(t, "the last picked commit, “two”", holder)
	b, err := s.Planner.Build(ctx, v.Position, j)
	require.NoError(t, err)
	d, err := s.Push.Departure(ctx, v.Position, j, b.Tip)
	require.NoError(t, err)
	assert.Equal(t, 3, d.Commits, "yours, and the picked ones")
	_, err = s.Accept(ctx, v.Position, j, b, change.Consent{})
	require.NoError(t, err)
	assert.Equal(t, "two\none\nmine\nstart", tm.mine.Git("log", "--format=%s"))
	require.NoError(t, s.Pick(ctx, []string{"night"}, 0))
	require.NoError(t, s.Ledger.DropPick())
	assert.Empty(t, s.Ledger.State().Picks)
}

// TestStanding says in sentences what is so, whatever is.
func TestStanding(t *testing.T) {
	t.Parallel()
	who := func(names ...string) (out []history.Node) {
		for _, n := range names {
			out = append(out, history.Node{Commit: &object.Commit{AuthorLine: n + " <x@x> 1 +0000"}})
		}
		return out
	}
	at := time.Date(2026, 3, 5, 12, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		yours, theirs int
		authors       []string
		accepted      bool
		silent        error
		known         time.Time
		well          bool
		says          string
	}{
		{0, 0, nil, false, nil, at, true, "Nothing to do. main and origin/main hold the same commits."},
		{1, 0, nil, false, nil, at, true, "Nothing new on origin/main. Your 1 commit can be pushed as it is. | There " +
			"is nothing to join."},
		{2, 0, nil, true, nil, at, true, "Your 2 commits can be pushed as they are. | They are the joined result, " +
			"accepted here"},
		{0, 1, []string{"Ilka Renn"}, false, nil, at, true,
			"Only theirs is new. Ilka Renn pushed 1 commit to origin/main"},
		{1, 2, []string{"Ilka Renn", "Mato Veld"}, false, nil, at, false,
			"Ilka Renn and Mato Veld pushed 2 commits to origin/main, and yours does not build on them."},
		{2, 4, []string{"A", "B", "C", "D"}, false, nil, at, false,
			"A and 3 others pushed 4 commits to origin/main, and yours do not build on them."},
		{0, 0, nil, false, errors.New("gone"), at, false, "origin did not answer. As it was last fetched, on 5 Mar " +
			"2026 at 12:00, origin/main held what you have."},
		{1, 0, nil, false, errors.New("gone"), time.Time{}, false,
			"As it was last fetched, origin/main held nothing that you do not have; 1 commit of yours was not there."},
		{0, 1, []string{"A"}, false, errors.New("gone"), at, false, "A had pushed 1 commit that you do not have."},
		{1, 1, []string{"A"}, false, errors.New("gone"), at, false, "the push waits until the remote can be reached"},
	} {
		p := &plan.Position{Branch: vcs.Branch{Name: "main", Upstream: "origin/main", Remote: "origin"},
			Unanswered: c.silent, Known: c.known, Asked: at,
			Divergence: &history.Divergence{Yours: who(make([]string, c.yours)...), Theirs: who(c.authors...)}}
		require.Len(t, p.Divergence.Theirs, c.theirs)
		st := p.Standing(c.accepted)
		assert.Contains(t, st.String()+" | "+st.Next, c.says)
		assert.Equal(t, c.well, st.Well, c.says)
	}
}

// TestRefused says of every reason what is so, and never of a join that there was none of.
func TestRefused(t *testing.T) {
	t.Parallel()
	heads := map[string]bool{}
	for _, kind := range vcs.RefusalKinds() {
		for _, joined := range []bool{true, false} {
			d := &Pushed{Refusal: &vcs.Refusal{Kind: kind}, Unsure: kind == vcs.Other}
			head, text, next := d.Refused(joined)
			heads[head] = true
			assert.NotEmpty(t, text)
			assert.NotEmpty(t, d.Refusal.Next(), kind)
			assert.Equal(t, joined, strings.Contains(next, "joined branch"), next)
			assert.False(t, !joined && strings.Contains(next, "undo"), next)
			assert.Equal(t, d.Unsure, strings.Contains(next, "not known whether the push arrived"))
		}
	}
	assert.Len(t, heads, 4, "what was stopped here, or did not get through, was not refused")
}

// TestOverlapsSayWhatMet: an edit and a rename of one file overlap, and so do a deletion and an edit.
func TestOverlapsSayWhatMet(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	long := strings.Repeat("a line\n", 20)
	tm.mine.Commit("long", "long", long, "gone", long+"gone\n")
	tm.mine.Git("push", "-q")
	tm.other.Git("pull", "-q")
	tm.mine.Git("mv", "long", "moved")
	tm.mine.Git("rm", "-q", "gone")
	tm.mine.Commit("mine", "bin", "\x00mine")
	tm.other.Commit("theirs", "long", long+"more\n", "gone", long+"kept\n", "bin", "\x00theirs")
	tm.other.Git("push", "-q")
	v, err := tm.session().Survey(t.Context(), true, nil)
	require.NoError(t, err)
	got := map[string]plan.Overlap{}
	for _, o := range v.Overlap {
		got[o.Path] = o
	}
	assert.Equal(t, "long", got["moved"].From)
	assert.Equal(t, plan.SameFile, got["moved"].Kind, "the one renamed what the other edited")
	assert.Equal(t, merge.ModifyDelete, got["gone"].Conflict)
	assert.Equal(t, merge.AddAdd, got["bin"].Conflict)
}

// termsOf are those of a command on a tree.
func termsOf(line string, tree object.ID) *prove.Terms {
	return &prove.Terms{Command: check.Command{Steps: []string{line}}, Tree: tree}
}
