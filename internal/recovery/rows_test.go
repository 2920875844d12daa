package recovery

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/proposal"
)

// propose has somebody put a commit forward that starts at a commit of main.
func (tm *team) propose(name, from, path, text string) {
	tm.other.Git("switch", "-q", "-C", "p"+name, from)
	tm.other.Commit("Proposal "+name, path, text)
	tm.other.Git("push", "-q", "-f", "origin", "HEAD:refs/proposals/"+name+"/main")
	tm.other.Git("switch", "-q", "main")
}

// board lists the proposals with their forecasts.
func (tm *team) board(w *Workspace) (*proposal.Listed, []proposal.Forecast) {
	l, err := w.Proposals.List(tm.t.Context(), "origin")
	require.NoError(tm.t, err)
	out := make([]proposal.Forecast, len(l.Proposals))
	require.NoError(tm.t, w.Proposals.Forecast(tm.t.Context(), l.Proposals,
		func(i int, f proposal.Forecast) { out[i] = f }))
	return l, out
}

// row begins a row of all proposals in the order in which they came.
func (tm *team) row(s *Session) {
	l, fs := tm.board(s.Workspace)
	seq, err := s.Workspace.Proposals.InTurn(tm.t.Context(), l.Proposals)
	require.NoError(tm.t, err)
	require.NoError(tm.t, RowsOf(s).Begin(tm.t.Context(), seq, func(i int) proposal.Forecast { return fs[i] }))
}

// next goes on with the row and returns where it halts, and what was said.
func (tm *team) next(s *Session) (*Halt, string) {
	var said []string
	h, err := RowsOf(s).Next(tm.t.Context(), func(step string) { said = append(said, step) })
	require.NoError(tm.t, err)
	return h, strings.Join(said, "\n")
}

// states tells what became of each proposal.
func states(r *proposal.Row) (out []string) {
	for _, i := range r.Items {
		out = append(out, strings.TrimSpace(fmt.Sprintf("%s %s %s", i.Name, i.State, i.Why)))
	}
	return out
}

func TestProposalsAreSeenByRefsAlone(t *testing.T) {
	tm := newTeam(t)
	tm.propose("2", "main", "two", "two\n")
	tm.propose("10", "main", "f", strings.Replace(base, "one\n", "ten\n", 1))
	tm.other.Git("push", "-q", "origin", "main:refs/proposals/3/main", "main:refs/proposals/4/nowhere",
		"main:refs/proposals/5", "p2:refs/heads/topic")
	tm.other.Commit("moves on", "f", strings.Replace(base, "one\n", "other\n", 1))
	tm.other.Git("push", "-q", "origin", "main")
	s := tm.session()
	l, fs := tm.board(s.Workspace)
	require.Len(t, l.Proposals, 2)
	assert.Equal(t, []string{"2", "10"}, []string{l.Proposals[0].Name, l.Proposals[1].Name}, "in the order of numbers")
	assert.Equal(t, 1, l.In, "3 is in main already")
	assert.Equal(t, []string{"4"}, l.Unknown)
	assert.Equal(t, "topic", l.Proposals[0].From)
	assert.Equal(t, "origin/main", l.Proposals[0].Into.Name)
	assert.True(t, fs[0].Joins())
	assert.Equal(t, proposal.Forecast{Commits: 1, By: []string{"you"}, Clashes: []string{"f"}, Asks: 1}, fs[1])
	file := filepath.Join(s.Repo.Where().Own, "dorvik", "proposals.json") // kept by the ids, for another process
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	kept, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(kept), "Ada", "Ida", 1)+"x"), 0o600))
	s.Close()
	s = tm.session()
	_, again := tm.board(s.Workspace)
	assert.Equal(t, fs, again, "what is damaged is computed again")
	assert.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(kept), `"you"`, `"kept"`, -1)), 0o600))
	s.Close()
	s = tm.session()
	_, again = tm.board(s.Workspace)
	assert.Equal(t, []string{"kept"}, again[1].By, "it is not computed again")
	cancelled, cancel := context.WithCancel(t.Context())
	cancel()
	assert.ErrorIs(t, s.Workspace.Proposals.Forecast(cancelled, []proposal.Proposal{{At: l.Proposals[0].At,
		Last: l.Proposals[0].Last, Line: l.Proposals[1].Line, Name: "2"}, {Last: l.Proposals[1].Last}},
		func(int, proposal.Forecast) {}), context.Canceled)
	tm.propose("10", "main", "f", "rewritten\n")
	l, fs = tm.board(s.Workspace)
	require.Len(t, l.Proposals, 2)
	assert.True(t, fs[1].Joins(), "a rewritten proposal is seen as it is now")
}

