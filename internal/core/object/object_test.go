package object

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"dorvik.dev/dorvik/internal/gittest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestIDs(t *testing.T) {
	for _, f := range []string{"sha1", "sha256"} {
		git := gittest.New(t, "--object-format="+f)
		format, err := ParseFormat(f)
		require.NoError(t, err)
		git.Write("x", "hello\n")
		id := format.Sum(KindBlob, []byte("hello\n"))
		assert.Equal(t, git.Git("hash-object", "x"), id.String())
		again, err := ParseID(id.String())
		require.NoError(t, err)
		assert.Equal(t, id, again)
		text, err := id.MarshalText()
		require.NoError(t, err)
		var back ID
		require.NoError(t, back.UnmarshalText(text))
		assert.Equal(t, id, back)
		assert.Equal(t, id.String()[:7], id.Prefix(7))
		assert.Equal(t, id.String(), id.Prefix(1000))
	}
	for _, bad := range []string{"", "xyz", "12", strings.Repeat("a", 41), strings.Repeat("g", 40)} {
		_, err := ParseID(bad)
		assert.Error(t, err, bad)
	}
	_, err := ParseFormat("md5")
	assert.Error(t, err)
	_, err = ParseKind("blub")
	assert.Error(t, err)
}

// TestPackIsReadByGit makes trees, blobs and commits in memory in both formats
// and has git check the pack.
func TestPackIsReadByGit(t *testing.T) {
	for _, f := range []Format{SHA1, SHA256} {
		git := gittest.New(t, "--object-format="+map[Format]string{SHA1: "sha1", SHA256: "sha256"}[f])
		o := NewOverlay(f, nil)
		set := map[string]Entry{}
		r := rand.New(rand.NewPCG(1, 1))
		for i := range 200 {
			text := strings.Repeat("x", r.IntN(5000))
			set[fmt.Sprintf("d%d/f%d", i%7, i)] = Entry{Mode: ModeFile, ID: o.Put(KindBlob, []byte(text))}
		}
		set["a.b"] = Entry{Mode: ModeExec, ID: o.Put(KindBlob, []byte("#!"))}
		set["a/x"] = Entry{Mode: ModeLink, ID: o.Put(KindBlob, []byte("../a.b"))}
		tree, err := o.Edit(t.Context(), ID{}, set)
		require.NoError(t, err)
		who := Signature{"Ada Sund", "ada@skerry.example", 1767000000, "+0100"}
		first := o.PutCommit(&Commit{Tree: tree, AuthorLine: who.String(), Committer: who, Message: "one\n"})
		tip := o.PutCommit(&Commit{Tree: tree, Parents: []ID{first}, AuthorLine: who.String(), Committer: who,
			Extra: []Header{{"encoding", "latin1"}, {"note", "two\nlines"}}, Message: "two\n"})
		o.Put(KindBlob, []byte("nobody leads here"))

		var pack bytes.Buffer
		n, err := o.WritePack(t.Context(), &pack, tip)
		require.NoError(t, err)
		out, err := git.TryInput(pack.Bytes(), "index-pack", "--stdin", "--strict")
		require.NoError(t, err, out)
		git.Git("update-ref", "refs/heads/main", tip.String())
		git.Git("fsck", "--strict")
		assert.Equal(t, git.Git("rev-list", "--objects", "--count", "main"), fmt.Sprint(n),
			"nothing more, nothing less")
		assert.Equal(t, "100755", strings.Fields(git.Git("ls-tree", "main", "a.b"))[0])

		c, err := o.Commit(t.Context(), tip)
		require.NoError(t, err)
		assert.Equal(t, "latin1", c.Encoding())
		assert.Equal(t, "two\nlines", c.Extra[1].Value)
		assert.Equal(t, []ID{first}, c.Parents)
		assert.Equal(t, tip, f.Sum(KindCommit, c.Encode()), "read and written, a commit is the same")

		pack.Reset()
		n, err = NewOverlay(f, o).WritePack(t.Context(), &pack, tip)
		require.NoError(t, err)
		assert.Zero(t, n+pack.Len(), "what lies below is not packed")
	}
}

