package svnapply_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/applytest"
	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/faulttest"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/svntest"
)

const lines = "one\ntwo\nthree\nfour\nfive\nsix\nseven\neight\n"

func TestMain(m *testing.M) { applytest.Main(m, func() {}, func() {}) }

// crew is a repository and two people whose work parts.
type crew struct {
	*testing.T
	url        string
	ilka, runa *svntest.Copy
}

// newCrew gives Ilka what is checked in, and Runa changes of all kinds that are not, in two change lists and in none.
func newCrew(t *testing.T) *crew {
	svntest.Isolate(t)
	url := svntest.Repository(t)
	c := &crew{t, url, svntest.Checkout(t, url+"/trunk", "ilka"), nil}
	i := c.ilka
	for _, name := range []string{"f", "g", "gone", "turns/into", "moved", "mine/goes", "mine/too", "went",
		"keywords"} {
		i.Write(name, name+"\n"+lines)
	}
	i.Write("keywords", "$Rev$ of "+lines)
	i.Write("mode", "#!/bin/sh\n")
	require.NoError(t, os.Symlink("f", filepath.Join(i.Dir, "link")))
	i.Svn("add", "-q", "--force", ".")
	i.Svn("propset", "-q", "svn:keywords", "Rev", "keywords")
	i.Svn("mkdir", "-q", "empty")
	i.Svn("propset", "-q", "svn:ignore", "*.o\n", ".")
	i.Commit("start")
	c.runa = svntest.Checkout(t, url+"/trunk", "runa")

	i.Write("f", strings.Replace(i.Read("f"), "two", "THEIRS", 1))
	i.Write("new/deep/x", "new\n")
	i.Svn("rm", "-q", "gone", "turns", "empty")
	i.Write("turned", "now a file\n")
	i.Svn("mv", "-q", "went", "was-moved")
	i.Svn("propset", "-q", "svn:executable", "*", "mode")
	i.Svn("propset", "-q", "svn:ignore", "*.o\n*.a\n", ".")
	require.NoError(t, os.Remove(filepath.Join(i.Dir, "link")))
	require.NoError(t, os.Symlink("g", filepath.Join(i.Dir, "link")))
	i.Write("keywords", i.Read("keywords")+"theirs\n")
	i.Commit("theirs")

	r := c.runa
	r.Write("f", strings.Replace(r.Read("f"), "two", "MINE", 1))
	r.Write("added", "added\n")
	r.Svn("add", "-q", "added")
	r.Svn("changelist", "-q", "first", "f", "added")
	r.Write("went", "edited\n"+r.Read("went"))
	r.Svn("mv", "-q", "moved", "mine/moved")
	r.Write("mine/moved", "edited\n"+r.Read("mine/moved"))
	r.Svn("rm", "-q", "mine/goes")
	r.Write("keywords", "mine\n"+r.Read("keywords"))
	r.Svn("propset", "-q", "skerry:note", "a note", "keywords")
	r.Svn("changelist", "-q", "second", "went", "mine/moved", "keywords", "mine/goes")
	r.Write("g", "edited\n"+r.Read("g"))
	r.Svn("mkdir", "-q", "made")
	r.Svn("propset", "-q", "skerry:own", "mine", ".")
	r.Svn("propset", "-q", "svn:ignore", "*.o\n*.mine\n", ".")
	r.Write("untracked", "untracked\n")
	r.Write("new", "in the way\n")
	return c
}

// state is everything that a person sees of a working copy: files, and what svn says of them.
func state(t *testing.T, dir string) map[string]string {
	out := gittest.Files(t, dir)
	at := svntest.At(t, dir, "runa")
	out["-status"] = statusOf(at)
	out["-revisions"] = at.Svn("info", "-R", "--show-item", "revision")
	out["-properties"] = at.Svn("proplist", "-v", "-R")
	return out
}

func (c *crew) session(dir string) *recovery.Session {
	s, err := recovery.OpenSession(c.Context(), dir)
	require.NoError(c, err)
	c.Cleanup(s.Close)
	return s
}

// fetched has Dorvik ask the repository.
func (c *crew) fetched() {
	s, err := recovery.OpenSession(c.Context(), c.runa.Dir)
	require.NoError(c, err)
	defer s.Close()
	_, err = s.Locate(c.Context(), true)
	require.NoError(c, err)
}

