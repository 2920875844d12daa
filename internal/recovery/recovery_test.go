package recovery

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
)

// team is a remote, your clone and a teammate's, which pushed first.
type team struct {
	t                   *testing.T
	remote, mine, other *gittest.Repo
}

const base = "one\ntwo\nthree\nfour\nfive\n"

func newTeam(t *testing.T) *team {
	gittest.Isolate(t)
	remote, mine, other := gittest.Team(t, "f", base, "g", "g\n", "d/h", "h\n")
	return &team{t, remote, mine, other}
}

func (tm *team) session() *Session {
	s, err := OpenSession(tm.t.Context(), tm.mine.Dir)
	require.NoError(tm.t, err)
	tm.t.Cleanup(s.Close)
	return s
}

// joined joins two branches of a repository by a route, nothing being decided.
func joined(t *testing.T, repo *gittest.Repo, yours, theirs string, route plan.Route) (*Workspace, *plan.Position,
	*plan.Join, error) {
	w, err := OpenWorkspace(t.Context(), repo.Dir)
	require.NoError(t, err)
	t.Cleanup(w.Close)
	p, err := w.Compare(t.Context(), yours, theirs, false)
	require.NoError(t, err)
	j, err := w.Planner.Join(t.Context(), p, route, &settle.Decisions{}, plan.Amends{}, nil)
	return w, p, j, err
}

// decisions are those of a session.
func decisions(s *Session) *settle.Decisions {
	st := s.Ledger.State()
	return &st.Decisions
}

// amends is what is changed in a session's joined tree beyond the decisions.
func amends(s *Session) plan.Amends {
	st := s.Ledger.State()
	return st.Amends()
}

// ready joins by a route with the given way everywhere, without accepting.
func ready(t *testing.T, s *Session, route plan.Route, way settle.Way) (*plan.Position, *plan.Join, plan.Built) {
	p, err := s.Locate(t.Context(), true)
	require.NoError(t, err)
	require.NoError(t, p.Unanswered)
	require.NoError(t, s.Ledger.Sync(p))
	require.NoError(t, s.Ledger.TakeRoute(route))
	for {
		j, err := s.Planner.Join(t.Context(), p, route, decisions(s), amends(s), nil)
		require.NoError(t, err)
		require.NoError(t, j.Refused)
		done := true
		for _, stop := range j.Stops {
			for _, f := range stop.Files {
				for _, c := range f.Questions {
					if _, _, ok := decisions(s).For(c); !ok && done {
						require.NoError(t, s.Decide(settle.Decision{Key: c.Key, Way: way}))
						done = false
					}
				}
			}
		}
		if done {
			b, err := s.Planner.Build(t.Context(), p, j)
			require.NoError(t, err)
			return p, j, b
		}
	}
}

func (tm *team) diverge() {
	tm.mine.Commit("mine", "f", strings.Replace(base, "two", "MINE", 1), "m", "m\n")
	tm.other.Commit("theirs", "f", strings.Replace(base, "two", "THEIRS", 1), "d/h", "H\n")
	tm.other.Git("push", "-q")
}

