package recovery

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
)

// onBranch has mine on a pushed branch feature with a commit of its own, and a new commit of a colleague on main.
func onBranch(t *testing.T) *team {
	tm := newTeam(t)
	tm.mine.Git("switch", "-q", "-c", "feature")
	tm.mine.Commit("own", "own", "own\n")
	tm.mine.Git("push", "-q", "-u", "origin", "feature")
	tm.other.Commit("theirs", "new", "new\n")
	tm.other.Git("push", "-q", "origin", "main")
	return tm
}

// take selects the line that a text names.
func (tm *team) take(s *Session, said string) vcs.Line {
	line, err := s.Lines.Find(tm.t.Context(), said)
	require.NoError(tm.t, err)
	require.NoError(tm.t, s.Lines.Take(tm.t.Context(), &line))
	return line
}

// joinNow joins by a route and accepts the result.
func (tm *team) joinNow(s *Session, route plan.Route) *plan.Position {
	ctx := tm.t.Context()
	p, err := s.Locate(ctx, true)
	require.NoError(tm.t, err)
	require.NoError(tm.t, s.Ledger.Sync(p))
	j, err := s.SettleBy(ctx, p, route, nil)
	require.NoError(tm.t, err)
	b, err := s.Planner.Build(ctx, p, j)
	require.NoError(tm.t, err)
	_, err = s.Accept(ctx, p, j, b, change.Consent{RewritePublished: true})
	require.NoError(tm.t, err)
	return p
}

func TestALineIsNamedAsPeopleNameIt(t *testing.T) {
	tm := onBranch(t)
	tm.mine.Git("tag", "v1")
	tm.mine.Git("branch", "side")
	away := gittest.New(t)
	away.Commit("far", "far", "far\n")
	away.Git("branch", "-M", "trunk")
	tm.mine.Git("remote", "add", "far", away.Dir)
	s := tm.session()
	for said, want := range map[string]vcs.Line{
		"side": {Name: "side", Tracking: "refs/heads/side"},
		"origin/main": {Name: "origin/main", Tracking: "refs/remotes/origin/main", Remote: "origin",
			Ref: "refs/heads/main"},
		"refs/heads/side": {Name: "side", Tracking: "refs/heads/side"},
		"v1":              {Name: "v1", Tracking: "refs/tags/v1"},
		"far": {Name: "far/trunk", Tracking: "refs/remotes/far/trunk", Remote: "far",
			Ref: "refs/heads/trunk"},
		"far/other": {Name: "far/other", Tracking: "refs/remotes/far/other", Remote: "far",
			Ref: "refs/heads/other"},
		tm.remote.Dir: {Name: tm.remote.Dir + " main", Remote: vcs.Remote(tm.remote.Dir),
			Ref: "refs/heads/main"},
		tm.remote.Dir + " side": {Name: tm.remote.Dir + " side", Remote: vcs.Remote(tm.remote.Dir),
			Ref: "refs/heads/side"},
	} {
		line, err := s.Lines.Find(t.Context(), said)
		require.NoError(t, err, said)
		if want.Tracking == "" {
			assert.True(t, strings.HasPrefix(line.Tracking, "refs/dorvik/line/"), line.Tracking)
			want.Tracking = line.Tracking
		}
		assert.Equal(t, want, line, said)
	}
	_, err := s.Lines.Find(t.Context(), "nothing")
	assert.ErrorContains(t, err, "no branch, tag or remote")
	_, err = s.Lines.Find(t.Context(), "/there/is/no such")
	assert.NoError(t, err, "whether an address answers shows when it is asked")
	_, err = s.Lines.Find(t.Context(), "/there/is/none")
	assert.ErrorContains(t, err, "no repository at the remote's address")
}