func copied(t *testing.T, from string) string {
	to := filepath.Join(t.TempDir(), "copy")
	out, err := exec.Command("cp", "-a", from, to).CombinedOutput()
	require.NoError(t, err, "%s", out)
	return to
}

func TestJoinsAreMadeTakenBackAndCheckedIn(t *testing.T) {
	c := newCrew(t)
	before := state(t, c.runa.Dir)
	database, err := os.ReadFile(filepath.Join(c.runa.Dir, ".svn/wc.db"))
	require.NoError(t, err)
	c.fetched()
	s := c.session(c.runa.Dir)
	_, err = applytest.Join(t.Context(), s, plan.Rebase)
	require.NoError(t, err)
	r := c.runa
	assert.Equal(t, "f\n"+strings.Replace(lines, "two", "MINE\nTHEIRS", 1), r.Read("f"))
	assert.Equal(t, "edited\nwent\n"+lines, r.Read("was-moved"))
	assert.Equal(t, "edited\nmoved\n"+lines, r.Read("mine/moved"))
	assert.Equal(t, "edited\ng\n"+lines, r.Read("g"))
	assert.Equal(t, "mine\n$Rev$ of "+lines+"theirs\n", r.Read("keywords"))
	assert.NoDirExists(t, filepath.Join(r.Dir, "empty"))
	assert.Equal(t, ` M      .
M       g
A       made
D       moved
        > moved to mine/moved
?       untracked

--- Changelist 'first':
A       added
M       f

--- Changelist 'second':
MM      keywords
D       mine/goes
A  +    mine/moved
        > moved from moved
M       was-moved`, statusOf(r))
	assert.Equal(t, "*.o\n*.mine\n*.a", r.Svn("propget", "svn:ignore", "--strict", "."))

	_, err = s.Applier.GoBack(t.Context(), "")
	require.NoError(t, err)
	assert.Equal(t, before, state(t, r.Dir))
	again, err := os.ReadFile(filepath.Join(r.Dir, ".svn/wc.db"))
	require.NoError(t, err)
	assert.Equal(t, database, again, "byte for byte")

	p, err := s.Locate(t.Context(), false)
	require.NoError(t, err)
	_, err = applytest.Join(t.Context(), s, plan.Rebase)
	require.NoError(t, err)
	pushed, err := s.Push.Tip(t.Context(), p, change.Consent{})
	require.NoError(t, err)
	require.Nil(t, pushed.Refusal)
	assert.Equal(t, pushed.Tip, pushed.Holds)
	assert.Equal(t, " M      .\nM       g\nA       made\n?       untracked", statusOf(r), "what is in no list stays")
	c.ilka.Svn("update", "-q")
	assert.Equal(t, r.Read("f"), c.ilka.Read("f"))
	assert.Equal(t, "edited\nmoved\n"+lines, c.ilka.Read("mine/moved"))
	assert.Contains(t, c.ilka.Svn("log", "-v", "-r", "HEAD"), "A /trunk/mine/moved (from /trunk/moved:")
	assert.Equal(t, "first\nsecond", strings.Join(messages(c.ilka, "4:HEAD"), "\n"))
}

// statusOf is what svn says of the files, with the change lists in their order.
func statusOf(c *svntest.Copy) string {
	said, _, _ := strings.Cut(c.Svn("status"), "\nSummary of conflicts") // it follows the last list, whichever that is
	lists := strings.Split(strings.TrimLeft(said, "\n"), "\n\n")
	slices.Sort(lists)
	return strings.Join(lists, "\n\n")
}

func messages(c *svntest.Copy, revisions string) (out []string) {
	for _, line := range strings.Split(c.Svn("log", "-r", revisions), "\n") {
		if line != "" && !strings.HasPrefix(line, "---") && !strings.HasPrefix(line, "r") {
			out = append(out, line)
		}
	}
	return out
}

func TestKilledAtAnyStep(t *testing.T) {
	every := 19
	if os.Getenv("DORVIK_FILES") != "" { // the soak tries all
		every = 1
	}
	c := newCrew(t)
	c.fetched()
	for _, what := range []string{"rebase", "undo"} {
		from := copied(t, c.runa.Dir)
		if what == "undo" {
			require.NoError(t, applytest.Run(from, "rebase", 0, false))
		}
		applytest.AtAnyStep(t, what, every, func() string { return copied(t, from) },
			func(dir string) map[string]string { return state(t, dir) }, "-revisions")
	}
}

