package svn

import (
	"context"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/svntest"
)

var ctx = context.Background()

func open(t *testing.T, c *svntest.Copy) *Repo {
	r, err := Open(ctx, c.Dir)
	require.NoError(t, err)
	t.Cleanup(r.Close)
	return r
}

// scribble makes a random change that svn accepts.
func scribble(c *svntest.Copy, rnd *rand.Rand, n int) {
	paths, dirs := known(c)
	some := func(of []string) string { return of[rnd.IntN(len(of))] }
	name := fmt.Sprintf("n%d", n)
	switch rnd.IntN(12) {
	case 0, 1, 2, 3:
		if len(paths) > 0 {
			path := some(paths)
			if info, err := os.Lstat(filepath.Join(c.Dir, path)); err == nil && info.Mode().IsRegular() {
				c.Write(path, c.Read(path)+fmt.Sprintf("line %d\n", n))
			}
			return
		}
		fallthrough
	case 4:
		path := filepath.Join(some(dirs), name+".txt")
		c.Write(path, fmt.Sprintf("new %d $Rev$\n", n))
		_, _ = c.Try("add", "-q", "--parents", path)
	case 5:
		if len(paths) > 0 {
			_, _ = c.Try("rm", "-q", "--force", some(paths))
		}
	case 6:
		if len(paths) > 0 {
			_, _ = c.Try("mv", "-q", some(paths), filepath.Join(some(dirs), name))
		}
	case 7:
		_, _ = c.Try("cp", "-q", some(dirs[1:]), filepath.Join(some(dirs), name))
	case 8:
		if len(paths) > 0 {
			_, _ = c.Try("propset", "-q", some([]string{"svn:executable", "svn:keywords", "skerry:note"}),
				some([]string{"Rev Id", "other\nlines"}), some(paths))
		}
	case 9:
		_, _ = c.Try("mkdir", "-q", filepath.Join(some(dirs), name))
	case 10:
		_, _ = c.Try("rm", "-q", "--force", some(dirs[1:]))
	case 11:
		link := filepath.Join(some(dirs), name)
		if os.Symlink("target "+name, filepath.Join(c.Dir, link)) == nil {
			_, _ = c.Try("add", "-q", link)
		}
	}
}

// known lists the files and folders that svn knows, the top first and then one that is always there.
func known(c *svntest.Copy) (paths, dirs []string) {
	dirs = []string{".", "keep"}
	_ = filepath.WalkDir(c.Dir, func(full string, d fs.DirEntry, err error) error {
		rel, _ := filepath.Rel(c.Dir, full)
		switch {
		case err != nil || rel == ".":
		case rel == ".svn":
			return filepath.SkipDir
		case d.IsDir():
			dirs = append(dirs, rel)
		default:
			paths = append(paths, rel)
		}
		return nil
	})
	return paths, dirs
}

// treeText lists a tree, or what a folder holds, so that both can be compared.
func treeText(t *testing.T, store *object.Overlay, tree object.ID) string {
	var out []string
	require.NoError(t, store.EachChange(ctx, object.ID{}, tree, func(c object.Change) {
		if _, _, ok := PropertyOf(c.Path); ok {
			return
		}
		data, err := store.Blob(ctx, c.New.ID)
		require.NoError(t, err)
		out = append(out, fmt.Sprintf("%s %o %q", c.Path, c.New.Mode, data))
	}))
	return strings.Join(out, "\n")
}

func exported(t *testing.T, c *svntest.Copy, rev string) string {
	dir := filepath.Join(t.TempDir(), "export")
	c.Svn("export", "-q", "--ignore-keywords", "-r", rev, ".", dir)
	o := object.NewOverlay(object.SHA1, nil)
	set := map[string]object.Entry{}
	require.NoError(t, filepath.WalkDir(dir, func(full string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		rel, _ := filepath.Rel(dir, full)
		info, err := d.Info()
		if err != nil {
			return err
		}
		props := map[string]string{}
		if info.Mode()&0o100 != 0 && info.Mode().IsRegular() {
			props[propExec] = "*"
		}
		set[rel], err = EntryOf(o, full, info, props)
		return err
	}))
	tree, err := edited(ctx, o, object.ID{}, set)
	require.NoError(t, err)
	return treeText(t, o, tree)
}

