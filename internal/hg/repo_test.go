package hg

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/hgtest"
	"dorvik.dev/dorvik/internal/vcs"
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

// TestWithoutHg says what is missing in one sentence.
func TestWithoutHg(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, ".hg"), 0o755))
	t.Setenv("PATH", t.TempDir())
	_, err := Open(t.Context(), dir)
	require.ErrorIs(t, err, ErrNoProgram)
}

// TestStorageThatIsNotRead names it, before anything is asked.
func TestStorageThatIsNotRead(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, ".hg", "store"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, ".hg", "requires"), []byte("share-safe\n"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, ".hg", "store", "requires"), []byte("store\ntreemanifest\n"),
		0o644))
	_, err := Open(t.Context(), dir)
	require.ErrorContains(t, err, "this repository has manifests as trees, which Dorvik cannot read")
}

// TestAMirrorThatWasCutOff: what an interrupted import appended is not read, and a removed mirror is made again.
func TestAMirrorThatWasCutOff(t *testing.T) {
	hgtest.Isolate(t)
	f := hgtest.New(t, "Runa Holm <runa@skerry.example>")
	f.Write("a.txt", "one\n")
	first := f.Commit("first")
	open(t, f)
	files := filepath.Join(f.Dir, ".hg", "dorvik", "mirror", "files")
	data, err := os.ReadFile(files)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(files, append(data, "half a record"...), 0o600))
	f.Write("a.txt", "two\n")
	second := f.Commit("second")
	r := open(t, f)
	assert.Equal(t, "a file: one\n", text(t, r, first, "a.txt"))
	assert.Equal(t, "a file: two\n", text(t, r, second, "a.txt"))
	require.NoError(t, os.RemoveAll(filepath.Dir(files)))
	assert.Equal(t, "a file: two\n", text(t, open(t, f), second, "a.txt"))
}

// TestWhatAnotherProcessAppendsStays: making changesets reads the lists of the mirror while another process adds to
// them.
func TestWhatAnotherProcessAppendsStays(t *testing.T) {
	hgtest.Isolate(t)
	f := hgtest.New(t, "Runa Holm <runa@skerry.example>")
	f.Write("a.txt", "one\n")
	tip, err := object.ParseID(f.Commit("first"))
	require.NoError(t, err)
	r, ctx := open(t, f), t.Context()
	var had [][]byte
	lists := []string{"files", "changesets", "copies"}
	for _, name := range lists {
		file := filepath.Join(f.Dir, ".hg", "dorvik", "mirror", name)
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		had = append(had, append(data, "half a record"...))
		require.NoError(t, os.WriteFile(file, had[len(had)-1], 0o600))
	}
	o := object.NewOverlay(object.SHA1, r)
	c, err := o.Commit(ctx, tip)
	require.NoError(t, err)
	c.Parents, c.Message = []object.ID{tip}, "second\n"
	made, err := r.Make(ctx, o, []object.ID{o.PutCommit(c)}, nil, nil,
		filepath.Join(t.TempDir(), "made.hg"))
	require.NoError(t, err)
	assert.Len(t, made.Nodes, 1)
	for i, name := range lists {
		data, err := os.ReadFile(filepath.Join(f.Dir, ".hg", "dorvik", "mirror", name))
		require.NoError(t, err)
		assert.Equal(t, string(had[i]), string(data), name)
	}
}