func TestAcceptPushUndo(t *testing.T) {
	t.Parallel()
	for _, route := range []plan.Route{plan.Rebase, plan.Merge} {
		t.Run(string(route), func(t *testing.T) {
			tm := newTeam(t)
			tm.diverge()
			// Staged, unstaged and untracked work on other paths stays as it is.
			tm.mine.Write("g", "staged\n")
			tm.mine.Git("add", "g")
			tm.mine.Write("g", "and more\n")
			tm.mine.Write("new/x", "untracked\n")
			status, before := tm.mine.Git("status", "--porcelain"), tm.mine.Git("rev-parse", "main")

			s := tm.session()
			p, j, b := ready(t, s, route, settle.TheirsYours)
			wp, err := s.Accept(t.Context(), p, j, b, change.Consent{})
			require.NoError(t, err)
			assert.Equal(t, b.Tip.String(), tm.mine.Git("rev-parse", "main"))
			assert.Equal(t, strings.Replace(base, "two", "THEIRS\nMINE", 1), tm.mine.Read("f"))
			assert.Equal(t, "H\n", tm.mine.Read("d/h"))
			assert.Equal(t, status, tm.mine.Git("status", "--porcelain"))
			assert.Equal(t, before, tm.mine.Git("rev-parse", wp.Ref()))
			tm.mine.Git("fsck", "--strict")

			_, err = s.Applier.GoBack(t.Context(), "")
			require.NoError(t, err)
			assert.Equal(t, before, tm.mine.Git("rev-parse", "main"))
			assert.Equal(t, status, tm.mine.Git("status", "--porcelain"))
			assert.Equal(t, strings.Replace(base, "two", "MINE", 1), tm.mine.Read("f"))
			_, err = s.Applier.GoBack(t.Context(), "")
			var blocked *plan.Blocked
			assert.ErrorAs(t, err, &blocked, "undone once is undone")

			p, j, b = ready(t, s, route, settle.Base) // the decision made before stands
			_, err = s.Accept(t.Context(), p, j, b, change.Consent{})
			require.NoError(t, err)
			assert.Equal(t, strings.Replace(base, "two", "THEIRS\nMINE", 1), tm.mine.Read("f"))
			done, err := s.Push.Tip(t.Context(), p, change.Consent{})
			require.NoError(t, err)
			require.Nil(t, done.Refusal)
			assert.Equal(t, b.Tip, done.Holds)
			assert.Equal(t, b.Tip.String(), tm.remote.Git("rev-parse", "main"))
			_, err = s.Applier.GoBack(t.Context(), "")
			assert.ErrorAs(t, err, &blocked, "what was pushed is not undone")
		})
	}
}

func TestAcceptRefuses(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name  string
		touch func(tm *team)
		want  any
	}{
		{"an edited file in the way", func(tm *team) { tm.mine.Write("d/h", "edited\n") }, &change.OverwriteError{}},
		{"a staged file in the way", func(tm *team) { tm.mine.Write("d/h", "edited\n"); tm.mine.Git("add", "-A") },
			&change.OverwriteError{}},
		{"an untracked file in the way", func(tm *team) { tm.mine.Write("theirs-new", "x\n") },
			&change.OverwriteError{}},
		{"an ignored file in the way", func(tm *team) {
			tm.mine.Write(".git/info/exclude", "theirs-new\n")
			tm.mine.Write("theirs-new", "x\n")
		}, &change.OverwriteError{}},
		{"a new commit", func(tm *team) { tm.mine.Commit("meanwhile", "z", "z\n") }, &change.MovedError{}},
		{"another branch", func(tm *team) { tm.mine.Git("switch", "-q", "-c", "elsewhere") }, &change.MovedError{}},
		{"a merge begun by hand", func(tm *team) {
			tm.mine.Write(".git/MERGE_HEAD", tm.mine.Git("rev-parse",
				"main")+"\n")
		}, &change.MovedError{}},
	} {
		t.Run(c.name, func(t *testing.T) {
			tm := newTeam(t)
			tm.other.Write("theirs-new", "n\n")
			tm.diverge()
			s := tm.session()
			p, j, b := ready(t, s, plan.Rebase, settle.Yours)
			c.touch(tm)
			tip, status := tm.mine.Git("rev-parse", "main"), tm.mine.Git("status", "--porcelain")
			_, err := s.Accept(t.Context(), p, j, b, change.Consent{})
			switch c.want.(type) {
			case *change.OverwriteError:
				var o *change.OverwriteError
				require.ErrorAs(t, err, &o)
				assert.Len(t, o.Paths, 1)
			case *change.MovedError:
				var m *change.MovedError
				require.ErrorAs(t, err, &m)
			}
			assert.Equal(t, tip, tm.mine.Git("rev-parse", "main"))
			assert.Equal(t, status, tm.mine.Git("status", "--porcelain"))
			assert.Empty(t, tm.mine.Git("for-each-ref", "refs/dorvik/waypoint"))
		})
	}
}

