package recovery

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/rule"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/plan"
)

// What a server refused is looked for before the next push, until the server accepts it.
func TestWhatWasRefusedIsKnownBeforehand(t *testing.T) {
	for name, c := range map[string]struct {
		says          string
		rule          rule.Rule
		what          string // that breaks it
		message, file string // the commit as it is mended
	}{
		"a limit": {"pier.bin is larger than 1 kB", rule.Rule{Kind: rule.Size, Bytes: 1024, Each: true},
			"pier.bin in “Pier”", "Pier", "x"},
		"a pattern": {"the message must match '^#[0-9]+ '", rule.Rule{Kind: rule.Pattern, Text: "^#[0-9]+"}, "“Pier”",
			"#7 Pier", ""},
		"a task": {"the commit message must name a task", rule.Rule{Kind: rule.Task}, "“Pier”", "Pier, see #7", ""},
	} {
		t.Run(name, func(t *testing.T) {
			tm, ctx := newTeam(t), t.Context()
			big := strings.Repeat("x", 3000)
			tm.mine.Commit("Pier", "pier.bin", big)
			tm.refuse(c.says)
			s := tm.session()
			p, err := s.Locate(ctx, true)
			require.NoError(t, err)
			why, err := s.Push.KnownRefusal(ctx, p, p.Yours)
			require.NoError(t, err)
			assert.Empty(t, why)
			done, err := s.Push.Tip(ctx, p, change.Consent{})
			require.NoError(t, err)
			require.NotNil(t, done.Refusal)

			d, err := s.Push.Departure(ctx, p, nil, p.Yours)
			require.NoError(t, err)
			require.Len(t, d.Breaks, 1)
			assert.Equal(t, c.rule, d.Breaks[0].Rule)
			assert.Equal(t, c.what, d.Breaks[0].What())
			why, err = s.Push.KnownRefusal(ctx, p, p.Yours)
			require.NoError(t, err)
			assert.Contains(t, why, c.what+", where it asked for "+c.rule.String())
			through, err := s.GoThrough(ctx, func(string) {})
			require.NoError(t, err)
			assert.Equal(t, why, through.Why, "one key stops before it")

			tm.mine.Write("pier.bin", c.file+strings.Repeat("x", 10))
			if c.file == "" {
				tm.mine.Write("pier.bin", big)
			}
			tm.mine.Git("commit", "-q", "-a", "--amend", "-m", c.message)
			p, err = s.Locate(ctx, true)
			require.NoError(t, err)
			d, err = s.Push.Departure(ctx, p, nil, p.Yours)
			require.NoError(t, err)
			assert.Empty(t, d.Breaks)
			assert.Equal(t, []rule.Rule{c.rule}, d.Keeps)

			// The server changed its mind: what it accepts is no rule any more.
			tm.remote.Git("config", "core.hooksPath", "none")
			tm.mine.Write("pier.bin", big)
			tm.mine.Git("commit", "-q", "-a", "--amend", "-m", "Pier")
			p, err = s.Locate(ctx, true)
			require.NoError(t, err)
			done, err = s.Push.Tip(ctx, p, change.Consent{})
			require.NoError(t, err)
			require.Nil(t, done.Refusal)
			assert.Empty(t, s.Ledger.State().Rules)
		})
	}
}

// A branch that takes no push is told before the next one, until another branch of the remote has the commits.
func TestAProtectedBranchIsKnownBeforehand(t *testing.T) {
	tm, ctx := newTeam(t), t.Context()
	tm.mine.Commit("mine", "m", "m\n")
	tm.refuse("main is a protected branch")
	s := tm.session()
	p, err := s.Locate(ctx, true)
	require.NoError(t, err)
	_, err = s.Push.Tip(ctx, p, change.Consent{})
	require.NoError(t, err)
	tm.remote.Git("config", "core.hooksPath", "none")
	tm.other.Commit("theirs", "o", "o\n")
	tm.other.Git("push", "-q")

	p, j, b := ready(t, s, plan.Rebase, settle.Yours)
	d, err := s.Push.Departure(ctx, p, j, b.Tip)
	require.NoError(t, err)
	assert.True(t, d.Aside, "also before the commits are stored")
	why, err := s.Push.KnownRefusal(ctx, p, b.Tip)
	require.NoError(t, err)
	assert.Equal(t, "a push to origin/main was refused before: the branch is protected: the server accepts no push to "+
		"it from you", why)
	_, err = s.Accept(ctx, p, j, b, change.Consent{})
	require.NoError(t, err)
	p, err = s.Locate(ctx, true)
	require.NoError(t, err)
	done, err := s.Push.Tip(ctx, p, change.Consent{To: "aside"})
	require.NoError(t, err)
	require.Nil(t, done.Refusal)
	p, err = s.Locate(ctx, true)
	require.NoError(t, err)
	d, err = s.Push.Departure(ctx, p, nil, p.Yours)
	require.NoError(t, err)
	assert.False(t, d.Aside)
}