// TestSettingsAreWrittenAndRead edits the repository's hgrc without disturbing the rest of it.
func TestSettingsAreWrittenAndRead(t *testing.T) {
	hgtest.Isolate(t)
	f := hgtest.New(t, "Runa Holm <runa@skerry.example>")
	file := filepath.Join(f.Dir, ".hg", "hgrc")
	require.NoError(t, os.WriteFile(file, []byte(
		"# mine\n[ui]\nusername = Runa Holm <runa@skerry.example>\n[dorvik]\ncheck = make\n"+
			"  test\n# kept\ntasks = t\n"), 0o644))
	r := open(t, f)
	ctx := t.Context()
	require.NoError(t, r.SetConfig(ctx, "dorvik.check", "sh check.sh"))
	require.NoError(t, r.SetConfig(ctx, "dorvik.fetchEvery", "5"))
	require.NoError(t, r.UnsetConfig(ctx, "dorvik.tasks"))
	require.Error(t, r.SetConfig(ctx, "dorvik.check", "two\nlines"))
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, "# mine\n[ui]\nusername = Runa Holm <runa@skerry.example>\n[dorvik]\n# kept\ncheck = sh check.sh\n"+
		"fetchEvery = 5\n", string(data))
	every, err := r.Duration(ctx, "dorvik.fetchEvery")
	require.NoError(t, err)
	assert.Equal(t, 5*time.Minute, every)
	list, err := r.Values(ctx, `^dorvik\.`, true)
	require.NoError(t, err)
	assert.Equal(t, []vcs.Setting{{Name: "dorvik.check", Value: "sh check.sh"}, {Name: "dorvik.fetchevery",
		Value: "5"}}, list)
	who, err := r.Committer(ctx)
	require.NoError(t, err)
	assert.Equal(t, "runa@skerry.example", who.Email)
}

// TestACheckoutIsCompleteOrFails: a file that cannot be written is told.
func TestACheckoutIsCompleteOrFails(t *testing.T) {
	hgtest.Isolate(t)
	f := hgtest.New(t, "Runa Holm <runa@skerry.example>")
	r, ctx := open(t, f), t.Context()
	o := object.NewOverlay(object.SHA1, r)
	who, err := r.Committer(ctx)
	require.NoError(t, err)
	commit := func(content object.ID) object.ID {
		return o.PutCommit(&object.Commit{Committer: who, AuthorLine: who.String(), Message: "fares\n",
			Tree: o.PutTree([]object.Entry{{Name: "fares.txt", Mode: object.ModeFile, ID: content}})})
	}
	whole := commit(o.Put(object.KindBlob, []byte("12\n")))
	damaged := commit(object.SHA1.Sum(object.KindBlob, []byte("lost")))
	require.NoError(t, r.Keep(ctx, o, whole, damaged))

	c, err := r.OpenCheckout(ctx, "joined", whole)
	require.NoError(t, err)
	data, err := os.ReadFile(filepath.Join(c.Dir, "fares.txt"))
	require.NoError(t, err)
	assert.Equal(t, "12\n", string(data))
	changed, err := r.ChangedIn(ctx, c)
	require.NoError(t, err)
	assert.Empty(t, changed)

	_, err = r.OpenCheckout(ctx, "joined", damaged)
	require.ErrorIs(t, err, object.ErrMissing)
}

// TestHalfAListOfWhatToCutOff: an hg that removed changesets was killed while it wrote which files it cuts off, and had
// cut off none. Going by half of the list would leave files of changesets that are gone.
func TestHalfAListOfWhatToCutOff(t *testing.T) {
	hgtest.Isolate(t)
	f := hgtest.New(t, "Runa Holm <runa@skerry.example>")
	f.Write("a", "one\n")
	f.Commit("first")
	cut, err := os.Stat(filepath.Join(f.Dir, ".hg/store/00changelog.i"))
	require.NoError(t, err)
	f.Write("a", "two\n")
	f.Commit("second")
	f.Stop()
	r := open(t, f)
	rest := filepath.Join(t.TempDir(), "rest.hg")
	begin := func() {
		require.NoError(t, os.WriteFile(rest+begunSuffix, []byte(r.historySize()), 0o644))
		require.NoError(t, os.WriteFile(filepath.Join(f.Dir, ".hg/store/journal"),
			fmt.Appendf(nil, "00changelog.i\x00%d\n", cut.Size()), 0o644))
	}
	begin()
	require.NoError(t, r.Refill(t.Context(), rest))
	f.Sound()
	assert.Equal(t, "second first ", f.Hg("log", "-T", "{desc} "))
	assert.NoFileExists(t, rest+begunSuffix)

	begin() // and what cannot be put in order is told
	require.NoError(t, os.WriteFile(rest+begunSuffix, []byte("another size"), 0o644))
	assert.ErrorAs(t, r.Refill(t.Context(), rest), new(*DamageError))
}