// TestRevisionsAsSvnHasThem compares, over random revisions, the tree of each with what svn exports of it, and the
// properties of the newest with what svn lists.
func TestRevisionsAsSvnHasThem(t *testing.T) {
	svntest.Isolate(t)
	for seed := range uint64(histories()) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			rnd := rand.New(rand.NewPCG(seed, 29))
			url := svntest.Repository(t)
			theirs := svntest.Checkout(t, url+"/trunk", "ilka")
			theirs.Svn("mkdir", "-q", "keep")
			theirs.Write("keep/a.txt", "one\ntwo\n")
			theirs.Commit("Begin")
			mine := svntest.Checkout(t, url+"/trunk", "runa")
			for n := range 30 {
				for range 1 + rnd.IntN(4) {
					scribble(theirs, rnd, n*10+rnd.IntN(10))
				}
				_, err := theirs.Try("commit", "-q", "-m", fmt.Sprintf("Change %d", n))
				if err != nil {
					theirs.Svn("revert", "-q", "-R", ".")
				}
				theirs.Svn("update", "-q")
				if rnd.IntN(8) == 0 { // yours is of several revisions
					_, dirs := known(mine)
					mine.Svn("update", "-q", dirs[rnd.IntN(len(dirs))])
				}
			}
			r := open(t, mine)
			require.NoError(t, r.Fetch(ctx, repository))
			s, err := r.look(ctx)
			require.NoError(t, err)
			for i, id := range s.course.steps {
				n, err := r.Number(ctx, id)
				require.NoError(t, err)
				c, err := r.store().Commit(ctx, id)
				require.NoError(t, err)
				if !s.course.mixed || i == len(s.course.steps)-1 {
					assert.Equal(t, exported(t, mine, fmt.Sprint(n)), treeText(t, r.store(), c.Tree),
						"revision %d: %s", n,
						mine.Svn("log", "-v", "-r", fmt.Sprint(n)))
				}
				if i == len(s.course.steps)-1 {
					theirs.Svn("update", "-q")
					props, err := r.svn.properties(ctx, theirs.Dir)
					require.NoError(t, err)
					for path, of := range props {
						is, err := Properties(ctx, r.store(), c.Tree, path)
						require.NoError(t, err)
						if _, link := of[propLink]; link {
							delete(of, propExec) // it is not told of links
						}
						assert.Equal(t, of, is, path)
					}
				}
			}
			assert.Empty(t, mine.Svn("status", "-q"))
		})
	}
}

// histories is the number of random histories: few, or as many as a soak asks for.
func histories() int {
	if n, err := strconv.Atoi(os.Getenv("DORVIK_HISTORIES")); err == nil {
		return n
	}
	return 2
}

// TestLooksAtOnce: several programs, and several parts of one, look at a working copy at the same time.
func TestLooksAtOnce(t *testing.T) {
	svntest.Isolate(t)
	url := svntest.Repository(t)
	c := svntest.Checkout(t, url+"/trunk", "runa")
	c.Write("text", "one\n")
	c.Commit("start")
	c.Svn("propset", "-q", "svn:ignore", "*.o", ".")
	var wg sync.WaitGroup
	for range 6 {
		wg.Go(func() {
			r, err := Open(t.Context(), c.Dir)
			if !assert.NoError(t, err) {
				return
			}
			defer r.Close()
			_, _, err = r.Status(t.Context())
			assert.NoError(t, err)
		})
	}
	wg.Wait()
	left, err := filepath.Glob(filepath.Join(c.Dir, ".svn/dorvik/base*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

// TestScratchFoldersOfTheDeadGo: a process that was killed leaves nothing for good.
func TestScratchFoldersOfTheDeadGo(t *testing.T) {
	svntest.Isolate(t)
	url := svntest.Repository(t)
	c := svntest.Checkout(t, url+"/trunk", "runa")
	dead := exec.Command("true")
	require.NoError(t, dead.Run())
	at := filepath.Join(c.Dir, ".svn/dorvik")
	gone := filepath.Join(at, fmt.Sprintf("base-%d-1", dead.Process.Pid))
	stays := filepath.Join(at, fmt.Sprintf("base-%d-1", os.Getpid()))
	require.NoError(t, os.MkdirAll(gone, 0o700))
	require.NoError(t, os.MkdirAll(stays, 0o700))
	r, err := Open(t.Context(), c.Dir)
	require.NoError(t, err)
	r.Close()
	assert.NoDirExists(t, gone)
	assert.DirExists(t, stays)
}