func TestARefusedPushGoesBackAndKeepsDecisionsAndMends(t *testing.T) {
	t.Parallel()
	for _, route := range []plan.Route{plan.Rebase, plan.Merge} {
		t.Run(string(route), func(t *testing.T) {
			tm := newTeam(t)
			tm.diverge()
			before := tm.mine.Git("rev-parse", "main")
			s := tm.session()
			ready(t, s, route, settle.YoursTheirs)
			require.NoError(t, s.Ledger.AddMend(plan.Mend{Path: "m", Before: "m\n", After: "mended\n"}))
			p, j, b := ready(t, s, route, settle.YoursTheirs)
			assert.Len(t, j.Mended, 1)
			_, err := s.Accept(t.Context(), p, j, b, change.Consent{})
			require.NoError(t, err)
			tm.other.Commit("meanwhile", "d/h", "HH\n")
			tm.other.Git("push", "-q")

			done, err := s.Push.Tip(t.Context(), p, change.Consent{})
			require.NoError(t, err)
			require.NotNil(t, done.Refusal)
			assert.Equal(t, vcs.Behind, done.Refusal.Kind)
			assert.True(t, done.WentBack)
			assert.Equal(t, before, tm.mine.Git("rev-parse", "main"))
			assert.Equal(t, ledger.Look, s.Ledger.State().Stage)

			s.Close() // the next run goes on with what was decided
			s = tm.session()
			p, j, b = ready(t, s, route, settle.Base)
			assert.Equal(t, 1, j.Settled)
			_, err = s.Accept(t.Context(), p, j, b, change.Consent{})
			require.NoError(t, err)
			done, err = s.Push.Tip(t.Context(), p, change.Consent{})
			require.NoError(t, err)
			require.Nil(t, done.Refusal)
			assert.Equal(t, strings.Replace(base, "two", "MINE\nTHEIRS", 1), tm.mine.Read("f"))
			assert.Equal(t, "mended\n", tm.mine.Read("m"))
			assert.Equal(t, "HH\n", tm.mine.Read("d/h"))
			assert.Equal(t, map[plan.Route]string{plan.Rebase: "3", plan.Merge: "4"}[route],
				tm.remote.Git("rev-list", "--count",
					p.Base().String()+"..main"), "one joint, not two")
		})
	}
}

func TestMendsOfAChangedResult(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	tm.diverge()
	s := tm.session()
	_, j, _ := ready(t, s, plan.Merge, settle.Yours)
	text, ok, err := s.Planner.TextAt(t.Context(), j.Tree, "d/h")
	require.NoError(t, err)
	require.True(t, ok)
	require.NoError(t, s.Ledger.AddMend(plan.Mend{Path: "f", Before: base,
		After: strings.Replace(base, "five", "5", 1)}))
	require.NoError(t, s.Ledger.AddMend(plan.Mend{Path: "d/h", Before: "other\n", After: "mended\n"}))
	require.NoError(t, s.Ledger.AddMend(plan.Mend{Path: "gone", Before: "x", After: "y"}))
	_, j, b := ready(t, s, plan.Merge, settle.Yours)
	assert.Len(t, j.Mended, 1, "merged into the text that is there now")
	assert.Len(t, j.Lost, 2, "these fit no longer, and it is said")
	got, _, err := s.Planner.TextAt(t.Context(), j.Tree, "f")
	require.NoError(t, err)
	assert.Equal(t, "one\nMINE\nthree\nfour\n5\n", got)
	same, _, err := s.Planner.TextAt(t.Context(), j.Tree, "d/h")
	require.NoError(t, err)
	assert.Equal(t, text, same)
	tree, err := s.Planner.Tree(t.Context(), b.Tip)
	require.NoError(t, err)
	assert.Equal(t, j.Tree, tree, "the merge commit holds the mend")
	m, ok, err := s.Ledger.UndoMend()
	require.NoError(t, err)
	assert.True(t, ok)
	assert.Equal(t, "gone", m.Path)
}

