package recovery

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/plan"
)

// TestRecordsAreTheOwnersAlone checks the permissions of all that Dorvik keeps in the git directory.
func TestRecordsAreTheOwnersAlone(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	tm.mine.Commit("mine", "f", "mine\n")
	tm.other.Commit("theirs", "f", "theirs\n")
	tm.other.Git("push", "-q")
	tm.mine.Write("g", "edited\n")
	s := tm.session()
	_, err := s.Locate(t.Context(), true)
	require.NoError(t, err)
	require.NoError(t, s.Ledger.Carry(true))
	p, j, b := ready(t, s, plan.Merge, settle.Yours)
	_, err = s.Accept(t.Context(), p, j, b, change.Consent{})
	require.NoError(t, err)
	at := filepath.Join(s.Repo.Where().Own, "dorvik")
	info, err := os.Stat(at)
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o700), info.Mode().Perm())
	for _, name := range []string{"busy", "recovery.db"} {
		info, err := os.Stat(filepath.Join(at, name))
		require.NoError(t, err)
		assert.Equal(t, fs.FileMode(0o600), info.Mode().Perm(), name)
	}
}
