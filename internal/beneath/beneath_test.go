package beneath

import (
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestNothingGoesThroughALink tries every call at paths that lead through links: to a folder inside, to one outside, and
// to nothing.
func TestNothingGoesThroughALink(t *testing.T) {
	at, out := t.TempDir(), t.TempDir()
	f := Folder(at)
	require.NoError(t, os.MkdirAll(filepath.Join(at, "real/empty"), 0o755))
	for _, file := range []string{filepath.Join(at, "real/x"), filepath.Join(out, "x")} {
		require.NoError(t, os.WriteFile(file, []byte("kept"), 0o644))
	}
	require.NoError(t, os.Mkdir(filepath.Join(out, "empty"), 0o755))
	for link, to := range map[string]string{"inside": "real", "outside": out, "nowhere": "none"} {
		require.NoError(t, os.Symlink(to, filepath.Join(at, link)))
		_, err := f.Lstat(link + "/x")
		assert.ErrorIs(t, err, syscall.ENOTDIR)
		assert.False(t, f.Has(link+"/x"))
		_, err = f.ReadFile(link + "/x")
		assert.ErrorIs(t, err, syscall.ENOTDIR)
		_, err = f.ReadFile(link)
		assert.ErrorIs(t, err, fs.ErrInvalid)
		_, err = f.Readlink(link + "/x")
		assert.ErrorIs(t, err, syscall.ENOTDIR)
		assert.ErrorIs(t, f.Remove(link+"/x"), syscall.ENOTDIR)
		assert.ErrorIs(t, f.Write(link+"/new", nil, 0o644), syscall.ENOTDIR)
		assert.ErrorIs(t, f.Move(link+"/x", f, "moved"), syscall.ENOTDIR)
		assert.ErrorIs(t, f.Move("real/x", f, link+"/y"), syscall.ENOTDIR)
		f.RemoveEmpty(link + "/empty")
		f.RemoveEmpty(link)
		got, err := f.Readlink(link)
		require.NoError(t, err)
		assert.Equal(t, to, got)
	}
	require.NoError(t, f.Write("caf\xe9/x", []byte("its name is not UTF-8"), 0o644))
	require.NoError(t, f.Move("caf\xe9/x", f, "caf\xe9/y"))
	require.NoError(t, f.Remove("caf\xe9/y"))
	require.NoError(t, f.Remove("caf\xe9"))
	for _, bad := range []string{"", ".", "..", "../x", "/x", "real//x", "real/../x", "a\x00b"} {
		assert.ErrorIs(t, f.Remove(bad), fs.ErrInvalid, bad)
	}
	for _, dir := range []string{filepath.Join(at, "real"), out} {
		list, err := os.ReadDir(dir)
		require.NoError(t, err)
		assert.Len(t, list, 2, "nothing was removed or made")
	}
	assert.NoError(t, f.Remove("outside"), "a link itself can go")
	assert.DirExists(t, out)
}

func TestWriteAndMoveReplaceNothing(t *testing.T) {
	f, g := Folder(t.TempDir()), Folder(t.TempDir())
	require.NoError(t, f.Write("a/b/c", []byte("one"), 0o750))
	info, err := f.Lstat("a/b/c")
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o750), info.Mode().Perm())
	assert.ErrorIs(t, f.Write("a/b/c", []byte("two"), 0o644), ErrTaken)
	require.NoError(t, f.Move("a/b/c", g, "x/y"))
	assert.False(t, f.Has("a/b/c"))
	require.NoError(t, f.Write("a/b/c", []byte("two"), 0o644))
	assert.ErrorIs(t, f.Move("a/b/c", g, "x/y"), ErrTaken)
	for at, want := range map[string]string{"a/b/c": "two"} {
		data, err := f.ReadFile(at)
		require.NoError(t, err)
		assert.Equal(t, want, string(data))
	}
	data, err := g.ReadFile("x/y")
	require.NoError(t, err)
	assert.Equal(t, "one", string(data))
	list, err := os.ReadDir(filepath.Join(string(f), "a/b"))
	require.NoError(t, err)
	assert.Len(t, list, 1, "nothing is left beside")
}

func TestRemoveEmpty(t *testing.T) {
	f := Folder(t.TempDir())
	require.NoError(t, os.MkdirAll(filepath.Join(string(f), "a/b/c"), 0o755))
	require.NoError(t, os.MkdirAll(filepath.Join(string(f), "d/e"), 0o755))
	require.NoError(t, f.Write("d/x", nil, 0o644))
	f.RemoveEmpty("a")
	f.RemoveEmpty("d")
	f.RemoveEmpty("none")
	assert.False(t, f.Has("a"))
	assert.True(t, f.Has("d/x"))
	assert.False(t, f.Has("d/e"), "an empty folder in it goes")
	assert.ErrorIs(t, f.Remove("d"), syscall.ENOTEMPTY)
}