func TestBlocked(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name string
		make func(tm *team)
		says string
	}{
		{"detached", func(tm *team) { tm.mine.Git("checkout", "-q", "--detach") }, "no branch"},
		{"unborn", func(tm *team) {
			tm.mine.Git("checkout", "-q", "--orphan", "fresh")
			tm.mine.Git("rm", "-q", "-rf", ".")
		}, "no commit"},
		{"no upstream", func(tm *team) { tm.mine.Git("branch", "--unset-upstream") }, "--set-upstream-to"},
		{"upstream never fetched", func(tm *team) { tm.mine.Git("update-ref", "-d", "refs/remotes/origin/main") },
			"git fetch origin"},
		{"no common ancestor", func(tm *team) {
			tm.mine.Git("checkout", "-q", "--orphan", "fresh")
			tm.mine.Commit("unrelated")
			tm.mine.Git("branch", "-q", "--set-upstream-to=origin/main")
		}, "no common ancestor"},
	} {
		t.Run(c.name, func(t *testing.T) {
			tm := newTeam(t)
			c.make(tm)
			w, err := OpenWorkspace(t.Context(), tm.mine.Dir)
			require.NoError(t, err)
			defer w.Close()
			_, err = w.Locate(t.Context(), false)
			var b *plan.Blocked
			require.ErrorAs(t, err, &b)
			assert.Contains(t, b.Error(), c.says)
		})
	}
}

func TestShallowClone(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	tm.diverge()
	shallow := gittest.At(t, filepath.Join(t.TempDir(), "shallow"))
	require.NoError(t, os.MkdirAll(shallow.Dir, 0o755))
	gittest.At(t, t.TempDir()).Git("clone", "-q", "--depth=1", "file://"+tm.remote.Dir, shallow.Dir)
	stand := func() (*plan.Position, error) {
		w, err := OpenWorkspace(t.Context(), shallow.Dir)
		require.NoError(t, err)
		defer w.Close()
		return w.Locate(t.Context(), true)
	}
	p, err := stand()
	require.NoError(t, err)
	assert.True(t, p.NothingToDo())

	shallow.Commit("mine", "s", "s\n")
	tm.other.Commit("more", "f", "x\n")
	tm.other.Git("push", "-q")
	p, err = stand()
	require.NoError(t, err, "the point where they part is in the clone")
	assert.Len(t, p.Divergence.Yours, 1)
	assert.Len(t, p.Divergence.Theirs, 1)
}

func TestTrivial(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	s := tm.session()
	stand := func() *plan.Position {
		p, err := s.Locate(t.Context(), true)
		require.NoError(t, err)
		require.NoError(t, s.Ledger.Sync(p))
		return p
	}
	assert.True(t, stand().NothingToDo())

	theirs := tm.other.Commit("theirs", "f", "x\n")
	tm.other.Git("push", "-q")
	tm.mine.Write("g", "kept\n")
	p := stand()
	require.Equal(t, plan.FastForward, p.Trivial())
	j, err := s.Planner.Join(t.Context(), p, plan.Merge, &settle.Decisions{}, plan.Amends{}, nil)
	require.NoError(t, err)
	b, err := s.Planner.Build(t.Context(), p, j)
	require.NoError(t, err)
	_, err = s.Accept(t.Context(), p, j, b, change.Consent{})
	require.NoError(t, err)
	assert.Equal(t, theirs, tm.mine.Git("rev-parse", "main"))
	assert.Equal(t, "kept\n", tm.mine.Read("g"))
	assert.True(t, stand().NothingToDo())

	tm.mine.Commit("mine", "m", "m\n")
	p = stand()
	require.Equal(t, plan.UpToDate, p.Trivial())
	done, err := s.Push.Tip(t.Context(), p, change.Consent{})
	require.NoError(t, err)
	assert.Nil(t, done.Refusal)
	assert.Equal(t, p.Yours, done.Holds)
}

