package recovery

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
)

// TestGoingBackWhateverCameAfter goes back before a join that was pushed and built upon: what came
// since is told and kept, and going back is itself undone.
func TestGoingBackWhateverCameAfter(t *testing.T) {
	t.Parallel()
	for name, pushed := range map[string]bool{"kept here": false, "pushed": true} {
		for _, dirty := range []string{"", "d/h"} {
			t.Run(name+" "+dirty, func(t *testing.T) {
				tm := newTeam(t)
				tm.diverge()
				s := tm.session()
				before := tm.mine.Git("rev-parse", "main")
				p, j, b := ready(t, s, plan.Rebase, settle.TheirsYours)
				wp, err := s.Accept(t.Context(), p, j, b, change.Consent{})
				require.NoError(t, err)
				if pushed {
					_, err := s.Push.Tip(t.Context(), p, change.Consent{})
					require.NoError(t, err)
				}
				tm.mine.Commit("after", "later", "later\n")
				tip := tm.mine.Git("rev-parse", "main")
				if dirty != "" {
					tm.mine.Write(dirty, tm.mine.Read(dirty)+"and more\n")
				}
				_, err = s.Applier.GoBack(t.Context(), wp.Name)
				var moved *change.MovedError
				require.ErrorAs(t, err, &moved)
				assert.ErrorContains(t, err, "something was done since")

				way, err := s.WayBack(t.Context(), wp.Name)
				require.NoError(t, err)
				assert.False(t, way.Direct())
				assert.Contains(t, way.Sentence(), "1 commit made since is left behind and kept under a waypoint: "+
					"“after”")
				assert.Equal(t, pushed, strings.Contains(way.Sentence(), "origin/main keeps what was pushed"))
				status, files := tm.mine.Git("status", "--porcelain"), gittest.Files(t, tm.mine.Dir)
				back, err := s.Return(t.Context(), wp.Name)
				if dirty != "" { // it was made on what is taken back
					var asks *change.AsksError
					require.ErrorAs(t, err, &asks)
					assert.Equal(t, []string{"d/h"}, asks.Paths)
					assert.Equal(t, tip, tm.mine.Git("rev-parse", "main"))
					assert.Equal(t, files, gittest.Files(t, tm.mine.Dir))
					j, err := s.Planner.Join(t.Context(), asks.Position, "", decisions(s), plan.Amends{}, nil)
					require.NoError(t, err)
					require.NoError(t, s.Decide(settle.Decision{Key: j.Stops[0].Files[0].Questions[0].Key,
						Way: settle.Yours}))
					back, err = s.FastForward(t.Context(), asks.Position, change.Consent{})
					require.NoError(t, err)
					assert.Equal(t, before, tm.mine.Git("rev-parse", "main"))
					assert.Equal(t, "H\nand more\n", tm.mine.Read("d/h"))
					assert.Equal(t, " M d/h", tm.mine.Git("status", "--porcelain"))
					_, err = s.Applier.GoBack(t.Context(), back.Name)
					require.NoError(t, err)
					assert.Equal(t, tip, tm.mine.Git("rev-parse", "main"))
					assert.Equal(t, files, gittest.Files(t, tm.mine.Dir))
					return
				}
				require.NoError(t, err)
				assert.Equal(t, before, tm.mine.Git("rev-parse", "main"))
				assert.Equal(t, tip, tm.mine.Git("rev-parse", back.Ref()))
				assert.Equal(t, status, tm.mine.Git("status", "--porcelain"))
				all, err := s.Ledger.Logbook()
				require.NoError(t, err)
				assert.Equal(t, ledger.Undone, all[0].What)
				assert.Contains(t, all[0].Sentence(vcs.InGit, "X"), "main went back to where it was before waypoint "+wp.Name)
				_, err = s.WayBack(t.Context(), wp.Name)
				assert.ErrorContains(t, err, "is there already")

				_, files2, err := s.Since(t.Context(), back.Name)
				require.NoError(t, err)
				var names []string
				for _, f := range files2 {
					names = append(names, f.Path)
				}
				assert.Equal(t, []string{"d/h", "f", "later"}, names)
				_, err = s.Applier.GoBack(t.Context(), "")
				require.NoError(t, err)
				assert.Equal(t, tip, tm.mine.Git("rev-parse", "main"))
				assert.Equal(t, files, gittest.Files(t, tm.mine.Dir))
			})
		}
	}
}