// The pattern can be another one, without the branch in it: then it is the remote's usual branch.
func TestAPatternOfProposals(t *testing.T) {
	tm := newTeam(t)
	tm.other.Commit("wish", "w", "w\n")
	tm.other.Git("push", "-q", "origin", "HEAD:refs/wishes/9/tip")
	tm.mine.Git("config", "dorvik.proposals", "refs/wishes/*/tip")
	s := tm.session()
	l, _ := tm.board(s.Workspace)
	require.Len(t, l.Proposals, 1)
	assert.Equal(t, "refs/heads/main", l.Proposals[0].Into.Ref)
	assert.Equal(t, "9", l.Proposals[0].Name)
}

// Everybody appends to the same list: one decision serves all. What fails the check, was withdrawn or was rewritten is
// left out with its reason, and the others go on.
func TestManyInARow(t *testing.T) {
	tm := newTeam(t)
	tm.agreed("! test -e breaks")
	for i, text := range []string{"one", "two", "three"} {
		tm.propose(fmt.Sprint(i+1), "main", "f", base+text+"\n")
	}
	tm.propose("4", "main", "breaks", "x\n")
	tm.propose("5", "main", "away", "x\n")
	tm.propose("6", "main", "six", "x\n")
	tm.propose("7", "main", "f", base+"seven\n")
	s := tm.session()
	tm.row(s)
	tm.other.Git("push", "-q", "origin", ":refs/proposals/5/main")
	tm.propose("6", "main", "six", "y\n")

	h, said := tm.next(s)
	require.NotNil(t, h)
	assert.Equal(t, ledger.Settle, h.Stage)
	assert.Equal(t, "1 conflict needs a decision", h.Why)
	assert.Contains(t, said, "Proposal 1 is joined: the branch moved forward to it.")

	j, err := s.SettleBy(t.Context(), tm.here(s), plan.Merge, []settle.Way{settle.YoursTheirs})
	require.NoError(t, err)
	require.Zero(t, j.Open)
	s.Close()
	s = tm.session() // another process goes on
	h, said = tm.next(s)
	assert.Nil(t, h, said)
	row := RowsOf(s).Now()
	assert.Equal(t, []string{"1 joined", "2 joined", "3 joined",
		"4 left-out “! test -e breaks” fails on the joined code",
		"5 left-out it was withdrawn after it was marked",
		"6 left-out it was rewritten or added to after it was marked; it is at " +
			tm.other.Git("rev-parse", "--short=7", "p6") + " now", "7 joined"}, states(row))
	assert.Equal(t, base+"one\ntwo\nthree\nseven\n", tm.mine.Read("f"))
	assert.Equal(t, 1, row.Items[1].Decided)
	assert.Equal(t, []string{"f: yours, then theirs, as for proposal 2"}, row.Items[2].Again)
	assert.Equal(t, "7 proposals into main: 4 joined, 3 left out.", row.Sentence())
	assert.Equal(t, "Ada Sund", tm.mine.Git("log", "--no-merges", "-1", "--format=%an"), "authorship is kept")
	assert.Equal(t, "Merge proposal 7 into main", tm.mine.Git("log", "-1", "--format=%s"))

	require.NoError(t, RowsOf(s).TakeBack(t.Context()))
	assert.Equal(t, tm.mine.Git("rev-parse", "origin/main"), tm.mine.Git("rev-parse", "main"))
	assert.Nil(t, RowsOf(s).Now())
}