func TestSuggestion(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	tm.diverge()
	s := tm.session()
	planned := func() *plan.Plan {
		p, err := s.Locate(t.Context(), true)
		require.NoError(t, err)
		pl, err := s.Planner.Plan(t.Context(), p, &settle.Decisions{}, nil)
		require.NoError(t, err)
		return pl
	}
	assert.Equal(t, plan.Rebase, planned().Suggested)
	for _, set := range [][3]string{{"pull.rebase", "false", "merge"}, {"branch.main.rebase", "merges", "rebase"},
		{"dorvik.route", "merge", "merge"}, {"dorvik.route", "auto", "rebase"}} {
		tm.mine.Git("config", set[0], set[1])
		pl := planned()
		assert.Equal(t, plan.Route(set[2]), pl.Suggested, set)
		assert.Regexp(t, `^(dorvik.route|branch.main.rebase|pull.rebase) is `, pl.Why)
	}
	tm.mine.Git("config", "pull.ff", "only")
	assert.Contains(t, planned().Why, "git pull itself would refuse here")
	tm.mine.Git("tag", "v1")
	assert.Equal(t, plan.Merge, planned().Suggested, "a tag may be anywhere")
	assert.Contains(t, planned().Why, "branch.main.rebase is merges, and yet: ")
	assert.Equal(t, "tag v1", planned().Published[0].On)
	tm.mine.Git("tag", "-d", "v1")
	tm.mine.Git("push", "-q", "origin", "HEAD:refs/heads/side")
	pl := planned()
	assert.Equal(t, plan.Merge, pl.Suggested, "commits that are on a remote are not rewritten")
	assert.True(t, pl.Pushed())
	tm.other.Git("fetch", "-q")
	tm.other.Git("checkout", "-q", "side")
	tm.other.Git("-c", "user.name=Ilka Renn", "-c", "user.email=ilka@skerry.example", "commit", "-q", "--allow-empty",
		"-m", "more", "--author=Ilka Renn <ilka@skerry.example>")
	tm.other.Git("push", "-q", "origin", "side")
	assert.Equal(t, []string{"Ilka Renn"}, planned().Published[0].Who)

	tm.mine.Git("checkout", "-q", "-b", "topic", "HEAD~1")
	tm.mine.Commit("topic", "t", "t\n")
	tm.mine.Git("checkout", "-q", "main")
	tm.mine.Git("merge", "-q", "--no-edit", "topic")
	pl = planned()
	assert.True(t, pl.Pushed(), "the lowest commit that would be replayed is still on a remote")
	assert.NoError(t, pl.Rebase.Refused)

	tm.mine.Git("branch", "-f", "more", "HEAD~1")
	tm.mine.Git("merge", "-q", "--no-edit", tm.mine.Git("commit-tree", "-p", "more", "-m", "one", "more^{tree}"),
		tm.mine.Git("commit-tree", "-p", "more", "-m", "two", "more^{tree}"))
	pl = planned()
	assert.Equal(t, plan.Merge, pl.Suggested)
	assert.ErrorContains(t, pl.Rebase.Refused, "joins 3 lines at once")
}

// TestReplayingMergesAgreesWithGit rebases a line with a merged side line, as
// git does when told to keep merges.
func TestReplayingMergesAgreesWithGit(t *testing.T) {
	t.Parallel()
	repo := gittest.New(t)
	repo.Commit("before", "f", base, "old", "1\n")
	repo.Git("branch", "side")
	repo.Commit("base", "b", "1\n")
	repo.Git("branch", "theirs")
	repo.Commit("mine", "f", strings.Replace(base, "one", "mine", 1))
	repo.Git("checkout", "-q", "-b", "fork")
	repo.Commit("fork", "k", "1\n")
	repo.Git("checkout", "-q", "main")
	repo.Commit("second", "s", "1\n")
	repo.Git("merge", "-q", "--no-ff", "-m", "join the fork", "fork")
	repo.Git("checkout", "-q", "side")
	repo.Commit("aside", "a", "1\n")
	repo.Git("checkout", "-q", "main")
	repo.Git("merge", "-q", "-m", "join the side line", "side")
	repo.Commit("last", "f", strings.Replace(repo.Read("f"), "five", "last", 1))
	repo.Git("checkout", "-q", "theirs")
	repo.Commit("theirs", "t", "1\n", "old", "2\n")

	w, p, j, err := joined(t, repo, "main", "theirs", plan.Rebase)
	require.NoError(t, err)
	require.True(t, j.Clean())
	built, err := w.Planner.Build(t.Context(), p, j)
	require.NoError(t, err)
	require.NoError(t, w.Repo.Keep(t.Context(), w.Planner.Store, built.Tip))
	repo.Git("fsck", "--strict")
	repo.Git("rebase", "-q", "--rebase-merges", "theirs", "main")
	shape := func(rev string) string { return repo.Git("log", "--graph", "--format=%s %T", rev) }
	assert.Equal(t, shape("main"), shape(built.Tip.String()))
}

