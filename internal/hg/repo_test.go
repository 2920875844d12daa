package hg

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/hgtest"
)

func open(t *testing.T, f *hgtest.Folder) *Repo {
	r, err := Open(t.Context(), f.Dir)
	require.NoError(t, err)
	t.Cleanup(r.Close)
	return r
}

// text is what a commit has at a path, with its mode.
func text(t *testing.T, r *Repo, commit, path string) string {
	store := object.NewOverlay(object.SHA1, r)
	id, err := object.ParseID(commit)
	require.NoError(t, err)
	c, err := store.Commit(t.Context(), id)
	require.NoError(t, err)
	e, err := store.Find(t.Context(), c.Tree, path)
	require.NoError(t, err)
	if e.Absent() {
		return "absent"
	}
	data, err := store.Blob(t.Context(), e.ID)
	require.NoError(t, err)
	return e.Mode.Describe() + ": " + string(data)
}

func TestTheMirrorHasWhatHgHas(t *testing.T) {
	hgtest.Isolate(t)
	f := hgtest.New(t, "Runa Holm <runa@skerry.example>")
	f.Write("a.txt", "one\n")
	f.Write("d/b.txt", "\x01\nlooks like metadata\n")
	first := f.Commit("first\n\nwith a body")
	r := open(t, f)
	assert.Equal(t, "a file: one\n", text(t, r, first, "a.txt"))
	assert.Equal(t, "a file: \x01\nlooks like metadata\n", text(t, r, first, "d/b.txt"))

	f.Hg("mv", "a.txt", "d/c.txt")
	f.Hg("branch", "ferry é")
	require.NoError(t, os.Chmod(filepath.Join(f.Dir, "d/b.txt"), 0o755))
	require.NoError(t, os.Symlink("b.txt", filepath.Join(f.Dir, "d/l")))
	second := f.Commit("second")
	assert.Equal(t, "absent", text(t, r, second, "a.txt"), "another program added it meanwhile")
	assert.Equal(t, "a file: one\n", text(t, r, second, "d/c.txt"))
	assert.Equal(t, "an executable file: \x01\nlooks like metadata\n", text(t, r, second, "d/b.txt"))
	assert.Equal(t, "a symbolic link: b.txt", text(t, r, second, "d/l"))

	id, err := object.ParseID(second)
	require.NoError(t, err)
	_, data, err := r.Read(context.Background(), id)
	require.NoError(t, err)
	c, err := object.ParseCommit(data)
	require.NoError(t, err)
	assert.Equal(t, []object.Header{{Key: "hg-branch", Value: "ferry é"}}, c.Extra)
	assert.Equal(t, "Runa Holm <runa@skerry.example> 1767261600 +0100", c.AuthorLine)
	assert.Equal(t, "second\n", c.Message)
	require.Len(t, c.Parents, 1)
	assert.Equal(t, first, c.Parents[0].String())

	// A revision is stripped and its number is used again.
	f.Hg("strip", "--no-backup", "-r", ".")
	f.Write("e.txt", "e\n")
	third := f.Commit("third")
	again, err := Open(t.Context(), f.Dir)
	require.NoError(t, err)
	defer again.Close()
	assert.Equal(t, "a file: e\n", text(t, again, third, "e.txt"))
	assert.Equal(t, "a file: one\n", text(t, again, third, "a.txt"))
	b, dirty, err := again.Status(t.Context())
	require.NoError(t, err)
	assert.Equal(t, third, b.Tip.String())
	assert.Empty(t, dirty)
}
