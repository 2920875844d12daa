package hg

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/core/object"
)

// folder is a working folder that a test changes with hg itself.
type folder struct {
	*testing.T
	dir string
}

func newFolder(t *testing.T) *folder {
	if _, err := exec.LookPath("hg"); err != nil {
		t.Skip("hg is not installed")
	}
	t.Setenv("HGRCPATH", "")
	t.Setenv("HGUSER", "Runa Holm <runa@skerry.example>")
	f := &folder{t, t.TempDir()}
	f.hg("init")
	return f
}

func (f *folder) hg(args ...string) string {
	cmd := exec.Command("hg", append([]string{"--config", "extensions.strip="}, args...)...)
	cmd.Dir = f.dir
	out, err := cmd.CombinedOutput()
	require.NoError(f, err, "hg %s: %s", strings.Join(args, " "), out)
	return strings.TrimSpace(string(out))
}

func (f *folder) write(path, text string) {
	full := filepath.Join(f.dir, path)
	require.NoError(f, os.MkdirAll(filepath.Dir(full), 0o755))
	require.NoError(f, os.WriteFile(full, []byte(text), 0o644))
}

func (f *folder) commit(message string) string {
	f.hg("commit", "-A", "-m", message, "-d", "1767261600 -3600")
	return f.hg("log", "-r", ".", "-T", "{node}")
}

func (f *folder) open() *Repo {
	r, err := Open(f.Context(), f.dir)
	require.NoError(f, err)
	f.Cleanup(r.Close)
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
	f := newFolder(t)
	f.write("a.txt", "one\n")
	f.write("d/b.txt", "\x01\nlooks like metadata\n")
	first := f.commit("first\n\nwith a body")
	r := f.open()
	assert.Equal(t, "a file: one\n", text(t, r, first, "a.txt"))
	assert.Equal(t, "a file: \x01\nlooks like metadata\n", text(t, r, first, "d/b.txt"))

	f.hg("mv", "a.txt", "d/c.txt")
	f.hg("branch", "ferry é")
	require.NoError(t, os.Chmod(filepath.Join(f.dir, "d/b.txt"), 0o755))
	require.NoError(t, os.Symlink("b.txt", filepath.Join(f.dir, "d/l")))
	second := f.commit("second")
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
	f.hg("strip", "--no-backup", "-r", ".")
	f.write("e.txt", "e\n")
	third := f.commit("third")
	again, err := Open(t.Context(), f.dir)
	require.NoError(t, err)
	defer again.Close()
	assert.Equal(t, "a file: e\n", text(t, again, third, "e.txt"))
	assert.Equal(t, "a file: one\n", text(t, again, third, "a.txt"))
	b, dirty, err := again.Status(t.Context())
	require.NoError(t, err)
	assert.Equal(t, third, b.Tip.String())
	assert.Empty(t, dirty)
}