// A proposal that brings hooks of the repository stops the row before they could run.
func TestAHostileProposalStopsTheRow(t *testing.T) {
	tm := newTeam(t)
	tm.agreed("true")
	canary := filepath.Join(t.TempDir(), "canary")
	tm.mine.Git("config", "core.hooksPath", "hooks")
	tm.other.Commit("moves on", "h2", "x\n")
	tm.other.Git("push", "-q", "origin", "main")
	tm.other.Git("switch", "-q", "-C", "p1", "main~1")
	require.NoError(t, os.Mkdir(filepath.Join(tm.other.Dir, "hooks"), 0o755))
	gittest.Program(t, filepath.Join(tm.other.Dir, "hooks", "post-merge"), "#!/bin/sh\ntouch "+canary+"\n")
	gittest.Program(t, filepath.Join(tm.other.Dir, "hooks", "pre-merge-commit"), "#!/bin/sh\ntouch "+canary+"\n")
	tm.other.Git("add", "hooks")
	tm.other.Git("commit", "-q", "-m", "Proposal 1")
	tm.other.Git("push", "-q", "origin", "HEAD:refs/proposals/1/main")
	tm.other.Git("switch", "-q", "main")
	tm.propose("2", "main~1", "g", "theirs\n")
	s := tm.session()
	tm.row(s)
	h, said := tm.next(s)
	assert.Contains(t, said, "Proposal 1 is joined.")
	assert.Contains(t, s.TakeNotice(),
		"The hook post-merge was not run: the repository brought it, and you did not agree.")
	require.NotNil(t, h, "from now on the hooks are there before the join")
	assert.Contains(t, h.Why, "the hooks pre-merge-commit and post-merge are among the files of the repository")
	assert.Equal(t, "look at it", h.Does())
	assert.NoFileExists(t, canary)
}

// A huge text that both changed is one decision about the whole file.
func TestAHugeProposal(t *testing.T) {
	tm := newTeam(t)
	huge := strings.Repeat("x\n", 2_100_000)
	tm.other.Commit("huge", "huge", huge)
	tm.other.Git("push", "-q", "origin", "main")
	tm.propose("1", "main", "huge", "mine\n"+huge)
	tm.other.Commit("also", "huge", "theirs\n"+huge)
	tm.other.Git("push", "-q", "origin", "main")
	_, fs := tm.board(tm.session().Workspace)
	assert.Equal(t, 1, fs[0].Asks)
	assert.Equal(t, []string{"huge"}, fs[0].Clashes)
}

// Work that is not committed stops the row where a proposal changes the same file, and stays as it is.
func TestWorkInTheWayStopsTheRow(t *testing.T) {
	tm := newTeam(t)
	tm.agreed("true")
	tm.propose("1", "main", "g", "theirs\n")
	tm.mine.Write("g", "mine, not committed\n")
	s := tm.session()
	tm.row(s)
	h, _ := tm.next(s)
	require.NotNil(t, h)
	assert.Contains(t, h.Why, "must change g, where you have work that is not committed")
	assert.Equal(t, "mine, not committed\n", tm.mine.Read("g"))
	tm.mine.Git("checkout", "-q", "g")
	h, _ = tm.next(s)
	assert.Nil(t, h)
	assert.Equal(t, "theirs\n", tm.mine.Read("g"))
}

// here locates the branch as it is.
func (tm *team) here(s *Session) *plan.Position {
	p, err := s.Locate(tm.t.Context(), false)
	require.NoError(tm.t, err)
	return p
}

// A choice between two texts is no precedent: it says nothing about a third.
func TestAChoiceIsNoPrecedent(t *testing.T) {
	tm := newTeam(t)
	for i, text := range []string{"one", "two", "three"} {
		tm.propose(fmt.Sprint(i+1), "main", "g", text+"\n")
	}
	s := tm.session()
	tm.row(s)
	for range 2 {
		h, _ := tm.next(s)
		require.NotNil(t, h)
		_, err := s.SettleBy(t.Context(), tm.here(s), plan.Merge, []settle.Way{settle.Theirs})
		require.NoError(t, err)
	}
	h, _ := tm.next(s)
	assert.Nil(t, h)
	assert.Equal(t, "three\n", tm.mine.Read("g"))
	assert.Empty(t, RowsOf(s).Now().Precedents)
}

// A check that fails without any proposal blames none of them.
func TestABrokenBranchBlamesNoProposal(t *testing.T) {
	tm := newTeam(t)
	tm.agreed("false")
	tm.other.Commit("moves on", "h2", "x\n")
	tm.other.Git("push", "-q", "origin", "main")
	tm.propose("1", "main~1", "one", "x\n")
	s := tm.session()
	tm.row(s)
	h, _ := tm.next(s)
	require.NotNil(t, h)
	assert.Equal(t, "“false” fails on main without the proposal, too", h.Why)
	require.NoError(t, RowsOf(s).LeaveOut(t.Context(), "you decided so"))
	h, _ = tm.next(s)
	assert.Nil(t, h)
	assert.Equal(t, []string{"1 left-out you decided so"}, states(RowsOf(s).Now()))
}

