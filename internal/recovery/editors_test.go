package recovery

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/plan"
)

// TestFilesThatSeemOpen notices what editors keep beside an open file that the join changes, and
// uncommitted work that was written just now.
func TestFilesThatSeemOpen(t *testing.T) {
	t.Parallel()
	for beside, open := range map[string][]string{"d/.h.swp": {"d/h"}, "d/.#h": {"d/h"}, "d/#h#": {"d/h"}, "f": {"f"},
		"d/.~lock.h#": {"d/h"}, ".g.swp": nil, "d/.other.swp": nil, "d/h.swp": nil, "g": nil} {
		tm := newTeam(t)
		tm.diverge()
		s := tm.session()
		tm.mine.Write(beside, "open\n")
		p, j, _ := ready(t, s, plan.Rebase, settle.TheirsYours)
		got, err := s.WorkTree.Touched(t.Context(), p, j.Tree)
		require.NoError(t, err)
		if beside == "f" {
			assert.Equal(t, open, got.Fresh)
			open = nil
		} else {
			assert.Empty(t, got.Fresh, beside)
		}
		assert.Equal(t, open, got.Open, beside)
		assert.Equal(t, []string{"d/h", "f"}, got.Paths)
		if beside == "f" { // it was written some time ago
			old := time.Now().Add(-time.Hour)
			require.NoError(t, os.Chtimes(filepath.Join(tm.mine.Dir, "f"), old, old))
			got, err = s.WorkTree.Touched(t.Context(), p, j.Tree)
			require.NoError(t, err)
			assert.Empty(t, append(got.Open, got.Fresh...))
		}
	}
}