// TestKilledAtAnyOperation has Dorvik or its svn be killed, or fail, at operations on files. The next start finds old
// or new, whole.
func TestKilledAtAnyOperation(t *testing.T) {
	c := newCrew(t)
	c.fetched()
	picked, every := faulttest.Picked()
	for _, what := range []string{"rebase", "undo"} {
		if what != "undo" && !every && os.Getenv("DORVIK_OPERATIONS") == "" {
			continue // the soak tries all
		}
		t.Run(what, func(t *testing.T) {
			from := copied(t, c.runa.Dir)
			if what == "undo" {
				require.NoError(t, applytest.Run(from, "rebase", 0, false))
			}
			before, done := state(t, from), copied(t, from)
			require.NoError(t, applytest.Run(done, what, 0, false))
			after := state(t, done)
			faulttest.Try(t, what, func() string { return copied(t, from) }, picked, func(dir, point string) {
				require.NoError(t, applytest.Run(dir, "open", 0, false), point)
				is, want := state(t, dir), before
				if is["-revisions"] == after["-revisions"] {
					want = after
				}
				assert.Equal(t, want, is, point)
				assert.NoFileExists(t, filepath.Join(dir, ".svn/dorvik/moving.json"), point)
			})
		})
	}
}

// TestWhatAnUpdateLeft: conflicts of texts, shapes and properties that svn update left are joined anew as they were
// before it, and an undo brings back what it left, byte for byte.
func TestWhatAnUpdateLeft(t *testing.T) {
	svntest.Isolate(t)
	url := svntest.Repository(t)
	i := svntest.Checkout(t, url+"/trunk", "ilka")
	for _, name := range []string{"text", "deleted-there", "deleted-here", "dir/a", "dir/b", "settled", "clean"} {
		i.Write(name, lines)
	}
	i.Svn("add", "-q", "--force", ".")
	i.Svn("propset", "-q", "skerry:note", "base", "text")
	i.Commit("start")
	r := svntest.Checkout(t, url+"/trunk", "runa")
	change := func(c *svntest.Copy, name, to string) { c.Write(name, strings.Replace(c.Read(name), "two", to, 1)) }
	for _, name := range []string{"text", "deleted-here", "settled"} {
		change(i, name, "THEIRS")
	}
	i.Write("clean", strings.Replace(lines, "eight", "EIGHT", 1))
	i.Write("both-added", "theirs\n")
	i.Svn("propset", "-q", "skerry:note", "theirs", "text")
	i.Svn("rm", "-q", "deleted-there", "dir")
	i.Commit("theirs")
	for _, name := range []string{"text", "deleted-there", "dir/a", "settled", "clean"} {
		change(r, name, "MINE")
	}
	r.Svn("rm", "-q", "deleted-here")
	r.Write("both-added", "mine\n")
	r.Svn("add", "-q", "both-added")
	r.Svn("propset", "-q", "skerry:note", "mine", "text")
	r.Svn("update", "-q", "--accept", "postpone")
	r.Write("settled", strings.Replace(lines, "two", "MINE and THEIRS", 1)) // by hand
	before := state(t, r.Dir)

	c := &crew{T: t, url: url, ilka: i, runa: r}
	s := c.session(r.Dir)
	p, err := s.Locate(t.Context(), true)
	require.NoError(t, err)
	assert.Equal(t, "An update stopped at conflicts.", p.Standing(false).Head)
	pl, err := s.Planner.Plan(t.Context(), p, &settle.Decisions{}, nil)
	require.NoError(t, err)
	var asked []string
	for _, q := range pl.Rebase.Questions() {
		asked = append(asked, q.Path)
	}
	slices.Sort(asked)
	assert.Equal(t, []string{".svn/properties/text/skerry:note", "both-added", "deleted-here", "deleted-there",
		"dir/a", "text"},
		asked)
	_, err = applytest.Join(t.Context(), s, plan.Rebase)
	require.NoError(t, err)
	assert.Equal(t, strings.Replace(lines, "two", "MINE\nTHEIRS", 1), r.Read("text"))
	assert.Equal(t, strings.Replace(lines, "two", "MINE and THEIRS", 1), r.Read("settled"))
	assert.Equal(t, strings.NewReplacer("two", "MINE", "eight", "EIGHT").Replace(lines), r.Read("clean"))
	assert.NotContains(t, statusOf(r), "C", "no conflict is left")
	files, err := os.ReadDir(r.Dir)
	require.NoError(t, err)
	for _, f := range files {
		assert.NotRegexp(t, `\.(mine|r\d+|prej)$`, f.Name(), "no stray copy")
	}
	_, err = s.Applier.GoBack(t.Context(), "")
	require.NoError(t, err)
	assert.Equal(t, before, state(t, r.Dir))
}