// Another line than the upstream is the other side of the whole recovery, and the push still goes to the upstream.
func TestAnotherLineIsJoined(t *testing.T) {
	for _, said := range []string{"origin/main", "address", "local"} {
		for _, route := range []plan.Route{plan.Merge, plan.Rebase} {
			t.Run(said+" "+string(route), func(t *testing.T) {
				tm, ctx := onBranch(t), t.Context()
				s, said := tm.session(), said
				switch said {
				case "address":
					said = tm.remote.Dir + " main"
				case "local":
					tm.mine.Git("fetch", "-q")
					tm.mine.Git("branch", "-f", "main", "origin/main")
					said = "main"
				}
				line := tm.take(s, said)
				before := tm.mine.Git("rev-parse", "feature")
				p := tm.joinNow(s, route)
				assert.Equal(t, line, p.Line())
				assert.Equal(t, "origin/feature", p.To().Name)
				assert.Contains(t, p.Standing(false).String(), line.Name+" has 1 commit by")
				assert.Equal(t, "new\n", tm.mine.Content("feature", "new"))
				if route == plan.Merge {
					assert.Contains(t, tm.mine.Git("log", "-1", "--format=%s"), line.Name)
				}
				require.NotNil(t, s.Ledger.State().Accepted)
				assert.Nil(t, s.Ledger.State().Line, "after the join the branch stands against its upstream again")
				_, err := s.Applier.GoBack(ctx, s.Ledger.State().Accepted.Name)
				require.NoError(t, err)
				assert.Equal(t, before, tm.mine.Git("rev-parse", "feature"))
				assert.Equal(t, line, *s.Ledger.State().Line, "undo selects the line again")
				tm.joinNow(s, route)
				p, err = s.Locate(ctx, true)
				require.NoError(t, err)
				done, err := s.Push.Tip(ctx, p, change.Consent{})
				require.NoError(t, err)
				if route == plan.Rebase { // the upstream has the commit that was replaced
					require.NotNil(t, done.Refusal)
					return
				}
				require.Nil(t, done.Refusal)
				assert.Equal(t, tm.mine.Git("rev-parse", "feature"), tm.remote.Git("rev-parse", "feature"))
				assert.Equal(t, tm.other.Git("rev-parse", "main"), tm.remote.Git("rev-parse", "main"), "main stays")
				assert.Equal(t, line, s.Ledger.State().Usual["feature"])
			})
		}
	}
}

// The upstream has commits that neither the branch nor the line has: they are joined before a push.
func TestAPushWaitsForTheUpstream(t *testing.T) {
	tm, ctx := onBranch(t), t.Context()
	tm.other.Git("fetch", "-q")
	tm.other.Git("switch", "-q", "feature")
	tm.other.Commit("also", "also", "also\n")
	tm.other.Git("push", "-q", "origin", "feature")
	s := tm.session()
	tm.take(s, "origin/main")
	p, err := s.Locate(ctx, true)
	require.NoError(t, err)
	require.NoError(t, s.Ledger.Sync(p))
	j, err := s.SettleBy(ctx, p, plan.Merge, nil)
	require.NoError(t, err)
	b, err := s.Planner.Build(ctx, p, j)
	require.NoError(t, err)
	d, err := s.Push.Departure(ctx, p, j, b.Tip)
	require.NoError(t, err)
	assert.False(t, d.Moved)
	require.Len(t, d.Lacks, 1)
	assert.Equal(t, "also", d.Lacks[0].Subject())
	assert.Equal(t, 2, d.Commits, "theirs and the merge are new on the upstream")
}

// A branch that was never pushed stands without anything to join, and its push makes it follow the new branch.
func TestAFirstPush(t *testing.T) {
	tm, ctx := newTeam(t), t.Context()
	tm.mine.Git("switch", "-q", "-c", "feature")
	tm.mine.Commit("one", "own", "own\n")
	tm.mine.Commit("two", "own", "more\n")
	s := tm.session()
	p, err := s.Locate(ctx, true)
	require.NoError(t, err)
	require.NoError(t, s.Ledger.Sync(p))
	assert.Len(t, p.Divergence.Yours, 2)
	assert.Equal(t, plan.UpToDate, p.Trivial())
	st := p.Standing(false)
	assert.Equal(t, "feature is not on origin yet. It has 2 commits that no branch there has.", st.String())
	d, err := s.Push.Departure(ctx, p, nil, p.Yours)
	require.NoError(t, err)
	assert.True(t, d.New && !d.Moved && !d.Gone)
	assert.Equal(t, 2, d.Commits)
	done, err := s.Push.Tip(ctx, p, change.Consent{})
	require.NoError(t, err)
	require.Nil(t, done.Refusal)
	assert.Equal(t, "origin/feature", done.Follows)
	assert.Equal(t, "origin/feature", tm.mine.Git("rev-parse", "--abbrev-ref", "feature@{upstream}"))
	p, err = s.Locate(ctx, true)
	require.NoError(t, err)
	assert.True(t, p.NothingToDo())
}

