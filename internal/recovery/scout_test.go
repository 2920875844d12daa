package recovery

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/plan"
)

// TestWhatAScoutFindsIsWhatThereIs: a plan is the same with one and without, whether it looked at what is asked for, at
// something else, or at nothing.
func TestWhatAScoutFindsIsWhatThereIs(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	tm.mine.Commit("start", "go.mod", "module x\n", "a.go", "package x\n\nfunc A() {}\n", "b.go", "package x\n")
	tm.mine.Git("push", "-q")
	tm.other.Git("pull", "-q")
	tm.mine.Commit("uses A", "b.go", "package x\n\nfunc b() { A() }\n")
	tm.other.Commit("renames A", "a.go", "package x\n\nfunc Z() {}\n")
	tm.other.Git("push", "-q")
	tm.mine.Git("fetch", "-q")
	tm.mine.Git("branch", "-q", "elsewhere", "origin/main~1")
	sha256 := gittest.New(t, "--object-format=sha256")
	sha256.Commit("base", "t", "1\n2\n3\n")
	sha256.Git("branch", "-q", "theirs")
	sha256.Commit("yours", "t", "0\n2\n3\n")
	sha256.Git("checkout", "-q", "theirs")
	sha256.Commit("theirs", "t", "1\n2\n4\n")
	sha256.Git("checkout", "-q", "main")
	linked := filepath.Join(t.TempDir(), "linked")
	tm.mine.Git("worktree", "add", "-q", "--detach", linked)
	for _, c := range []struct {
		name, dir, yours, theirs string
		sent, met                bool // a scout was sent out, and had what was asked for
	}{
		{"names", tm.mine.Dir, "main", "origin/main", true, true},
		{"what is most likely", tm.mine.Dir, "", "", true, true},
		{"only theirs", tm.mine.Dir, "", "origin/main", true, true},
		{"what has to be worked out", tm.mine.Dir, "main~0", "origin/main^0", true, false},
		{"nothing to join", tm.mine.Dir, "main", "elsewhere", true, true},
		{"sha256", sha256.Dir, "main", "theirs", true, true},
		{"in another working tree", linked, "main", "origin/main", false, false},
	} {
		ctx := t.Context()
		scouting, err := OpenToPlan(ctx, c.dir, c.yours, c.theirs)
		require.NoError(t, err, c.name)
		defer scouting.Close()
		alone, err := OpenWorkspace(ctx, c.dir)
		require.NoError(t, err, c.name)
		defer alone.Close()
		assert.Equal(t, c.sent, scouting.Planner.Scout != nil, c.name)
		for _, route := range []plan.Route{plan.Merge, plan.Rebase} {
			var trees [2]object.ID
			var misfits [2][]plan.Misfit
			for i, w := range []*Workspace{scouting, alone} {
				p, err := w.Compare(ctx, c.yours, c.theirs, false)
				require.NoError(t, err, c.name)
				j, err := w.Planner.Join(ctx, p, route, &settle.Decisions{}, plan.Amends{}, nil)
				require.NoError(t, err, c.name)
				misfits[i], err = w.Planner.Foresight.Misfits(ctx, p, j)
				require.NoError(t, err, c.name)
				trees[i] = j.Tree
				assert.Equal(t, i == 0 && c.met, w.Planner.Scout.PartOf(p.Yours, p.Theirs) != nil, c.name)
			}
			assert.Equal(t, trees[1], trees[0], c.name)
			assert.Equal(t, misfits[1], misfits[0], c.name)
			if c.name == "names" {
				assert.NotEmpty(t, misfits[0])
			}
		}
	}
	// One that is not done is stopped.
	w, err := OpenToPlan(t.Context(), tm.mine.Dir, "main", "origin/main")
	require.NoError(t, err)
	w.Close()
	<-w.Planner.Scout.Done
	_, err = OpenToPlan(t.Context(), t.TempDir(), "main", "origin/main")
	assert.Error(t, err)
}
