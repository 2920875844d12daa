package object

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// shelf is a reader that counts how it is asked.
type shelf struct {
	*Overlay
	many, one int
}

func (s *shelf) Read(ctx context.Context, id ID) (Kind, []byte, error) {
	s.one++
	return s.Overlay.Read(ctx, id)
}

func (s *shelf) ReadMany(ctx context.Context, ids []ID, each func(id ID, kind Kind, data []byte)) {
	s.many += len(ids)
	for _, id := range ids {
		if kind, data, err := s.Overlay.Read(ctx, id); err == nil {
			each(id, kind, data)
		}
	}
}

func TestReadingAhead(t *testing.T) {
	under := &shelf{Overlay: NewOverlay(SHA1, nil)}
	var ids []ID
	for n := range 5 {
		ids = append(ids, under.Put(KindBlob, []byte(fmt.Sprint(n))))
	}
	ids = append(ids, ids[0], ID{}, SHA1.Sum(KindBlob, []byte("nowhere")))
	o := NewOverlay(SHA1, under)
	assert.Equal(t, SHA1, o.Format())
	o.Prefetch(t.Context(), slices.Clone(ids)...)
	assert.Equal(t, 6, under.many, "each once, and no zero id")
	o.Prefetch(t.Context(), slices.Clone(ids[:5])...)
	assert.Equal(t, 6, under.many, "what is known is not asked for")
	for n := range 5 {
		data, err := o.Blob(t.Context(), ids[n])
		require.NoError(t, err)
		assert.Equal(t, fmt.Sprint(n), string(data))
	}
	assert.Zero(t, under.one)
	_, err := o.Blob(t.Context(), ids[7])
	assert.ErrorIs(t, err, ErrMissing)
	large := under.Put(KindBlob, make([]byte, cacheOne+1))
	for range 2 {
		_, err = o.Blob(t.Context(), large)
		require.NoError(t, err)
	}
	assert.Equal(t, 3, under.one, "what is large is not kept")
}

// TestWalking goes through trees together, whichever order git sorts their names in.
func TestWalking(t *testing.T) {
	o := NewOverlay(SHA1, nil)
	tree := func(paths ...string) ID {
		set := map[string]Entry{}
		for _, p := range paths {
			set[p] = Entry{Mode: ModeFile, ID: o.Put(KindBlob, []byte(p))}
		}
		id, err := o.Edit(t.Context(), ID{}, set)
		require.NoError(t, err)
		return id
	}
	a := tree("a", "a.b", "same", "x/y")
	b := tree("a/in", "a.b", "b", "same")
	seen := func(walk func(context.Context, func(string, []Entry) error, ...ID) error, trees ...ID) (out []string) {
		require.NoError(t, walk(t.Context(), func(name string, at []Entry) error {
			kinds := ""
			for _, e := range at {
				kinds += map[bool]string{true: "d", false: "f"}[e.IsTree()]
				if e.Absent() {
					kinds = kinds[:len(kinds)-1] + "-"
				}
			}
			out = append(out, name+" "+kinds)
			return nil
		}, trees...))
		return out
	}
	assert.Equal(t, []string{"a fd", "a.b ff", "b -f", "same ff", "x d-"}, seen(o.Walk, a, b))
	assert.Equal(t, []string{"a fd", "b -f", "x d-"}, seen(o.WalkDifferences, a, b))
	assert.Equal(t, []string{"a f-", "a.b f-", "same f-", "x d-"}, seen(o.Walk, a, ID{}))
	assert.Empty(t, seen(o.WalkDifferences, a, a))
	enough := errors.New("enough")
	assert.ErrorIs(t, o.Walk(t.Context(), func(string, []Entry) error { return enough }, a), enough)
	missing := SHA1.Sum(KindTree, []byte("nowhere"))
	assert.ErrorIs(t, o.Walk(t.Context(), func(string, []Entry) error { return nil }, a, missing), ErrMissing)
	broken := o.Put(KindTree, []byte("100644 x"))
	assert.Error(t, o.Walk(t.Context(), func(string, []Entry) error { return nil }, broken))

	f := NewFinder(o)
	for _, find := range []func(context.Context, ID, string) (Entry, error){o.Find, f.Find} {
		at, err := find(t.Context(), b, "a/in")
		require.NoError(t, err)
		assert.True(t, at.Mode.IsRegular())
		for _, p := range []string{"a/none", "a.b/in", "none/in", "none"} {
			at, err = find(t.Context(), b, p)
			require.NoError(t, err, p)
			assert.True(t, at.Absent(), p)
		}
	}
	assert.Equal(t, o.EmptyTree(), o.PutTree(nil))
}