// A branch without commits of its own can be pushed, too.
func TestAFirstPushOfNothingNew(t *testing.T) {
	tm, ctx := newTeam(t), t.Context()
	tm.mine.Git("switch", "-q", "-c", "feature")
	s := tm.session()
	p, err := s.Locate(ctx, true)
	require.NoError(t, err)
	assert.False(t, p.NothingToDo())
	assert.Contains(t, p.Standing(false).Text, "Other branches there have all its commits")
	done, err := s.Push.Tip(ctx, p, change.Consent{})
	require.NoError(t, err)
	assert.Nil(t, done.Refusal)
	assert.Equal(t, tm.mine.Git("rev-parse", "feature"), tm.remote.Git("rev-parse", "feature"))
}

// A branch here is joined although the upstream's remote does not answer, and nothing is said of a remote that it has
// not.
func TestABranchHereNeedsNoRemote(t *testing.T) {
	tm, ctx := onBranch(t), t.Context()
	tm.mine.Git("branch", "side", "HEAD~1")
	tm.mine.Git("switch", "-q", "side")
	tm.mine.Commit("aside", "aside", "x\n")
	tm.mine.Git("switch", "-q", "feature")
	tm.mine.Git("remote", "set-url", "origin", "/there/is/none")
	s := tm.session()
	tm.take(s, "side")
	p, err := s.Locate(ctx, true)
	require.NoError(t, err)
	assert.NoError(t, p.Unanswered)
	assert.True(t, p.Asked.IsZero())
	assert.Error(t, p.Upstream().Unanswered)
	assert.NotContains(t, p.Standing(false).Next, "did not answer")
}

// A branch of the same name at a remote whose branches are fetched to other places is offered, too.
func TestTheSameNameUnderAnotherRefspec(t *testing.T) {
	tm, ctx := onBranch(t), t.Context()
	tm.mine.Git("branch", "--unset-upstream")
	tm.mine.Git("config", "remote.origin.fetch", "+refs/heads/*:refs/remotes/from/origin/*")
	tm.mine.Git("update-ref", "-d", "refs/remotes/origin/feature")
	_, err := tm.session().Locate(ctx, true)
	var help *Offered
	require.ErrorAs(t, err, &help)
	assert.Equal(t, "follow origin/feature", help.Offer.Does)
}

// An empty remote gets all commits.
func TestAFirstPushToAnEmptyRemote(t *testing.T) {
	gittest.Isolate(t)
	mine, remote, ctx := gittest.New(t), gittest.New(t, "--bare"), t.Context()
	mine.Commit("one", "f", "f\n")
	mine.Git("remote", "add", "origin", remote.Dir)
	s := (&team{t, remote, mine, mine}).session()
	p, err := s.Locate(ctx, true)
	require.NoError(t, err)
	d, err := s.Push.Departure(ctx, p, nil, p.Yours)
	require.NoError(t, err)
	assert.True(t, d.New)
	assert.Equal(t, 1, d.Commits)
	_, err = s.Push.Tip(ctx, p, change.Consent{})
	require.NoError(t, err)
	assert.Equal(t, mine.Git("rev-parse", "main"), remote.Git("rev-parse", "main"))
}