// TestWhatWasSettledByHandIsCheckedIn: svn refuses to check in a file of which it was not told that it is settled.
func TestWhatWasSettledByHandIsCheckedIn(t *testing.T) {
	svntest.Isolate(t)
	url := svntest.Repository(t)
	i := svntest.Checkout(t, url+"/trunk", "ilka")
	i.Write("text", lines)
	i.Commit("start")
	r := svntest.Checkout(t, url+"/trunk", "runa")
	i.Write("text", strings.Replace(lines, "two", "THEIRS", 1))
	i.Commit("theirs")
	r.Write("text", strings.Replace(lines, "two", "MINE", 1))
	r.Svn("changelist", "-q", "both", "text")
	r.Svn("update", "-q", "--accept", "postpone")
	r.Write("text", strings.Replace(lines, "two", "BOTH", 1))
	_, err := r.Try("commit", "-q", "-m", "refused")
	require.Error(t, err)

	c := &crew{T: t, url: url, ilka: i, runa: r}
	s := c.session(r.Dir)
	p, err := s.Locate(t.Context(), true)
	require.NoError(t, err)
	assert.Equal(t, plan.UpToDate, p.Trivial())
	pushed, err := s.Push.Tip(t.Context(), p, change.Consent{})
	require.NoError(t, err)
	require.Nil(t, pushed.Refusal)
	assert.Empty(t, r.Svn("status"), "no copy is left")
	i.Svn("update", "-q")
	assert.Equal(t, strings.Replace(lines, "two", "BOTH", 1), i.Read("text"))
	assert.Equal(t, []string{"both"}, messages(i, "HEAD"))
}

// TestTheRoad: change lists are given messages, put together and left out like commits.
func TestTheRoad(t *testing.T) {
	svntest.Isolate(t)
	url := svntest.Repository(t)
	i := svntest.Checkout(t, url+"/trunk", "ilka")
	for _, name := range []string{"a", "b", "c", "unedited"} {
		i.Write(name, lines)
	}
	i.Commit("start")
	r := svntest.Checkout(t, url+"/trunk", "runa")
	for _, name := range []string{"a", "b", "c"} {
		r.Write(name, "mine\n"+lines)
		r.Svn("changelist", "-q", "list "+name, name)
	}
	r.Svn("changelist", "-q", "later", "unedited")
	i.Write("new", "theirs\n")
	i.Commit("theirs")
	before := state(t, r.Dir)

	c := &crew{T: t, url: url, ilka: i, runa: r}
	s := c.session(r.Dir)
	p, err := s.Locate(t.Context(), true)
	require.NoError(t, err)
	require.NoError(t, s.Ledger.Sync(p))
	mine := p.Divergence.Yours // the newest first
	require.Len(t, mine, 3)
	for id, request := range map[object.ID]replay.Request{mine[2].ID: {Message: "Both\n\nFor SKERRY-31\n"},
		mine[1].ID: {Into: true}, mine[0].ID: {Leave: true}} {
		require.NoError(t, s.Ledger.Request(id, request))
	}
	_, err = applytest.Join(t.Context(), s, plan.Rebase)
	require.NoError(t, err)
	assert.Equal(t, "--- Changelist 'later':\n        unedited\n\n--- Changelist 'list a':\nM       a\nM       b",
		statusOf(r))
	assert.Equal(t, lines, r.Read("c"))
	_, err = s.Applier.GoBack(t.Context(), "")
	require.NoError(t, err)
	assert.Equal(t, before, state(t, r.Dir))

	p, err = s.Locate(t.Context(), false)
	require.NoError(t, err)
	_, err = applytest.Join(t.Context(), s, plan.Rebase)
	require.NoError(t, err)
	pushed, err := s.Push.Tip(t.Context(), p, change.Consent{})
	require.NoError(t, err)
	require.Nil(t, pushed.Refusal)
	said := strings.Join(messages(i, "HEAD"), "\n")
	assert.True(t, strings.HasPrefix(said, "Both\nFor SKERRY-31"), said)
	assert.Equal(t, "--- Changelist 'later':\n        unedited", statusOf(r))
}