func TestLeftOutAndOverlap(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	tm.mine.Commit("mine", "f", strings.Replace(base, "two", "MINE", 1), "m", "m\n", "g", "same\n", "d/h", "h\nmine\n")
	tm.other.Commit("theirs", "f", strings.Replace(base, "two", "THEIRS words", 1), "t", "t\n", "g", "same\n", "d/h",
		"h\ntheirs\n")
	tm.other.Git("push", "-q")
	s := tm.session()
	p, j, b := ready(t, s, plan.Merge, settle.Yours)
	left, err := s.Planner.Accounts.LeftOut(t.Context(), p, j, decisions(s))
	require.NoError(t, err)
	var told []string
	for _, l := range left {
		told = append(told, fmt.Sprint(l.Side, " ", l.Author, " ", l.Path, ":", l.Line, " ", l.What, " ", l.Text))
	}
	assert.Equal(t, []string{"theirs Ada Sund d/h:2 line theirs", "theirs Ada Sund f:2 line THEIRS words"}, told)
	ground, err := s.Planner.Overlaps(t.Context(), p, j)
	require.NoError(t, err)
	var got []string
	for _, g := range ground {
		got = append(got, g.Path+" "+string(g.Kind))
	}
	assert.Equal(t, []string{"f same lines", "d/h same place", "g same change", "m only yours", "t only theirs"}, got)
	lines, ok, err := s.Planner.Lines(t.Context(), p, j.Tree, "f")
	require.NoError(t, err)
	require.True(t, ok)
	assert.Equal(t, plan.Line{Origin: plan.LineYours, Text: "MINE"}, lines[1])
	assert.Equal(t, plan.Line{Origin: plan.LineBase, Text: "three"}, lines[2])
	marked, read, err := s.Planner.ConflictMarkers(t.Context(), p.Theirs, b.Tip)
	require.NoError(t, err)
	assert.Equal(t, 5, read, "four that the commit brings, and of the joint what came")
	assert.Empty(t, marked)
}

func TestOnlyOneAtATime(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	tm.session()
	_, err := OpenSession(t.Context(), tm.mine.Dir)
	assert.ErrorIs(t, err, ledger.ErrInUse)
}

func TestCheckRunsOnTheJoinedTree(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	tm.diverge()
	s := tm.session()
	_, j, b := ready(t, s, plan.Rebase, settle.Yours)
	_, ok, err := s.Prover.CheckCommand(t.Context(), j.Tree)
	require.NoError(t, err)
	assert.False(t, ok, "nothing tells how this is checked")
	tm.mine.Git("config", "dorvik.check", "cat f d/h; git status --porcelain; echo 'f:2:1: bad'; exit 3")
	c, ok, err := s.Prover.CheckCommand(t.Context(), j.Tree)
	require.NoError(t, err)
	assert.True(t, ok && c.Configured)
	var out []string
	r, at, err := s.Prover.RunCheck(t.Context(), nil, c, b.Tip, func(l string) { out = append(out, l) }, nil)
	require.NoError(t, err)
	assert.Equal(t, 3, r.Exit)
	assert.Equal(t, []string{"one", "MINE", "three", "four", "five", "H", "f:2:1: bad"}, out)
	places, err := s.Planner.Diagnose(t.Context(), j.Tree, out, at.In.Dir)
	require.NoError(t, err)
	require.Len(t, places, 1)
	assert.Equal(t, "f", places[0].Path)
	assert.False(t, s.Ledger.CheckOf(j.Tree).Passed)
	assert.Nil(t, s.Ledger.CheckOf(object.ID{}))
	assert.Empty(t, tm.mine.Git("status", "--porcelain"))
}

func TestErrorsTellTheNextStep(t *testing.T) {
	tm := newTeam(t)
	tm.diverge()
	s := tm.session()
	p, j, _ := ready(t, s, plan.Rebase, settle.Yours)
	for _, name := range []string{"GIT_COMMITTER_NAME", "GIT_COMMITTER_EMAIL"} {
		t.Setenv(name, "") // restored after the test
		os.Unsetenv(name)
	}
	t.Setenv("EMAIL", "")
	tm.mine.Git("config", "user.useConfigOnly", "true")
	_, err := s.Planner.Build(t.Context(), p, j)
	assert.ErrorContains(t, err, "user.name")
	j.Open = 1
	_, err = s.Planner.Build(t.Context(), p, j)
	assert.ErrorContains(t, err, "1 conflict is not settled yet")
	assert.False(t, errors.Is(err, ledger.ErrInUse))
}