// TestTakenBackByACommit undoes what a join brought, and only that, by a new commit.
func TestTakenBackByACommit(t *testing.T) {
	t.Parallel()
	for _, route := range []plan.Route{plan.Rebase, plan.Merge} {
		t.Run(string(route), func(t *testing.T) {
			tm := newTeam(t)
			tm.diverge()
			s := tm.session()
			p, j, b := ready(t, s, route, settle.TheirsYours)
			wp, err := s.Accept(t.Context(), p, j, b, change.Consent{})
			require.NoError(t, err)
			_, err = s.Push.Tip(t.Context(), p, change.Consent{})
			require.NoError(t, err)
			tm.mine.Commit("after", "later", "later\n")
			tip := tm.mine.Git("rev-parse", "main")

			require.NoError(t, s.Counter(t.Context(), wp.Name))
			require.NoError(t, s.Counter(t.Context(), wp.Name), "once more is no matter")
			p, j, b = ready(t, s, plan.Pick, settle.Theirs)
			assert.True(t, p.IsPick())
			_, err = s.Accept(t.Context(), p, j, b, change.Consent{})
			require.NoError(t, err)
			assert.Equal(t, tip, tm.mine.Git("rev-parse", "main~1"), "on top of all")
			assert.Equal(t, strings.Replace(base, "two", "THEIRS", 1), tm.mine.Read("f"))
			assert.NoFileExists(t, tm.mine.Dir+"/m")
			assert.Equal(t, "later\n", tm.mine.Read("later"))
			assert.Equal(t, "H\n", tm.mine.Read("d/h"), "what was theirs stays")
			assert.Contains(t, tm.mine.Git("log", "-1", "--format=%B"), "Take back what "+wp.After.Prefix(12)+" "+
				"brought")
			assert.Contains(t, tm.mine.Git("log", "-1", "--format=%B"), "- mine")
			p, err = s.Locate(t.Context(), true)
			require.NoError(t, err)
			done, err := s.Push.Tip(t.Context(), p, change.Consent{})
			require.NoError(t, err)
			assert.Nil(t, done.Refusal)
		})
	}
	s := newTeam(t).session()
	var blocked *plan.Blocked
	assert.ErrorAs(t, s.Counter(t.Context(), "7"), &blocked)
	_, err := s.Return(t.Context(), "7")
	assert.ErrorAs(t, err, &blocked)
}

// TestCleaning forgets what is old, and nothing that can still be undone before a push.
func TestCleaning(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	tm.diverge()
	tm.mine.Write("g", "edited\n")
	s := tm.session()
	p, j, b := ready(t, s, plan.Rebase, settle.TheirsYours)
	wp, err := s.Accept(t.Context(), p, j, b, change.Consent{})
	require.NoError(t, err)
	n, err := s.Clean(t.Context(), 0)
	require.NoError(t, err)
	assert.Zero(t, n)
	_, err = s.Push.Tip(t.Context(), p, change.Consent{})
	require.NoError(t, err)
	n, err = s.Clean(t.Context(), time.Hour)
	require.NoError(t, err)
	assert.Zero(t, n, "it is not old")
	n, err = s.Clean(t.Context(), 0)
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	_, err = tm.mine.Try("rev-parse", "--verify", "-q", wp.Ref())
	assert.Error(t, err)
	all, err := s.Ledger.Logbook()
	require.NoError(t, err)
	assert.Len(t, all, 2, "what was done is still told")
	_, err = s.WayBack(t.Context(), wp.Name)
	assert.ErrorContains(t, err, "no waypoint "+wp.Name)
	for said, want := range map[string]time.Duration{"30": 720 * time.Hour, "1d": 24 * time.Hour, "0": 0, "x": 0,
		"1.5": 0,
		"":    0} {
		got, err := Days(said)
		assert.Equal(t, want, got, said)
		assert.Equal(t, want == 0, err != nil, said)
	}
}
