package watch

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWritten(t *testing.T) {
	dir := t.TempDir()
	file, other := filepath.Join(dir, "new"), filepath.Join(dir, "other")
	for name, write := range map[string]func() error{
		"a new file":           func() error { return os.WriteFile(file, nil, 0o600) },
		"one that is there":    func() error { return os.WriteFile(file, []byte("more"), 0o600) },
		"one that replaces it": func() error { return os.Rename(other, file) },
	} {
		require.NoError(t, os.WriteFile(other, nil, 0o600))
		done := make(chan error, 1)
		go func() { done <- Written(t.Context(), []string{file, filepath.Join(dir, "missing", "x")}) }()
		for told := false; !told; { // it may not watch yet
			require.NoError(t, os.WriteFile(other, []byte("nobody asked"), 0o600))
			require.NoError(t, write(), name)
			select {
			case err := <-done:
				assert.NoError(t, err, name)
				told = true
			case <-time.After(20 * time.Millisecond):
			}
		}
	}
	assert.ErrorContains(t, Written(t.Context(), []string{filepath.Join(dir, "missing", "x")}), "none of their folders")
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	assert.ErrorIs(t, Written(ended, []string{other}), context.Canceled)
}
