package odb

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/gittest"
)

// grown makes a repository of texts that change little from commit to commit, and of a large one.
func grown(t testing.TB, args ...string) *gittest.Repo {
	repo := gittest.New(t, args...)
	var lines []string
	for n := range 400 {
		lines = append(lines, fmt.Sprintf("line %d of the timetable", n))
	}
	for n := range 60 {
		lines[n*5] = fmt.Sprintf("changed in %d", n)
		repo.Commit(fmt.Sprint(n), "timetable", strings.Join(lines, "\n"), fmt.Sprintf("d%d/f", n%7),
			fmt.Sprintf("%d\n", n),
			"large", strings.Repeat(fmt.Sprintf("%d", n), 5000))
	}
	repo.Git("tag", "-a", "-m", "a tag", "v1")
	return repo
}

// all gives every object that git knows of, as git reads it.
func all(t testing.TB, repo *gittest.Repo) map[string][2]string {
	out := map[string][2]string{}
	text := []byte(repo.Git("cat-file", "--batch-all-objects", "--batch", "--unordered") + "\n")
	for len(text) > 1 {
		head, rest, ok := bytes.Cut(text, []byte("\n"))
		require.True(t, ok)
		f := strings.Fields(string(head))
		require.Len(t, f, 3, "%q", head)
		var size int
		_, err := fmt.Sscan(f[2], &size)
		require.NoError(t, err)
		out[f[0]] = [2]string{f[1], string(rest[:size])}
		text = rest[min(len(rest), size+1):]
	}
	return out
}

func objects(repo *gittest.Repo) string { return filepath.Join(repo.Dir, ".git", "objects") }

// TestEveryObject is read as git reads it: loose, packed, in long chains of deltas, in many packs, by a multi-pack index,
// borrowed, and named by SHA-256.
func TestEveryObject(t *testing.T) {
	gittest.Isolate(t)
	for name, make := range map[string]func(t *testing.T) *gittest.Repo{
		"loose": func(t *testing.T) *gittest.Repo { return grown(t) },
		"packed": func(t *testing.T) *gittest.Repo {
			r := grown(t)
			r.Git("repack", "-adfq", "--depth=50", "--window=50")
			return r
		},
		"many packs": func(t *testing.T) *gittest.Repo {
			r := grown(t)
			for n := range 4 {
				r.Commit("more", fmt.Sprint("g", n), "g\n")
				r.Git("repack", "-dq")
			}
			r.Commit("loose", "h", "h\n")
			return r
		},
		"a multi-pack index": func(t *testing.T) *gittest.Repo {
			r := grown(t)
			for n := range 3 {
				r.Git("repack", "-dq")
				r.Commit("more", fmt.Sprint("g", n), "g\n")
			}
			r.Git("repack", "-dq")
			r.Git("multi-pack-index", "write")
			r.Commit("after it", "h", "h\n")
			r.Git("repack", "-dq")
			return r
		},
		"borrowed": func(t *testing.T) *gittest.Repo {
			from := grown(t)
			from.Git("repack", "-adq")
			at := filepath.Join(t.TempDir(), "clone")
			from.Git("clone", "-q", "--shared", from.Dir, at)
			r := gittest.At(t, at)
			r.Git("config", "user.name", "Ada Sund")
			r.Git("config", "user.email", "ada@skerry.example")
			r.Commit("own", "own", "o\n")
			return r
		},
		"sha256": func(t *testing.T) *gittest.Repo {
			r := grown(t, "--object-format=sha256")
			r.Git("repack", "-adfq")
			r.Commit("loose", "h", "h\n")
			return r
		},
	} {
		t.Run(name, func(t *testing.T) {
			repo := make(t)
			format := object.SHA1
			if name == "sha256" {
				format = object.SHA256
			}
			s, err := Open(objects(repo), format)
			require.NoError(t, err)
			want := all(t, repo)
			require.Greater(t, len(want), 200)
			for hex, o := range want {
				id, err := object.ParseID(hex)
				require.NoError(t, err)
				kind, data, err := s.Read(id)
				require.NoError(t, err)
				require.Equal(t, o, [2]string{kind.String(), string(data)}, hex)
			}
			assert.EqualValues(t, len(want), s.Reads())
			var ids []object.ID
			for hex := range want {
				id, err := object.ParseID(hex)
				require.NoError(t, err)
				ids = append(ids, id)
			}
			nowhere := format.Sum(object.KindBlob, []byte("nowhere"))
			var mu sync.Mutex
			held := map[string][]byte{}
			got := map[string][2]string{}
			left := s.ReadMany(append(ids, nowhere), func(id object.ID, kind object.Kind, data []byte) {
				mu.Lock()
				defer mu.Unlock()
				held[id.String()] = data
				got[id.String()] = [2]string{kind.String()}
			})
			for id, data := range held { // only now: what is made meanwhile does not go into their memory
				got[id] = [2]string{got[id][0], string(data)}
			}
			assert.Equal(t, want, got)
			assert.Equal(t, []object.ID{nowhere}, left)
			_, _, err = s.Read(format.Sum(object.KindBlob, []byte("nowhere")))
			assert.ErrorIs(t, err, object.ErrMissing)
		})
	}
}

