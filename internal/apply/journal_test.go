package apply

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/workdir"
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
		tr := &Transition{Kind: change.Accepting, Branch: "main", From: object.ID{}, Turned: false,
			Lay: &Lay{Paths: []string{"f"}}}
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
				damaged := (*workdir.JournalError)(nil)
				require.ErrorAs(t, err, &damaged, "byte %d, bit %d", i, bit)
				assert.Equal(t, path, damaged.Path)
			}
		}
		require.NoError(t, tr.erase(dir))
	}
}