// Where git would not choose a destination, neither does Dorvik: it asks, and keeps the answer.
func TestThePlaceOfAPush(t *testing.T) {
	for name, c := range map[string]struct {
		set     []string
		to      string   // where it goes
		choices []string // what is asked instead
	}{
		"usual": {nil, "origin/feature", nil},
		"another name": {[]string{"branch.feature.merge=refs/heads/main"}, "",
			[]string{"origin/main", "origin/feature"}},
		"by its name": {[]string{"branch.feature.merge=refs/heads/main", "push.default=current"},
			"origin/feature", nil},
		"by the upstream": {[]string{"branch.feature.merge=refs/heads/main", "push.default=upstream"}, "origin/main",
			nil},
		"by a refspec":     {[]string{"remote.origin.push=refs/heads/*:refs/heads/up/*"}, "origin/up/feature", nil},
		"nothing":          {[]string{"push.default=nothing"}, "", []string{"origin/feature"}},
		"another remote":   {[]string{"branch.feature.pushRemote=fork"}, "fork/feature", nil},
		"the usual remote": {[]string{"remote.pushDefault=fork"}, "fork/feature", nil},
		"another, by the upstream": {[]string{"remote.pushDefault=fork", "push.default=upstream"}, "",
			[]string{"origin/feature", "fork/feature"}},
	} {
		t.Run(name, func(t *testing.T) {
			tm, ctx := onBranch(t), t.Context()
			tm.mine.Commit("more", "own", "more\n")
			fork := gittest.New(t, "--bare")
			tm.mine.Git("remote", "add", "fork", fork.Dir)
			for _, kv := range c.set {
				key, value, _ := strings.Cut(kv, "=")
				tm.mine.Git("config", key, value)
			}
			s := tm.session()
			p, err := s.Locate(ctx, true)
			require.NoError(t, err)
			dry, _ := tm.mine.Try("push", "--dry-run", "--porcelain")
			done, err := s.Push.Tip(ctx, p, change.Consent{})
			var unclear *UnclearError
			if c.choices != nil {
				require.ErrorAs(t, err, &unclear)
				var names []string
				for _, l := range unclear.Choices {
					names = append(names, l.Name)
				}
				assert.Equal(t, c.choices, names)
				assert.NotContains(t, dry, "refs/heads", "git would not push either")
				return
			}
			require.NoError(t, err)
			assert.Equal(t, c.to, done.To.Name)
			assert.Contains(t, dry, ":"+done.To.Ref, "git would push there, too")
		})
	}
}

// The answer is kept for the branch.
func TestTheAnswerAboutThePlaceIsKept(t *testing.T) {
	tm, ctx := onBranch(t), t.Context()
	tm.mine.Git("config", "branch.feature.merge", "refs/heads/main")
	s := tm.session()
	p, err := s.Locate(ctx, true)
	require.NoError(t, err)
	unclear := s.Lines.Unclear(ctx, p.Branch)
	require.NotNil(t, unclear)
	require.NoError(t, s.Lines.SendTo("feature", unclear.Choices[1]))
	p, err = s.Locate(ctx, true)
	require.NoError(t, err)
	assert.Nil(t, s.Lines.Unclear(ctx, p.Branch))
	assert.Equal(t, "origin/feature", p.To().Name)
}

// What the remote holds is asked where pushes go.
func TestPushesGoToAnotherAddress(t *testing.T) {
	for _, key := range []string{"remote.origin.pushurl", "pushInsteadOf"} {
		t.Run(key, func(t *testing.T) {
			tm, ctx := newTeam(t), t.Context()
			away := gittest.New(t, "--bare")
			tm.mine.Git("push", "-q", away.Dir, "main")
			if key == "pushInsteadOf" {
				tm.mine.Git("config", "url."+away.Dir+".pushInsteadOf", tm.remote.Dir)
			} else {
				tm.mine.Git("config", key, away.Dir)
			}
			tm.mine.Commit("own", "own", "own\n")
			s := tm.session()
			p, err := s.Locate(ctx, true)
			require.NoError(t, err)
			done, err := s.Push.Tip(ctx, p, change.Consent{})
			require.NoError(t, err)
			assert.Equal(t, p.Yours, done.Holds)
			assert.Equal(t, p.Yours.String(), away.Git("rev-parse", "main"))
			assert.NotEqual(t, p.Yours.String(), tm.remote.Git("rev-parse", "main"))
		})
	}
}

func TestAnAddressIsKeptAsARemote(t *testing.T) {
	tm, ctx := onBranch(t), t.Context()
	s := tm.session()
	line, err := s.Lines.Find(ctx, tm.remote.Dir+" main")
	require.NoError(t, err)
	kept, err := s.Lines.KeepAsRemote(ctx, line, "project")
	require.NoError(t, err)
	assert.Equal(t, vcs.Line{Name: "project/main", Tracking: "refs/remotes/project/main", Remote: "project",
		Ref: "refs/heads/main"}, kept)
	assert.Equal(t, tm.remote.Git("rev-parse", "main"), tm.mine.Git("rev-parse", "project/main"))
	for _, bad := range []string{"", "origin", "a b", "-x", "a/b"} {
		_, err = s.Lines.KeepAsRemote(ctx, line, bad)
		assert.Error(t, err, bad)
	}
	for address, name := range map[vcs.Remote]string{"https://host.example/skerry/timetable.git": "skerry",
		"git@host.example:crew/skerry.git": "crew", "/srv/skerry.git": "srv", "../skerry": "skerry"} {
		assert.Equal(t, name, RemoteNameFor(address), address)
	}
}

