package recovery

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
)

// TestWhatAPullLeftAside finds work that git stashed before a pull and could not bring back, and joins
// it with the files, asking where it must.
func TestWhatAPullLeftAside(t *testing.T) {
	t.Parallel()
	for name, edit := range map[string]func(string) string{
		"":       func(s string) string { return s },
		" again": func(s string) string { return strings.Replace(s, "five", "FIVE", 1) },
	} {
		t.Run("edited"+name, func(t *testing.T) {
			tm := newTeam(t)
			s := tm.session()
			l, err := s.LeftAside(t.Context())
			require.NoError(t, err)
			assert.Nil(t, l)
			tm.other.Commit("theirs", "f", strings.Replace(base, "two", "THEIRS", 1))
			tm.other.Git("push", "-q")
			tm.mine.Write("f", strings.Replace(base, "two", "MINE", 1))
			tm.mine.Write("g", "edited\n")
			tm.mine.Git("add", "g")
			_, _ = tm.mine.Try("pull", "-q", "--rebase", "--autostash")
			require.Contains(t, tm.mine.Git("stash", "list"), "autostash")
			tm.mine.Git("reset", "-q", "--hard")
			tm.mine.Write("f", edit(tm.mine.Read("f")))
			tip, before := tm.mine.Git("rev-parse", "main"), gittest.Files(t, tm.mine.Dir)

			l, err = s.LeftAside(t.Context())
			require.NoError(t, err)
			require.NotNil(t, l)
			assert.Equal(t, []string{"f", "g"}, l.Paths)
			assert.Contains(t, l.Sentence(), "left it in the stash: f and g")
			_, err = s.BringBack(t.Context(), l)
			var asks *change.AsksError
			require.ErrorAs(t, err, &asks)
			assert.Equal(t, before, gittest.Files(t, tm.mine.Dir))
			j, err := s.Planner.Join(t.Context(), asks.Position, "", decisions(s), plan.Amends{}, nil)
			require.NoError(t, err)
			require.NoError(t, s.Decide(settle.Decision{Key: j.Stops[0].Files[0].Questions[0].Key,
				Way: settle.TheirsYours}))
			wp, err := s.BringBack(t.Context(), l)
			require.NoError(t, err)
			assert.Equal(t, edit(strings.Replace(base, "two", "THEIRS\nMINE", 1)), tm.mine.Read("f"))
			assert.Equal(t, " M f\nM  g", tm.mine.Git("status", "--porcelain"))
			assert.Equal(t, tip, tm.mine.Git("rev-parse", "main"))
			l, err = s.LeftAside(t.Context())
			require.NoError(t, err)
			assert.Nil(t, l, "it is back")
			all, err := s.Ledger.Logbook()
			require.NoError(t, err)
			assert.Contains(t, all[0].Sentence(vcs.InGit, "X"), "was brought back")
			_, err = s.Applier.GoBack(t.Context(), wp.Name)
			require.NoError(t, err)
			assert.Equal(t, before, gittest.Files(t, tm.mine.Dir))
		})
	}
}
