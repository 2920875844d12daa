package recovery

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
)

// A merge's message says what came in, whose it is, and how each conflict was settled. It can be written instead.
func TestTheMessageOfAMerge(t *testing.T) {
	tm := newTeam(t)
	tm.diverge()
	s := tm.session()
	p, j, b := ready(t, s, plan.Merge, settle.TheirsYours)
	assert.Equal(t, `Merge origin/main into main

- theirs (Ada Sund)

Conflicts, and how they were settled:

- f: theirs, then yours
`, j.Message)
	_, err := s.Accept(t.Context(), p, j, b, change.Consent{})
	require.NoError(t, err)
	assert.Equal(t, j.Message, tm.mine.Git("log", "-1", "--format=%B"))
	_, err = s.Applier.GoBack(t.Context(), "")
	require.NoError(t, err)

	require.NoError(t, s.Ledger.Choices.Write("Both fares\n"))
	p, j, b = ready(t, s, plan.Merge, settle.TheirsYours)
	_, err = s.Accept(t.Context(), p, j, b, change.Consent{})
	require.NoError(t, err)
	assert.Equal(t, "Both fares\n", tm.mine.Git("log", "-1", "--format=%B"))
	assert.Empty(t, s.Ledger.State().Message, "the next merge has its own")
	_, err = s.Applier.GoBack(t.Context(), "")
	require.NoError(t, err)
	assert.Equal(t, "Both fares\n", s.Ledger.State().Message, "undo brings back what was written")
	require.NoError(t, s.Ledger.Choices.Write(""))
	_, j, _ = ready(t, s, plan.Merge, settle.TheirsYours)
	assert.Contains(t, j.Message, "Merge origin/main into main")
	_, j, _ = ready(t, s, plan.Rebase, settle.TheirsYours)
	assert.Empty(t, j.Message)
}

// Nothing settled, nothing said about it.
func TestTheMessageOfAMergeWithoutConflicts(t *testing.T) {
	tm := newTeam(t)
	tm.mine.Commit("mine", "m", "m\n")
	for range 23 {
		tm.other.Git("commit", "-q", "--allow-empty", "-m", "step")
	}
	tm.other.Git("push", "-q")
	_, j, _ := ready(t, tm.session(), plan.Merge, settle.Yours)
	assert.Regexp(t, `^Merge origin/main into main\n\n(- step \(Ada Sund\)\n){20}- and 3 more\n$`, j.Message)
}

// A merge that git began keeps what its message says, with its trailers last.
func TestTheMessageOfAMergeThatGitBegan(t *testing.T) {
	tm := newTeam(t)
	tm.diverge()
	tm.mine.Git("fetch", "-q")
	_, err := tm.mine.Try("merge", "-m", "Both fares\n\nAs agreed.\n\nSigned-off-by: Ada", "origin/main")
	require.Error(t, err)
	s := tm.session()
	require.NoError(t, s.TakeOver(t.Context(), ledger.Finish))
	_, j, _ := ready(t, s, plan.Merge, settle.TheirsYours)
	assert.Regexp(t, `^Both fares\n\nAs agreed\.\n\nConflicts, and how they were settled:\n\n- f: theirs, then y`+
		`ours\n\n`+
		`Signed-off-by: .*\n$`, j.Message)
}