// A half-done merge or rebase with another line than the upstream names that line, and is joined anew with it.
func TestAHalfDoneJoinWithAnotherLine(t *testing.T) {
	for _, how := range [][]string{{"merge", "side"}, {"rebase", "side"}, {"merge", "origin/main"}} {
		t.Run(strings.Join(how, " "), func(t *testing.T) {
			tm, ctx := newTeam(t), t.Context()
			tm.diverge()
			tm.mine.Git("fetch", "-q")
			tm.mine.Git("branch", "side", "HEAD~1")
			tm.mine.Git("switch", "-q", "side")
			tm.mine.Commit("aside", "f", strings.Replace(base, "two", "SIDE", 1))
			tm.mine.Git("switch", "-q", "main")
			_, err := tm.mine.Try(how...)
			require.Error(t, err)
			s := tm.session()
			st, err := s.Workspace.Stuck(ctx)
			require.NoError(t, err)
			assert.Equal(t, how[1], st.With.Name)
			require.NoError(t, s.TakeOver(ctx, ledger.Finish))
			p, err := s.Locate(ctx, false)
			require.NoError(t, err)
			assert.Equal(t, how[1], p.Line().Name)
			require.NoError(t, s.TakeOver(ctx, ledger.Anew))
			p, err = s.Locate(ctx, false)
			require.NoError(t, err)
			assert.Equal(t, how[1], p.Line().Name)
			assert.Equal(t, tm.mine.Git("rev-parse", how[1]), p.Theirs.String())
		})
	}
}

// The report names the line that was joined.
func TestTheReportNamesTheLine(t *testing.T) {
	tm := onBranch(t)
	tm.mine.Git("fetch", "-q")
	s := tm.session()
	line := tm.take(s, "origin/main")
	story, err := s.History.Story(t.Context(), "")
	require.NoError(t, err)
	assert.Equal(t, line, story.Position.Line(), "while it is joined")
	tm.joinNow(s, plan.Merge)
	told := func() {
		story, err = s.History.Story(t.Context(), "")
		require.NoError(t, err)
		assert.Equal(t, line, story.Position.Line())
		p, err := s.Locate(t.Context(), false)
		require.NoError(t, err)
		was, w, err := s.History.LastJoin(t.Context(), p)
		require.NoError(t, err)
		require.NotNil(t, w)
		assert.Equal(t, line, was.Line())
	}
	told()
	tm.mine.Write("own", "more\n")
	_, err = s.Commits.Make(t.Context(), Draft{Paths: []string{"own"}, Message: "more"}, change.Consent{})
	require.NoError(t, err)
	told() // a commit is no join
}

// Where the branch has all of the other line, it is told whether a push would send anything: by the upstream, not by
// that line.
func TestALineThatIsInTheBranch(t *testing.T) {
	for pushed, want := range map[bool]string{
		true:  "origin/feature has all of it, too, so there is nothing to push. Choose another line with c.",
		false: "Go on to push it, or choose another line with c.",
	} {
		tm, ctx := newTeam(t), t.Context()
		tm.mine.Git("switch", "-q", "-c", "feature")
		tm.mine.Git("push", "-q", "-u", "origin", "feature")
		tm.mine.Commit("own", "own", "own\n")
		if pushed {
			tm.mine.Git("push", "-q")
		}
		s := tm.session()
		tm.take(s, "origin/main")
		p, err := s.Locate(ctx, true)
		require.NoError(t, err)
		assert.Equal(t, want, p.Standing(false).Next)
		assert.Equal(t, !pushed, p.Pushes())
		through, err := s.GoThrough(ctx, func(string) {})
		require.NoError(t, err)
		assert.Equal(t, pushed, through.Why == "there is nothing to do")
	}
}
