package recovery

import (
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
)

// TestTwoWorkingTreesTakeNamesOfOneRow joins in two working trees of one repository, one after the other and at once.
// No waypoint has the name of another, and each can be gone back to.
func TestTwoWorkingTreesTakeNamesOfOneRow(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	tm.diverge()
	tm.mine.Git("fetch", "-q")
	var trees []*gittest.Repo
	for i := range 2 {
		dir := filepath.Join(t.TempDir(), "tree")
		tm.mine.Git("worktree", "add", "-q", "-b", fmt.Sprint("b", i), dir, "main")
		r := gittest.At(t, dir)
		r.Git("branch", "-q", "--set-upstream-to=origin/main")
		trees = append(trees, r)
	}
	var sessions []*Session
	for _, r := range trees {
		sessions = append(sessions, openAgain(t, r.Dir))
	}
	var names [2]string
	for round := range 3 {
		var all sync.WaitGroup
		for i, s := range sessions {
			join := func() {
				p, j, b := ready(t, s, plan.Merge, settle.Yours)
				wp, err := s.Accept(t.Context(), p, j, b, change.Consent{})
				if assert.NoError(t, err) {
					names[i] = wp.Name
				}
			}
			if round == 0 {
				join()
			} else {
				all.Go(join)
			}
		}
		all.Wait()
		require.NotEqual(t, names[0], names[1])
		for i, s := range sessions {
			list, err := s.Ledger.Waypoints()
			require.NoError(t, err)
			assert.Len(t, list, round+1, "none that never was")
			_, err = s.Applier.GoBack(t.Context(), names[i])
			require.NoError(t, err)
			assert.Equal(t, tm.mine.Git("rev-parse", "main"), trees[i].Git("rev-parse", "HEAD"))
		}
	}
}

// TestWhatAChangeMakesIsKept has git gc prune at once between all steps of changes, and of taking them back.
func TestWhatAChangeMakesIsKept(t *testing.T) {
	was := ledger.Step
	t.Cleanup(func() { ledger.Step = was })
	for name, h := range map[string]*harbour{"laden": newLadenHarbour(t), "aside": newAsideHarbour(t),
		"stuck": newStuckHarbour(t,
			"finish"), "given back": newStuckHarbour(t, "back"), "returned": newReturnHarbour(t)} {
		if os.Getenv("DORVIK_FILES") == "" && name != "laden" && name != "stuck" {
			continue // for the soak
		}
		r := gittest.At(t, h.dir)
		gc := func() { r.Git("gc", "-q", "--prune=now") }
		steps := 0
		ledger.Step = func(string) error { steps++; gc(); return nil }
		for _, what := range []string{h.act, "undo", h.act} {
			require.NoError(t, act(h.dir, what), "%s: %s", name, what)
		}
		assert.Greater(t, steps, 20)
		gc()
		r.Git("fsck", "--full")
		assert.Equal(t, h.after, gittest.Files(t, h.dir), name)
		kept, _ := filepath.Glob(filepath.Join(h.dir, ".git/objects/pack/*.keep"))
		assert.Empty(t, kept, name)
		ledger.Step = was
	}
}