// TestWhatComesLater: what is written, and packed, after the packs were looked for is found; and while packs are made anew
// and the old ones taken away all is read.
func TestWhatComesLater(t *testing.T) {
	gittest.Isolate(t)
	repo := grown(t)
	repo.Git("repack", "-adq")
	s, err := Open(objects(repo), object.SHA1)
	require.NoError(t, err)
	read := func(rev string) error {
		id, err := object.ParseID(repo.Git("rev-parse", rev))
		require.NoError(t, err)
		_, _, err = s.Read(id)
		return err
	}
	require.NoError(t, read("HEAD"))
	repo.Commit("later", "later", "l\n")
	require.NoError(t, read("HEAD"))
	repo.Git("repack", "-adq")
	repo.Git("prune-packed")
	require.NoError(t, read("HEAD:later"))

	want := all(t, repo)
	var ids []object.ID
	for hex := range want {
		id, err := object.ParseID(hex)
		require.NoError(t, err)
		ids = append(ids, id)
	}
	stop := make(chan struct{})
	var readers sync.WaitGroup
	for range 3 {
		readers.Go(func() {
			for n := 0; ; n++ {
				select {
				case <-stop:
					return
				default:
				}
				id := ids[n%len(ids)]
				_, data, err := s.Read(id)
				if !assert.NoError(t, err) || !assert.Equal(t, want[id.String()][1], string(data)) {
					return
				}
			}
		})
	}
	for n := range 6 {
		repo.Git("repack", "-adfq", fmt.Sprint("--depth=", 1+10*(n%2)))
	}
	close(stop)
	readers.Wait()
}

// TestDamage is an error, and never a wrong answer.
func TestDamage(t *testing.T) {
	gittest.Isolate(t)
	repo := grown(t)
	repo.Git("repack", "-adfq")
	ids := all(t, repo)
	packs, err := filepath.Glob(filepath.Join(objects(repo), "pack", "*"))
	require.NoError(t, err)
	for _, file := range packs {
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		require.NoError(t, os.Chmod(file, 0o644))
		for at := 0; at < len(data); at += 1 + len(data)/12 {
			bad := bytes.Clone(data)
			bad[at] ^= 0x55
			require.NoError(t, os.WriteFile(file, bad, 0o644))
			s, err := Open(objects(repo), object.SHA1)
			require.NoError(t, err)
			for hex, want := range ids {
				id, err := object.ParseID(hex)
				require.NoError(t, err)
				if _, got, err := s.Read(id); err == nil && filepath.Ext(file) == ".pack" {
					require.Equal(t, want[1], string(got), "%s at %d", file, at)
				}
			}
		}
		for _, n := range []int{0, 7, len(data) / 2, len(data) - 1} {
			require.NoError(t, os.WriteFile(file, data[:n], 0o644))
			s, err := Open(objects(repo), object.SHA1)
			require.NoError(t, err)
			for hex := range ids {
				id, err := object.ParseID(hex)
				require.NoError(t, err)
				_, _, _ = s.Read(id)
			}
		}
		require.NoError(t, os.WriteFile(file, data, 0o644))
	}
}

// TestAFileThatIsCutOffWhileItIsMapped is an error, too.
func TestAFileThatIsCutOffWhileItIsMapped(t *testing.T) {
	gittest.Isolate(t)
	repo := grown(t)
	repo.Git("repack", "-adfq")
	s, err := Open(objects(repo), object.SHA1)
	require.NoError(t, err)
	tip, err := object.ParseID(repo.Git("rev-parse", "HEAD"))
	require.NoError(t, err)
	_, _, err = s.Read(tip)
	require.NoError(t, err)
	packs, err := filepath.Glob(filepath.Join(objects(repo), "pack", "*.pack"))
	require.NoError(t, err)
	require.NoError(t, os.Chmod(packs[0], 0o644))
	require.NoError(t, os.Truncate(packs[0], 0))
	tree, err := object.ParseID(repo.Dir[:0] + tip.String())
	require.NoError(t, err)
	_, _, err = s.Read(tree)
	assert.ErrorContains(t, err, "cannot be read at")
}