func TestBrokenObjects(t *testing.T) {
	for _, bad := range []string{"100644", "100644 a", "100644 a\x00short", "9 a\x00" + strings.Repeat("i", 20),
		"0 a\x00" + strings.Repeat("i", 20),
		"100644 \x00" + strings.Repeat("i", 20), "100644 a/b\x00" + strings.Repeat("i", 20)} {
		_, err := parseTree(SHA1, []byte(bad))
		assert.Error(t, err, "%q", bad)
	}
	for _, bad := range []string{"", "tree x\n\n", "author A\n\nx", "tree " + strings.Repeat("a", 40) +
		"\nparent 12\n\n"} {
		_, err := ParseCommit([]byte(bad))
		assert.Error(t, err, "%q", bad)
	}
	o := NewOverlay(SHA1, nil)
	blob := o.Put(KindBlob, []byte("x"))
	_, err := o.Tree(t.Context(), blob)
	assert.ErrorContains(t, err, "is a blob where a tree is expected")
	_, err = o.Blob(t.Context(), SHA1.Sum(KindBlob, []byte("y")))
	assert.ErrorIs(t, err, ErrMissing)
}

// TestNamesAreRefusedAsGitRefusesThem asks git about each name.
func TestNamesAreRefusedAsGitRefusesThem(t *testing.T) {
	git := gittest.New(t)
	git.Write("x", "x")
	id := git.Git("hash-object", "-w", "x")
	for _, name := range []string{"a", ".g", ".gitignore", ".gitx", "git", "git~2", "...", ".git", ".GIT", ".Git ",
		".git.", ".git . .", "git~1", "GIT~1", ".git:x",
		".g\u200cit", "\ufeff.git", ".g\u00efit", ".", "..", "a.git", ".git-x"} {
		for _, path := range []string{name, "d/" + name, name + "/f"} {
			_, err := git.Try("-c", "core.protectHFS=true", "-c", "core.protectNTFS=true", "update-index", "--add",
				"--cacheinfo", "100644,"+id+","+path)
			_, _ = git.Try("update-index", "--force-remove", path)
			if err != nil {
				assert.Error(t, CheckPath(path), "%q", path)
			} else {
				assert.NoError(t, CheckPath(path), "%q", path)
			}
		}
	}
}

func TestSignature(t *testing.T) {
	for in, want := range map[string]Signature{
		"A B <a@b> 12 +0130":       {"A B", "a@b", 12, "+0130"},
		"<a@b> 12 +0000":           {"", "a@b", 12, "+0000"},
		"A <a@b>":                  {"A", "a@b", 0, ""},
		"A <odd <x>> 5 -0800":      {"A", "odd <x>", 5, "-0800"},
		"no mail at all":           {"no mail at all", "", 0, ""},
		"A <a@b> notanumber +0000": {"A", "a@b", 0, "+0000"},
	} {
		assert.Equal(t, want, ParseSignature(in))
	}
	assert.Equal(t, "01:30", ParseSignature("A <a> 0 +0130").Time().Format("15:04"))
	assert.Equal(t, "00:00", ParseSignature("A <a> 0 gibberish").Time().Format("15:04"))
}

func TestEdit(t *testing.T) {
	o := NewOverlay(SHA1, nil)
	x := Entry{Mode: ModeFile, ID: o.Put(KindBlob, []byte("x"))}
	tree, err := o.Edit(t.Context(), ID{}, map[string]Entry{"a/b/c": x, "a/d": x, "e": x})
	require.NoError(t, err)
	for _, c := range []struct {
		name string
		set  map[string]Entry
		want []string
	}{
		{"nothing", nil, []string{"a/b/c", "a/d", "e"}},
		{"an emptied directory goes", map[string]Entry{"a/b/c": {}}, []string{"a/d", "e"}},
		{"file to directory", map[string]Entry{"e": {}, "e/f": x}, []string{"a/b/c", "a/d", "e/f"}},
		{"a name that sorts between a file and a directory of one name", map[string]Entry{"e": {}, "e.x": x,
			"e/f": x}, []string{"a/b/c", "a/d", "e.x", "e/f"}},
		{"directory to file", map[string]Entry{"a": x}, []string{"a", "e"}},
		{"directory removed whole", map[string]Entry{"a": {}}, []string{"e"}},
		{"all removed", map[string]Entry{"a": {}, "e": {}}, nil},
		{"removing what is not there", map[string]Entry{"q": {}, "q/r/s": {}}, []string{"a/b/c", "a/d", "e"}},
	} {
		id, err := o.Edit(t.Context(), tree, c.set)
		require.NoError(t, err, c.name)
		changes, err := o.Changes(t.Context(), ID{}, id)
		require.NoError(t, err, c.name)
		var got []string
		for _, ch := range changes {
			got = append(got, ch.Path)
		}
		assert.Equal(t, c.want, got, c.name)
	}
}

