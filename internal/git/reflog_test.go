package git

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/vcs"
)

func TestReflog(t *testing.T) {
	gittest.Isolate(t)
	r, err := Open(t.Context(), gittest.New(t).Dir)
	require.NoError(t, err)
	assert.Empty(t, r.Reflog(t.Context(), "HEAD"), "no commit yet")

	zero, a, b := strings.Repeat("0", 40), strings.Repeat("a", 40), strings.Repeat("b", 40)
	path := filepath.Join(r.GitDir, "logs", "HEAD")
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(t, os.WriteFile(path, []byte(zero+" "+a+" Runa Holm <r@skerry> 1700000000 +0100\tcommit: one\n"+
		"cut short\n"+a+" nothing <r@skerry> 1700000001 +0100\tcommit: two\n"+
		a+" "+b+" <> soon +0100\n"), 0o644))
	one, err := object.ParseID(a)
	require.NoError(t, err)
	two, err := object.ParseID(b)
	require.NoError(t, err)
	assert.Equal(t, []vcs.RefMove{{To: one, When: time.Unix(1700000000, 0), Why: "commit: one"}, {To: two}},
		r.Reflog(t.Context(), "HEAD"))
	assert.Empty(t, r.Reflog(t.Context(), "refs/stash"))
}