func TestAlternates(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) string {
		file := filepath.Join(dir, name, "info", "alternates")
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
		return filepath.Join(dir, name)
	}
	b := write("b", "../a\n# none\n\n")
	a := write("a", "../b\n")
	s, err := Open(a, object.SHA1)
	require.NoError(t, err, "they may borrow from each other")
	assert.Equal(t, []string{a, b}, s.dirs)
	_, err = Open(write("c", "\"quoted\"\n"), object.SHA1)
	assert.ErrorContains(t, err, "quoted")
	for n := range 8 {
		write(fmt.Sprint("n", n), fmt.Sprintf("../n%d\n", n+1))
	}
	_, err = Open(filepath.Join(dir, "n0"), object.SHA1)
	assert.ErrorContains(t, err, "more folders than are followed")
}

// FuzzPack reads packs and indexes of any bytes: without a panic, without an end, or with more memory than they warrant.
func FuzzPack(f *testing.F) {
	repo := gittest.New(f)
	var text strings.Builder
	for n := range 6 {
		fmt.Fprintf(&text, "%d of the timetable, as it was\n", n)
		repo.Commit(fmt.Sprint(n), "f", text.String())
	}
	repo.Git("repack", "-adfq", "--depth=5")
	repo.Git("multi-pack-index", "write")
	files, err := filepath.Glob(filepath.Join(objects(repo), "pack", "*.pack"))
	require.NoError(f, err)
	var seed [3][]byte
	for i, name := range []string{files[0], strings.TrimSuffix(files[0], "pack") + "idx",
		filepath.Join(objects(repo), "pack", "multi-pack-index")} {
		seed[i], err = os.ReadFile(name)
		require.NoError(f, err)
	}
	f.Add(seed[0], seed[1], seed[2])
	f.Add(seed[0][:40], seed[1][:1100], seed[2][:80])
	f.Fuzz(func(t *testing.T, packData, indexData, multiData []byte) {
		if len(packData) > 1<<12 {
			return
		}
		s := &Store{format: object.SHA1, bases: newCache()}
		x, err := parseIndex(indexData, object.SHA1)
		if err != nil {
			x = &index{table: table{fanout: make([]byte, 1024), size: 20}}
		}
		p := &pack{format: object.SHA1, index: x, held: &mapped{packData}}
		p.open.Do(func() {})
		if len(packData) < 32 {
			return
		}
		all := &packs{list: []*pack{p}}
		if m, names, err := parseMulti(multiData, object.SHA1); err == nil && len(names) > 0 {
			m.packs = []*pack{p}
			all.multi = []*multi{m}
		}
		for at := int64(0); at < int64(len(packData)); at++ {
			if _, data, err := s.packed(all, p, at, 0); err == nil {
				require.LessOrEqual(t, len(data), largest)
			}
		}
		for i := range min(50, len(x.ids)/20) {
			_, _, _ = s.in(all, object.RawID(x.ids[20*i:20*i+20]))
		}
	})
}

func TestPatch(t *testing.T) {
	base := []byte("the timetable")
	ok, err := patch(nil, base, []byte{13, 9, 0x91, 4, 4, 5, ' ', 'b', 'a', 'r', 's'})
	require.NoError(t, err)
	assert.Equal(t, "time bars", string(ok))
	for _, bad := range [][]byte{nil, {13}, {13, 2}, {13, 1, 2, 'x', 'y'}, {12, 1, 1, 'x'}, {13, 2, 1, 'x'},
		{13, 1, 0}, {13, 1, 2, 'x'}, {13, 1,
			0x91},
		{13, 9, 0x91, 12, 9}, binary.AppendUvarint([]byte{13}, 1<<40)} {
		_, err := patch(nil, base, bad)
		assert.Error(t, err, bad)
	}
}

// TestALargeBaseIsThereWhileSomebodyHasIt: what large deltas stand on is not inflated again, and not kept either.
func TestALargeBaseIsThereWhileSomebodyHasIt(t *testing.T) {
	gittest.Isolate(t)
	repo := gittest.New(t)
	var text strings.Builder
	for n := range 60_000 {
		fmt.Fprintf(&text, "line %d of the timetable\n", n*n)
	}
	repo.Commit("one", "large", text.String())
	repo.Commit("two", "large", text.String()+"more\n")
	repo.Git("repack", "-adqf")
	s, err := Open(objects(repo), object.SHA1)
	require.NoError(t, err)
	read := func(rev string) []byte {
		id, err := object.ParseID(repo.Git("rev-parse", rev+":large"))
		require.NoError(t, err)
		_, data, err := s.Read(id)
		require.NoError(t, err)
		return data
	}
	old, now := read("HEAD^"), read("HEAD")
	require.Greater(t, len(old), cacheOne)
	assert.Same(t, &old[0], &read("HEAD^")[0])
	assert.Same(t, &now[0], &read("HEAD")[0])
	assert.Zero(t, s.bases.bytes, "nothing of that is kept")
	want := string(old)
	runtime.KeepAlive(now)
	old, now = nil, nil
	runtime.GC()
	assert.Equal(t, want, string(read("HEAD^")))
	assert.Equal(t, want+"more\n", string(read("HEAD")))
}