func FuzzParseTree(f *testing.F) {
	f.Add([]byte("100644 a\x0012345678901234567890"))
	f.Fuzz(func(t *testing.T, data []byte) {
		entries, err := parseTree(SHA1, data)
		if err == nil {
			again, err := parseTree(SHA1, encodeTree(entries))
			require.NoError(t, err)
			assert.Len(t, again, len(entries))
		}
	})
}

// large is a reader of contents that are too large to be kept, which counts how often it is asked.
type large struct{ asked map[ID]int }

func (l large) Read(ctx context.Context, id ID) (Kind, []byte, error) {
	l.asked[id]++
	return KindBlob, make([]byte, cacheOne+1), nil
}

func (l large) ReadMany(ctx context.Context, ids []ID, each func(id ID, kind Kind, data []byte)) {
	for _, id := range ids {
		kind, data, _ := l.Read(ctx, id) // it never fails
		each(id, kind, data)
	}
}

// TestWhatIsReadAheadIsReadOnce, however large; and what nobody asks for is discarded.
func TestWhatIsReadAheadIsReadOnce(t *testing.T) {
	under := large{map[ID]int{}}
	o := NewOverlay(SHA1, under)
	a, b := SHA1.Sum(KindBlob, []byte("a")), SHA1.Sum(KindBlob, []byte("b"))
	o.Prefetch(t.Context(), a, b)
	o.Prefetch(t.Context(), a, b)
	for range 2 {
		_, err := o.Text(t.Context(), a)
		require.NoError(t, err)
	}
	assert.Equal(t, map[ID]int{a: 2, b: 1}, under.asked, "the second time it is read again")
	assert.Equal(t, cacheOne+1, o.large)
	o.Release()
	assert.Zero(t, o.large)
	_, err := o.Blob(t.Context(), b)
	require.NoError(t, err)
	assert.Equal(t, 2, under.asked[b])
}

// TestModesOfOldTrees: git counts one bit of a file's mode, and writes the modes of today in any tree that it makes.
func TestModesOfOldTrees(t *testing.T) {
	o := NewOverlay(SHA1, nil)
	id := o.Put(KindBlob, []byte("x\n"))
	raw := func(modes ...string) []byte {
		var b []byte
		for i, m := range modes {
			b = append(b, fmt.Sprintf("%s %c\x00", m, 'a'+i)...)
			b = append(b, id.raw...)
		}
		return b
	}
	old := o.Put(KindTree, raw("100664", "100775", "120000", "100600"))
	entries, err := o.Tree(t.Context(), old)
	require.NoError(t, err)
	var modes []Mode
	for _, e := range entries {
		modes = append(modes, e.Mode)
	}
	assert.Equal(t, []Mode{ModeFile, ModeExec, ModeLink, ModeFile}, modes)
	changes, err := o.Changes(t.Context(), old, o.Put(KindTree, raw("100644", "100755", "120000", "100644")))
	require.NoError(t, err)
	assert.Empty(t, changes, "only the way of writing differs")
	edited, err := o.Edit(t.Context(), old, map[string]Entry{"e": {Mode: ModeFile, ID: id}})
	require.NoError(t, err)
	assert.Equal(t, o.Put(KindTree, raw("100644", "100755", "120000", "100644", "100644")), edited)
}
