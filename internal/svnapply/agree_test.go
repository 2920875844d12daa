package svnapply_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/applytest"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/svntest"
)

// TestUpdatesAgreeWithSvn joins random changes with random revisions, and has svn update do the same in a copy. Where
// both ask nothing, the files are the same. An undo leaves everything as it was.
func TestUpdatesAgreeWithSvn(t *testing.T) {
	svntest.Isolate(t)
	many, seed := asked()
	rnd := rand.New(rand.NewPCG(seed, 29))
	url := svntest.Repository(t)
	tally := map[string]int{}
	for n := range many {
		line := fmt.Sprintf("%s/branches/b%d", url, n)
		ilka := svntest.At(t, t.TempDir(), "ilka")
		ilka.Svn("mkdir", "-q", "-m", "line", line)
		ilka.Svn("checkout", "-q", line, ".")
		for i := range 6 {
			ilka.Write(fmt.Sprintf("d%d/f%d", i%3, i), fmt.Sprintf("file %d\n%s", i, lines))
		}
		ilka.Commit("start")
		runa := svntest.Checkout(t, line, "runa")
		for range 1 + rnd.IntN(3) {
			scribble(ilka, rnd)
			_, _ = ilka.Try("commit", "-q", "-m", "theirs")
			ilka.Svn("update", "-q")
		}
		scribble(runa, rnd)
		tally[agree(t, runa, "", fmt.Sprintf("seed %d, copy %d", seed, n))]++
		if t.Failed() {
			return
		}
	}
	t.Logf("%v", tally)
}

// asked returns how many working copies are tried, and from which seed.
func asked() (many int, seed uint64) {
	many, seed = 2, 29
	if n, err := strconv.Atoi(os.Getenv("DORVIK_SVN_COPIES")); err == nil {
		many = n
	}
	if n, err := strconv.ParseUint(os.Getenv("DORVIK_SEED"), 10, 64); err == nil {
		seed = n
	}
	return many, seed
}

// TestMergesAgreeWithSvn brings lines into each other in random directions, several times, and has svn merge do the
// same in a copy.
func TestMergesAgreeWithSvn(t *testing.T) {
	svntest.Isolate(t)
	many, seed := asked()
	many = max(1, many/20) // each takes three merges, and eight times as long as an update
	rnd := rand.New(rand.NewPCG(seed, 30))
	url := svntest.Repository(t)
	tally := map[string]int{}
	for n := range many {
		names := []string{fmt.Sprintf("branches/a%d", n), fmt.Sprintf("branches/b%d", n)}
		ilka := svntest.At(t, t.TempDir(), "ilka")
		ilka.Svn("mkdir", "-q", "-m", "line", url+"/"+names[0])
		ilka.Svn("checkout", "-q", url+"/"+names[0], ".")
		for i := range 6 {
			ilka.Write(fmt.Sprintf("d%d/f%d", i%3, i), fmt.Sprintf("file %d\n%s", i, lines))
		}
		ilka.Commit("start")
		ilka.Svn("copy", "-q", "-m", "branch", "^/"+names[0], "^/"+names[1])
		copies := []*svntest.Copy{ilka, svntest.Checkout(t, url+"/"+names[1], "runa")}
		for k := range 3 {
			for _, c := range copies {
				c.Svn("update", "-q")
				scribble(c, rnd)
				_, _ = c.Try("commit", "-q", "-m", "an edit")
			}
			into := rnd.IntN(2)
			c := copies[into]
			c.Svn("update", "-q")
			what := fmt.Sprintf("seed %d, lines %d, merge %d", seed, n, k)
			tally[agree(t, c, names[1-into], what)]++
			if t.Failed() {
				return
			}
			_, err := c.Try("merge", "-q", "--accept", "working", "^/"+names[1-into])
			require.NoError(t, err, what)
			_, _ = c.Try("resolve", "-q", "--accept", "working", "-R", ".")
			c.Svn("commit", "-q", "-m", "merge")
		}
	}
	t.Logf("%v", tally)
}

// agree joins a working copy, with another line if one is given, and says how that compares with svn.
func agree(t *testing.T, runa *svntest.Copy, line, what string) string {
	svns := svntest.At(t, copied(t, runa.Dir), runa.User)
	args, route := []string{"update"}, plan.Rebase
	if line != "" {
		args, route = []string{"merge", "^/" + line}, plan.Merge
	}
	said := svns.Svn(append(args, "--accept", "postpone")...)
	before := state(t, runa.Dir)
	s, err := recovery.OpenSession(t.Context(), runa.Dir)
	require.NoError(t, err, what)
	defer s.Close()
	if line != "" {
		take(t, s, line)
	}
	p, err := s.Locate(t.Context(), true)
	require.NoError(t, err, what)
	if p.Trivial() == plan.UpToDate {
		return "nothing new"
	}
	pl, err := s.Planner.Plan(t.Context(), p, &settle.Decisions{}, nil)
	require.NoError(t, err, what)
	asks, svnAsks := !pl.Of(route).Clean(), strings.Contains(said, "Summary of conflicts")
	_, err = applytest.Join(t.Context(), s, route)
	require.NoError(t, err, what)
	outcome := fmt.Sprintf("Dorvik asks %v, svn asks %v", asks, svnAsks)
	if !asks && !svnAsks {
		want, got := gittest.Files(t, svns.Dir), gittest.Files(t, runa.Dir)
		maps.DeleteFunc(want, func(path, _ string) bool { return strings.HasPrefix(path, ".svn") })
		if !assert.Equal(t, want, got, what) {
			t.Log(said)
		}
	}
	_, err = s.Applier.GoBack(t.Context(), "")
	require.NoError(t, err, what)
	assert.Equal(t, before, state(t, runa.Dir), what)
	return outcome
}

// scribble makes some random changes: lines, files, folders and moves.
func scribble(c *svntest.Copy, rnd *rand.Rand) {
	for range 1 + rnd.IntN(4) {
		var files []string
		for path, is := range gittest.Files(c, c.Dir) {
			if is != "a folder" {
				files = append(files, path)
			}
		}
		if len(files) == 0 {
			return
		}
		path := sortedAt(files, rnd)
		switch rnd.IntN(8) {
		case 0, 1, 2, 3, 4:
			edit(c, path, rnd)
		case 5:
			name := fmt.Sprintf("d%d/n%d", rnd.IntN(3), rnd.IntN(4))
			if _, err := os.Lstat(c.Dir + "/" + name); err != nil {
				c.Write(name, fmt.Sprintf("new %d\n", rnd.IntN(3)))
				_, _ = c.Try("add", "-q", "--parents", name)
			}
		case 6:
			_, _ = c.Try("rm", "-q", "--force", path)
		case 7:
			_, _ = c.Try("propset", "-q", "skerry:note", fmt.Sprint(rnd.IntN(3)), path)
		}
	}
}

// edit changes, adds or removes a line.
func edit(c *svntest.Copy, path string, rnd *rand.Rand) {
	text := strings.SplitAfter(c.Read(path), "\n")
	at := rnd.IntN(len(text))
	switch rnd.IntN(3) {
	case 0:
		text[at] = fmt.Sprintf("changed %d\n", rnd.IntN(5))
	case 1:
		text[at] = fmt.Sprintf("added %d\n", rnd.IntN(5)) + text[at]
	case 2:
		text[at] = ""
	}
	c.Write(path, strings.Join(text, ""))
}

// sortedAt returns a random element, the same for each run with a seed.
func sortedAt(list []string, rnd *rand.Rand) string {
	slices.Sort(list)
	return list[rnd.IntN(len(list))]
}