// The order that asks least puts off what collides with several others that agree.
func TestTheOrderThatAsksLeast(t *testing.T) {
	tm := newTeam(t)
	for i, text := range []string{"ten", "one", "one"} {
		tm.propose(fmt.Sprint(i+1), "main", "g", text+"\n")
	}
	s := tm.session()
	l, _ := tm.board(s.Workspace)
	came, err := s.Workspace.Proposals.InTurn(t.Context(), l.Proposals)
	require.NoError(t, err)
	assert.Equal(t, []int{0, 1, 1}, came.Asks)
	least, err := s.Workspace.Proposals.LeastAsking(t.Context(), came)
	require.NoError(t, err)
	require.NotNil(t, least)
	assert.Equal(t, []string{"2", "3", "1"}, []string{least.List[0].Name, least.List[1].Name, least.List[2].Name})
	assert.Equal(t, []int{0, 0, 1}, least.Asks)
	assert.Equal(t, "it asks 1 decision, and the order in which they came asks 2", least.Why)
}

// A decision is not repeated where it would decide something that nobody looked at: the same key twice, or two edits of
// one value.
func TestAPrecedentThatDoesNotFit(t *testing.T) {
	for name, c := range map[string]struct {
		file, base string
		texts      []string // of three proposals
		way        settle.Way
	}{
		"the same key": {"board.ini", "[board]\nwide = yes\n", []string{"[board]\nwide = yes\nloud = no\n",
			"[board]\nwide = yes\nslow = yes\n", "[board]\nwide = yes\nslow = no\n"}, settle.YoursTheirs},
		"the same number": {"list.txt", "1. one\n2. two\n", []string{"1. one\n2. two\n3. three\n",
			"1. one\n2. two\n4. four\n",
			"1. one\n2. two\n4. vier\n"}, settle.YoursTheirs},
		"one value": {"fare.go", "package fare\n\nvar fare = rate * metres\n", []string{
			"package fare\n\nvar fare = rate * metres * 2\n", "package fare\n\nvar fare = base + rate * metres\n",
			"package fare\n\nvar fare = -rate * metres\n"}, settle.Weave},
	} {
		t.Run(name, func(t *testing.T) {
			tm := newTeam(t)
			tm.agreed("true") // no check tells
			tm.other.Commit("base", c.file, c.base)
			tm.other.Git("push", "-q", "origin", "main")
			for i, text := range c.texts {
				tm.propose(fmt.Sprint(i+1), "main", c.file, text)
			}
			s := tm.session()
			tm.row(s)
			h, _ := tm.next(s)
			require.NotNil(t, h)
			_, err := s.SettleBy(t.Context(), tm.here(s), plan.Merge, []settle.Way{c.way})
			require.NoError(t, err)
			h, _ = tm.next(s)
			require.NotNil(t, h, tm.mine.Read(c.file))
			assert.Equal(t, ledger.Settle, h.Stage)
			assert.Equal(t, "3", RowsOf(s).Now().Current().Name)
		})
	}
}

// A row is pushed only if nothing came meanwhile and nothing in it keeps it back; then it is over.
func TestPushingARow(t *testing.T) {
	tm := newTeam(t)
	tm.propose("1", "main", "one", "x\n")
	tm.propose("2", "main", "two", "<<<<<<< HEAD\nx\n=======\ny\n>>>>>>> side\n")
	s := tm.session()
	tm.row(s)
	h, said := tm.next(s)
	require.Nil(t, h, said)
	_, err := RowsOf(s).Push(t.Context())
	assert.ErrorContains(t, err, "Conflict marks stand in two")
	assert.NotNil(t, RowsOf(s).Now(), "it stays")
	require.NoError(t, RowsOf(s).TakeBack(t.Context()))

	tm.other.Git("push", "-q", "origin", ":refs/proposals/2/main")
	tm.row(s)
	h, said = tm.next(s)
	require.Nil(t, h, said)
	tm.other.Commit("first", "h2", "x\n")
	tm.other.Git("push", "-q", "origin", "main")
	_, err = RowsOf(s).Push(t.Context())
	assert.ErrorContains(t, err, "origin/main has 1 commit that your branch lacks: somebody pushed first.")
	require.NoError(t, RowsOf(s).TakeBack(t.Context()))
	tm.row(s)
	h, said = tm.next(s)
	require.Nil(t, h, said)
	done, err := RowsOf(s).Push(t.Context())
	require.NoError(t, err)
	assert.Nil(t, done.Refusal)
	assert.Equal(t, tm.mine.Git("rev-parse", "main"), tm.remote.Git("rev-parse", "main"))
	assert.Nil(t, RowsOf(s).Now())
}
