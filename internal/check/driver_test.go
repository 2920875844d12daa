package check

import (
	"context"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestDrivers(t *testing.T) {
	for _, c := range []struct {
		name, command, path, want, err string
		ok                             bool
	}{
		{"joins", "cat %O %B >> %A; printf '%s\n' %L >> %A", "f", "y\nb\nt\n9\n", "", true},
		{"is told the path, whatever is in it", "printf '%%s' %P > %A", "it's $HOME; x", "it's $HOME; x", "", true},
		{"leaves it to a person", "exit 1", "f", "", "", false},
		{"fails", "echo out of order; exit 129", "f", "", "out of order", false},
		{"is not there", "exec /nowhere/driver", "f", "", "", false},
		{"takes too long", "sleep 60", "f", "", "took longer than", false},
		{"takes its file away", "rm %A", "f", "", "no such file", false},
	} {
		limit := 20 * time.Second
		if c.err == "took longer than" {
			limit = 50 * time.Millisecond
		}
		got, ok, err := Drive(t.Context(), limit, t.TempDir(), c.command, c.path, 9, []byte("b\n"), []byte("y\n"),
			[]byte("t\n"))
		assert.Equal(t, c.ok, ok, c.name)
		if c.err != "" {
			assert.ErrorContains(t, err, c.err, c.name)
			continue
		}
		require.NoError(t, err, c.name)
		assert.Equal(t, c.want, string(got), c.name)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, _, err := Drive(ctx, time.Minute, t.TempDir(), "sleep 60", "f", 7, nil, nil, nil)
	assert.ErrorIs(t, err, context.Canceled)
	t.Setenv("TMPDIR", "/nowhere")
	require.NoDirExists(t, os.TempDir())
	_, _, err = Drive(t.Context(), time.Minute, "", "true", "f", 7, nil, nil, nil)
	assert.ErrorContains(t, err, "running a merge driver")
}