func TestWordsOfObjects(t *testing.T) {
	for mode, want := range map[Mode]string{ModeFile: "a file", ModeExec: "an executable file", ModeLink: "a link",
		ModeTree:      "a directory",
		ModeSubmodule: "a submodule"} {
		assert.Contains(t, mode.Describe(), want[3:])
	}
	assert.True(t, ModeFile.SameType(ModeExec))
	assert.False(t, ModeFile.SameType(ModeLink))
	c, err := ParseCommit([]byte("tree 4b825dc642cb6eb9a060e54bf8d69288fbee4904\nauthor Runa Holt " +
		"<runa@skerry.example> 60 +0100\ncommitter A <a@x> 1 +0000\n\nFirst line\n\nmore\n"))
	require.NoError(t, err)
	assert.Equal(t, "First line", c.Subject())
	assert.Equal(t, "Runa Holt", c.Author().Name)
	assert.ErrorContains(t, CheckPath("a/.git/config"), "could overwrite a repository's own files")
	for k, name := range kindNames {
		if name != "" {
			parsed, err := ParseKind(Kind(k).String())
			require.NoError(t, err)
			assert.Equal(t, Kind(k), parsed)
		}
	}
	var id ID
	assert.Error(t, id.UnmarshalText([]byte("xyz")))
	require.NoError(t, id.UnmarshalText(nil))
	assert.True(t, id.IsZero())
}

// TestManyAtOnce: many paths are found, and set, as they are one by one.
func TestManyAtOnce(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 8))
	under := NewOverlay(SHA1, nil)
	name := func() string { return string("ab.-c/"[r.IntN(5)]) + fmt.Sprint(r.IntN(12)) }
	path := func() string { return strings.Join([]string{name(), name(), name()}[r.IntN(3):], "/") }
	file := func() Entry {
		return Entry{Mode: ModeFile, ID: under.Put(KindBlob, []byte(fmt.Sprint(r.Int())))}
	}
	var tree ID
	for range 60 {
		set, paths := map[string]Entry{}, map[string]bool{}
		for range 1 + r.IntN(80) {
			p := path()
			paths[p] = true
			if !slices.ContainsFunc(slices.Collect(maps.Keys(set)), func(q string) bool {
				return strings.HasPrefix(q, p+"/") || strings.HasPrefix(p, q+"/") || p == q
			}) {
				set[p] = Entry{}
				if r.IntN(4) > 0 {
					set[p] = file()
				}
			}
		}
		together, err := under.Edit(t.Context(), tree, set)
		require.NoError(t, err)
		for _, p := range slices.Sorted(maps.Keys(set)) {
			tree, err = under.Edit(t.Context(), tree, map[string]Entry{p: set[p]})
			require.NoError(t, err)
		}
		require.Equal(t, tree, together)
		found, err := NewOverlay(SHA1, under).FindAll(t.Context(), tree, slices.Sorted(maps.Keys(paths)))
		require.NoError(t, err)
		for p := range paths {
			want, err := under.Find(t.Context(), tree, p)
			require.NoError(t, err)
			got, ok := found[p]
			assert.Equal(t, want, got, p)
			assert.Equal(t, !want.Absent(), ok, p)
		}
	}
	_, err := under.FindAll(t.Context(), SHA1.Sum(KindTree, []byte("nowhere")), []string{"a"})
	assert.ErrorIs(t, err, ErrMissing)
}

// TestWhatIsAskedForStays: of much more than is kept, what is asked for again and again is read once, and what was not
// asked for long is let go; of small ones little is kept, and of larger ones as many as are read ahead.
func TestWhatIsAskedForStays(t *testing.T) {
	for size, most := range map[int]int{cacheOne - 8: 2 * cacheMost, 100 << 10: 2 * cacheMost,
		2 << 10: 2*cacheHalf + cacheOne} {
		under := &shelf{Overlay: NewOverlay(SHA1, nil)}
		put := func(n int) ID { return under.Put(KindBlob, append(make([]byte, size), fmt.Sprint(n)...)) }
		o := NewOverlay(SHA1, under)
		ask := func(ids ...ID) {
			for _, id := range ids {
				_, err := o.Blob(t.Context(), id)
				require.NoError(t, err)
			}
		}
		often, once := put(0), put(1)
		ask(once)
		others := 3 * most / size
		for n := range others {
			ask(often, put(2+n))
			held := o.bytes
			for _, s := range o.older {
				held += len(s.data)
			}
			require.LessOrEqual(t, held, most, size)
		}
		assert.Equal(t, 2+others, under.one, size)
		ask(once)
		assert.Equal(t, 3+others, under.one, size)
		var ahead []ID
		for n := range readAtOnce {
			ahead = append(ahead, put(-1-n))
		}
		o.Prefetch(t.Context(), slices.Clone(ahead)...)
		if ask(ahead...); size < cacheOne/4 {
			assert.Equal(t, 3+others, under.one, size)
		}
	}
}
