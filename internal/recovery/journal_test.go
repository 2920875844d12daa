package recovery

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
)

// TestAJournalWithOneBitFlippedIsDamaged flips each bit of a journal. None of what comes of it is read as a transition.
func TestAJournalWithOneBitFlippedIsDamaged(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "dorvik"), 0o700))
	is, err := readJournal(dir)
	require.NoError(t, err)
	assert.Nil(t, is)
	for _, turned := range []bool{false, true} {
		tr := &Transition{Kind: Accepting, Branch: "main", From: object.ID{}, Turned: false, Lay: &Lay{Paths: []string{"f"}}}
		require.NoError(t, tr.write(dir))
		if turned {
			require.NoError(t, tr.turn(dir))
			require.NoError(t, tr.turn(dir), "it is turned already")
		}
		path := tr.journal(dir)
		whole, err := os.ReadFile(path)
		require.NoError(t, err)
		is, err := readJournal(dir)
		require.NoError(t, err)
		assert.Equal(t, tr, is)
		for i := range whole {
			for bit := range 8 {
				data := append([]byte(nil), whole...)
				data[i] ^= 1 << bit
				require.NoError(t, os.WriteFile(path, data, 0o600))
				is, err := readJournal(dir)
				assert.Nil(t, is)
				damaged := (*JournalError)(nil)
				require.ErrorAs(t, err, &damaged, "byte %d, bit %d", i, bit)
				assert.Equal(t, path, damaged.Path)
			}
		}
		require.NoError(t, tr.erase(dir))
	}
}

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
	require.NoError(t, s.Carry(true))
	p, j, b := ready(t, s, Merge, settle.Yours)
	_, err = s.Accept(t.Context(), p, j, b, Consent{})
	require.NoError(t, err)
	at := filepath.Join(s.Repo.GitDir, "dorvik")
	info, err := os.Stat(at)
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o700), info.Mode().Perm())
	for _, name := range []string{"busy", "recovery.db"} {
		info, err := os.Stat(filepath.Join(at, name))
		require.NoError(t, err)
		assert.Equal(t, fs.FileMode(0o600), info.Mode().Perm(), name)
	}
}
