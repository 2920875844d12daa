package memory

import (
	"context"
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
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/vcs"
)

const base = "one\ntwo\nthree\nfour\nfive\n"

// crew is two people whose lines part: both change a line, and each something of their own.
type crew struct {
	*testing.T
	server       *Server
	mine, theirs *Clone
}

func newCrew(t *testing.T) *crew {
	gittest.Isolate(t)
	s := NewServer()
	theirs := s.Clone(t.Context(), "Ilka Renn", "ilka@skerry.example", t.TempDir())
	c := &crew{T: t, server: s, theirs: theirs}
	c.commit(theirs, "start", map[string]string{"timetable.txt": base, "check.sh": "true\n"})
	c.push(theirs)
	c.mine = s.Clone(t.Context(), "Runa Holm", "runa@skerry.example", t.TempDir())
	c.mine.Set("dorvik.check", "sh check.sh")
	c.commit(c.mine, "mine", map[string]string{"timetable.txt": strings.Replace(base, "two", "MINE", 1), "m": "m\n"})
	c.commit(theirs, "theirs", map[string]string{"timetable.txt": strings.Replace(base, "two", "THEIRS", 1),
		"t.txt": "t\n"})
	c.push(theirs)
	return c
}

func (c *crew) commit(of *Clone, message string, texts map[string]string) {
	require.NoError(c, of.Write(context.Background(), texts))
	require.NoError(c, of.Commit(context.Background(), message))
}

func (c *crew) push(of *Clone) {
	_, err := of.Push(c.Context(), vcs.Sending{Remote: "origin", Ref: "refs/heads/main", Tip: of.tip()})
	require.NoError(c, err)
}

func (c *crew) session() *recovery.Session {
	s, err := recovery.Begin(c.Context(), c.mine.Open())
	require.NoError(c, err)
	c.Cleanup(s.Close)
	return s
}

// settled takes a route and decides all by a way.
func (c *crew) settled(s *recovery.Session, route plan.Route, way settle.Way) (*plan.Position, *plan.Join, plan.Built) {
	p, err := s.Locate(c.Context(), true)
	require.NoError(c, err)
	require.NoError(c, s.Ledger.Sync(p))
	j, err := s.SettleBy(c.Context(), p, route, []settle.Way{way})
	require.NoError(c, err)
	require.Zero(c, j.Open)
	b, err := s.Planner.Build(c.Context(), p, j)
	require.NoError(c, err)
	return p, j, b
}

// TestFiveStagesWithoutGit goes through the whole job on a system that is not git.
func TestFiveStagesWithoutGit(t *testing.T) {
	for _, route := range []plan.Route{plan.Merge, plan.Rebase} {
		t.Run(string(route), func(t *testing.T) {
			c := newCrew(t)
			s, ctx := c.session(), t.Context()

			v, err := s.Survey(ctx, true, nil) // Look
			require.NoError(t, err)
			assert.Equal(t, "A push would be rejected.", v.Position.Standing(false).Head)
			assert.Equal(t, "runa@skerry.example", v.Position.Me)
			var files []string
			for _, o := range v.Overlap {
				files = append(files, o.Path+" "+string(o.Kind))
			}
			assert.Equal(t, []string{"timetable.txt same lines", "m only yours", "t.txt only theirs"}, files)

			assert.Equal(t, plan.Rebase, v.Plan.Suggested) // Choose
			assert.Equal(t, 1, v.Plan.Merge.Open)

			p, j, b := c.settled(s, route, settle.YoursTheirs) // Settle
			out, err := s.Planner.Accounts.LeftOut(ctx, p, j, &settle.Decisions{List: s.Ledger.State().Decisions.List})
			require.NoError(t, err)
			assert.Empty(t, out)

			terms, agreed, err := s.Prover.MayCheck(ctx, p, j.Tree) // Check
			require.NoError(t, err)
			assert.True(t, agreed, "%+v", terms)
			var said []string
			proof, err := s.Prover.Prove(ctx, p, terms, b.Tip, func(l string) { said = append(said, l) }, nil)
			require.NoError(t, err)
			assert.True(t, proof.Result.Passed, said)
			before := c.mine.files
			wp, err := s.Accept(ctx, p, j, b, change.Consent{})
			require.NoError(t, err)
			assert.Contains(t, c.mine.Text(ctx, "timetable.txt"), "MINE\nTHEIRS\n")
			assert.Equal(t, "t\n", c.mine.Text(ctx, "t.txt"))

			_, err = s.Applier.GoBack(ctx, "")
			require.NoError(t, err)
			assert.Equal(t, before, c.mine.files, "undone")
			assert.Equal(t, p.Yours, c.mine.tip())
			_, err = s.Accept(ctx, p, j, b, change.Consent{})
			require.NoError(t, err)

			p, err = s.Locate(ctx, false) // Push
			require.NoError(t, err)
			pushed, err := s.Push.Tip(ctx, p, change.Consent{})
			require.NoError(t, err)
			assert.Nil(t, pushed.Refusal)
			assert.Equal(t, wp.After, pushed.Holds)

			h, err := s.History.Chronicle(ctx)
			require.NoError(t, err)
			entries, err := h.More(ctx, 10)
			require.NoError(t, err)
			assert.NotEmpty(t, entries)
			log, err := s.Ledger.Logbook()
			require.NoError(t, err)
			assert.Equal(t, ledger.Sent, log[0].What)
		})
	}
}