// TestSubmodulesMoveForward holds that two moves of a submodule join where git
// joins them: the submodule is present, and one commit holds the other.
func TestSubmodulesMoveForward(t *testing.T) {
	t.Parallel()
	repo := gittest.New(t)
	sub := gittest.At(t, filepath.Join(repo.Dir, "sub"))
	require.NoError(t, os.Mkdir(sub.Dir, 0o755))
	sub.Git("init", "-q", "-b", "main")
	var ids []string
	for _, n := range []string{"1", "2", "3"} {
		sub.Write("f", n)
		sub.Git("add", "-A")
		sub.Git("commit", "-qm", n)
		ids = append(ids, sub.Git("rev-parse", "HEAD"))
	}
	commit := func(branch, at string) {
		repo.Git("checkout", "-q", "-B", branch, "main")
		repo.Git("update-index", "--add", "--cacheinfo", "160000,"+at+",sub")
		repo.Git("commit", "-qm", branch)
	}
	repo.Write("a", "a")
	repo.Git("add", "a")
	repo.Git("update-index", "--add", "--cacheinfo", "160000,"+ids[0]+",sub")
	repo.Git("commit", "-qm", "base")
	commit("yours", ids[2])
	commit("theirs", ids[1])
	for _, back := range []bool{false, true} {
		if back {
			commit("yours", strings.Repeat("1", 40)) // a commit that is not there
		}
		_, _, j, err := joined(t, repo, "yours", "theirs", plan.Merge)
		require.NoError(t, err)
		out, gerr := repo.Try("merge-tree", "--write-tree", "yours", "theirs")
		assert.Equal(t, gerr == nil, j.Clean())
		if !back {
			require.NoError(t, gerr)
			assert.Equal(t, out, j.Tree.String())
			assert.Len(t, j.Remarks(), 1)
		}
	}
}

// TestTheRemoteBranchWasRewritten holds that only what is yours is replayed.
func TestTheRemoteBranchWasRewritten(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	tm.other.Commit("theirs, with a mistake", "w", "wrong\n")
	tm.other.Git("push", "-q")
	tm.mine.Git("pull", "-q", "--ff-only")
	tm.mine.Commit("mine", "m", "m\n")
	stand := func() *plan.Position {
		s := tm.session()
		defer s.Close()
		p, err := s.Locate(t.Context(), true)
		require.NoError(t, err)
		return p
	}
	assert.Empty(t, stand().TakenOut)

	tm.other.Git("reset", "-q", "--hard", "HEAD~1")
	tm.other.Git("push", "-qf")
	p := stand()
	assert.Len(t, p.TakenOut, 1)
	assert.Contains(t, p.Rewritten(), "was set back: 1 commit that it held before")
	assert.Equal(t, plan.UpToDate, p.Trivial())
	assert.Len(t, p.Divergence.Yours, 2, "a push brings both")

	tm.other.Commit("theirs, mended", "w", "right\n")
	tm.other.Git("push", "-q")
	s := tm.session()
	p, err := s.Locate(t.Context(), true)
	require.NoError(t, err)
	assert.Equal(t, "theirs, with a mistake", p.TakenOut[0].Subject())
	pl, err := s.Planner.Plan(t.Context(), p, &settle.Decisions{}, nil)
	require.NoError(t, err)
	assert.Equal(t, plan.Rebase, pl.Suggested)
	require.True(t, pl.Rebase.Clean(), "the mistake is not replayed")
	want := tm.mine.Git("merge-base", "--fork-point", "origin/main")
	assert.Equal(t, want, p.TakenOut[0].ID.String())
	tm.mine.Git("rebase", "-q", "--fork-point", "origin/main")
	assert.Equal(t, tm.mine.Git("rev-parse", "HEAD^{tree}"), pl.Rebase.Tree.String())

	// What was pushed from here is yours, even if it was taken out again.
	tm.mine.Git("push", "-q")
	tm.mine.Commit("mine, pushed", "m2", "m\n")
	tm.mine.Git("push", "-q")
	tm.other.Commit("theirs again", "t2", "t\n")
	tm.other.Git("push", "-qf")
	s.Close()
	assert.Empty(t, stand().TakenOut)
}