// TestSomebodyIsFirst: what was joined is undone and made again on what is new, with the decisions kept.
func TestSomebodyIsFirst(t *testing.T) {
	c := newCrew(t)
	s, ctx := c.session(), t.Context()
	p, j, b := c.settled(s, plan.Merge, settle.Yours)
	_, err := s.Accept(ctx, p, j, b, change.Consent{})
	require.NoError(t, err)
	c.commit(c.theirs, "more of theirs", map[string]string{"t.txt": "T\n"})
	c.push(c.theirs)
	p, err = s.Locate(ctx, false)
	require.NoError(t, err)
	pushed, err := s.Push.Tip(ctx, p, change.Consent{})
	require.NoError(t, err)
	require.NotNil(t, pushed.Refusal)
	assert.Equal(t, vcs.Behind, pushed.Refusal.Kind)
	assert.True(t, pushed.WentBack)
	p, err = s.Locate(ctx, true)
	require.NoError(t, err)
	require.NoError(t, s.Ledger.Sync(p))
	st := s.Ledger.State()
	j, err = s.Planner.Join(ctx, p, plan.Merge, &st.Decisions, plan.Amends{}, nil)
	require.NoError(t, err)
	assert.Zero(t, j.Open, "it is decided already")

	c.server.Refuses = "the harbour is closed"
	b, err = s.Planner.Build(ctx, p, j)
	require.NoError(t, err)
	_, err = s.Accept(ctx, p, j, b, change.Consent{})
	require.NoError(t, err)
	p, err = s.Locate(ctx, false)
	require.NoError(t, err)
	pushed, err = s.Push.Tip(ctx, p, change.Consent{})
	require.NoError(t, err)
	_, what, next := pushed.Refused(true)
	assert.Contains(t, what, "The server refused the push")
	assert.NotEmpty(t, next)
}

// TestUncommittedWorkIsKept: what is in the way is refused, carried when it is asked for, and as it was after undo.
func TestUncommittedWorkIsKept(t *testing.T) {
	c := newCrew(t)
	s, ctx := c.session(), t.Context()
	require.NoError(t, c.mine.Write(ctx, map[string]string{"timetable.txt": strings.NewReplacer("two", "MINE", "five",
		"5").
		Replace(base), "own": "own\n"}))
	p, j, b := c.settled(s, plan.Merge, settle.YoursTheirs)
	_, err := s.Accept(ctx, p, j, b, change.Consent{})
	var over *change.OverwriteError
	require.ErrorAs(t, err, &over)
	assert.Equal(t, []string{"timetable.txt"}, over.Paths)
	require.NoError(t, s.Ledger.Carry(true))
	p, j, b = c.settled(s, plan.Merge, settle.YoursTheirs)
	work := c.mine.files
	_, err = s.Accept(ctx, p, j, b, change.Consent{})
	require.NoError(t, err)
	assert.Contains(t, c.mine.Text(ctx, "timetable.txt"), "MINE\nTHEIRS\nthree\nfour\n5\n")
	assert.Equal(t, "own\n", c.mine.Text(ctx, "own"))
	_, err = s.Applier.GoBack(ctx, "")
	require.NoError(t, err)
	assert.Equal(t, work, c.mine.files)
}

// TestTheTimesOfAMemory: settings and moves are told as the port has it.
func TestTheTimesOfAMemory(t *testing.T) {
	c := newCrew(t)
	c.mine.Set("dorvik.fetchEvery", "90s")
	every, err := c.session().Workspace.FetchEvery(t.Context())
	require.NoError(t, err)
	assert.Equal(t, 90*time.Second, every)
	assert.Len(t, c.mine.Reflog(t.Context(), "HEAD"), 1)
}