// TestCommitsAreSigned has a stand-in for gpg sign every new commit.
func TestCommitsAreSigned(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	tm.mine.Commit("mine", "m", "m\n")
	tm.mine.Commit("mine too\n\nwith a body", "m2", "m\n")
	tm.other.Commit("theirs", "t", "t\n")
	tm.other.Git("push", "-q")
	signer := filepath.Join(t.TempDir(), "signer")
	script := "#!/bin/sh\necho '\n[GNUPG:] SIG_CREATED x' >&2\nprintf -- '-----BEGIN PGP " +
		"SIGNATURE-----\\n%s\\n-----END PGP SIGNATURE-----\\n' $(sha256sum | cut -c1-40)\n"
	gittest.Program(t, signer, script)
	for key, value := range map[string]string{"commit.gpgSign": "true", "gpg.program": signer,
		"user.signingKey": "ada"} {
		tm.mine.Git("config", key, value)
	}
	s := tm.session()
	p, j, b := ready(t, s, plan.Rebase, settle.Yours)
	tm.mine.Git("config", "gpg.program", "false")
	_, err := s.Accept(t.Context(), p, j, b, change.Consent{})
	require.ErrorContains(t, err, "signing “mine”")
	assert.Equal(t, p.Yours.String(), tm.mine.Git("rev-parse", "HEAD"), "nothing was changed")

	tm.mine.Git("config", "gpg.program", signer)
	wp, err := s.Accept(t.Context(), p, j, b, change.Consent{})
	require.NoError(t, err)
	assert.Equal(t, wp.After.String(), tm.mine.Git("rev-parse", "HEAD"))
	assert.Equal(t, wp.After, s.Applier.Signatures()[b.Tip])
	assert.NotEqual(t, wp.After, b.Tip)
	assert.Equal(t, tm.mine.Git("log", "--format=%an %ae %ad %B%T", "-2", b.Tip.String()), tm.mine.Git("log",
		"--format=%an %ae %ad %B%T", "-2"), "nothing else differs")
	for _, c := range []string{"HEAD", "HEAD~1"} {
		assert.Contains(t, tm.mine.Git("cat-file", "commit", c), "gpgsig -----BEGIN PGP SIGNATURE-----")
	}
	assert.NotContains(t, tm.mine.Git("cat-file", "commit", "HEAD~2"), "gpgsig")
}

// TestSeveralCommitsOfOneEdit: the newest is named, and how many more there are.
func TestSeveralCommitsOfOneEdit(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	tm.other.Commit("first", "f", strings.Replace(base, "two", "TWO", 1))
	tm.other.Commit("beside it", "g", "other\n")
	tm.other.Commit("second", "f", strings.NewReplacer("two", "TWO", "three", "THREE").Replace(base))
	tm.other.Git("push", "-q")
	tm.mine.Commit("mine", "f", strings.NewReplacer("two", "2", "three", "3").Replace(base))
	s := tm.session()
	p, err := s.Locate(t.Context(), true)
	require.NoError(t, err)
	j, err := s.Planner.Join(t.Context(), p, plan.Merge, &settle.Decisions{}, plan.Amends{}, nil)
	require.NoError(t, err)
	all, err := s.Planner.Attribute(t.Context(), p, j, &settle.Decisions{})
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.Equal(t, "second", all[0].Theirs.Subject())
	assert.Len(t, all[0].Wrote[0].Commits, 1)
	require.Len(t, all[0].Wrote[1].Commits, 2)
	i, ok := all[0].Wrote[1].Of(" 	TWO\n")
	assert.Equal(t, "first", all[0].Wrote[1].Commits[i].Subject())
	assert.True(t, ok)
	_, ok = all[0].Wrote[1].Of("nobody's")
	assert.False(t, ok)
}
