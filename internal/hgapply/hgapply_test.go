package hgapply_test

import (
	"fmt"
	"io/fs"
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
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/hgtest"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/vcs"
)

const base = "one\ntwo\nthree\nfour\nfive\nsix\nseven\neight\n"

func TestMain(m *testing.M) {
	applytest.Main(m, func() {
		var err error
		if templates, err = os.MkdirTemp("", "dorvik-hg-"); err != nil {
			panic(err)
		}
	}, func() { os.RemoveAll(templates) })
}

// crew is a server and two people whose lines part.
type crew struct {
	*testing.T
	server, ilka, runa *hgtest.Folder
}

// templates is the folder of crews that were made once, to be copied: hg takes long to start.
var templates string

// copyOf returns a copy of the crew of a name, which begin makes: first what Ilka has, then the rest.
func copyOf(t *testing.T, name string, begin func(i *hgtest.Folder), then func(c *crew)) *crew {
	hgtest.Isolate(t)
	at := filepath.Join(templates, name)
	if _, err := os.Stat(at); err != nil {
		c := crewAt(t, at)
		server := hgtest.NewAt(t, c.server.Dir, "server")
		server.CloneTo(c.ilka.Dir, c.ilka.User)
		begin(c.ilka)
		c.ilka.Hg("push", "-q")
		server.CloneTo(c.runa.Dir, c.runa.User)
		then(c)
		for _, f := range []*hgtest.Folder{c.server, c.ilka, c.runa} {
			f.Stop()
		}
	}
	c := crewAt(t, hgtest.Copy(t, at))
	for _, f := range []*hgtest.Folder{c.ilka, c.runa} {
		f.Set("paths.default", c.server.Dir)
	}
	return c
}

func crewAt(t *testing.T, dir string) *crew {
	return &crew{t, hgtest.At(t, filepath.Join(dir, "server"), "server"),
		hgtest.At(t, filepath.Join(dir, "ilka"), "Ilka Renn <ilka@skerry.example>"),
		hgtest.At(t, filepath.Join(dir, "runa"), "Runa Holm <runa@skerry.example>")}
}

func newCrew(t *testing.T) *crew { return copyOf(t, "crew", beginCrew, goOnCrew) }

func beginCrew(i *hgtest.Folder) {
	for _, name := range []string{"f", "g", "gone", "turns/into", "moved", "mine/goes"} {
		i.Write(name, name+"\n"+base)
	}
	i.Write("mode", "#!/bin/sh\n")
	require.NoError(i, os.Symlink("f", filepath.Join(i.Dir, "link")))
	i.Commit("start")
}

func goOnCrew(c *crew) {
	i, r := c.ilka, c.runa
	r.Write("f", strings.Replace(r.Read("f"), "two", "MINE", 1))
	r.Write("m", "m\n")
	r.Commit("mine")
	r.Write("m", "m\nmore\n")
	r.Commit("mine again")
	i.Write("f", strings.Replace(i.Read("f"), "two", "THEIRS", 1))
	i.Write("new/deep/x", "new\n")
	i.Hg("rm", "-q", "gone", "turns/into")
	i.Write("turns", "now a file\n")
	i.Hg("mv", "-q", "moved", "was-moved")
	require.NoError(c, os.Chmod(filepath.Join(i.Dir, "mode"), 0o755))
	require.NoError(c, os.Remove(filepath.Join(i.Dir, "link")))
	require.NoError(c, os.Symlink("g", filepath.Join(i.Dir, "link")))
	i.Commit("theirs")
	i.Hg("push", "-q")
}

// laden gives Runa uncommitted work of all kinds, in files that the join changes and in others.
func (c *crew) laden() {
	r := c.runa
	r.Write("f", strings.Replace(r.Read("f"), "seven", "EDITED", 1))
	r.Write("g", "edited\n"+base)
	r.Write("moved", "edited\n"+r.Read("moved"))
	r.Write("added", "added\n")
	r.Write("caf\xe9", "its name is not UTF-8\n")
	r.Hg("add", "-q", "added", "caf\xe9")
	r.Hg("rm", "-q", "mine/goes")
	r.Hg("cp", "-q", "g", "copied")
	r.Write("untracked", "untracked\n")
	r.Write("new", "in the way\n")
}

// idOrMerge names a changeset; a merge is made at some time, so it has another node each time.
const idOrMerge = `{ifeq(p2rev, "-1", node|short, "a merge")}`

// state is everything that a person sees of a repository: files, what hg says of them, and the changesets.
func state(t *testing.T, dir string) map[string]string {
	out := gittest.Files(t, dir)
	at, done := hgtest.Borrow(t, dir)
	defer done()
	out["-status"] = at.Hg("status", "-mard", "--copies")
	log := strings.Split(at.Hg("log", "-T", "{desc|firstline} {phase} "+idOrMerge+"\n"), "\n")
	slices.Sort(log) // the numbers of changesets change
	out["-log"] = strings.Join(log, "\n")
	out["-parent"] = at.Hg("log", "-r", "p1()", "-r", "p2()", "-T", idOrMerge+" {activebookmark}")
	out["-branch"] = at.Hg("branch")
	at.Sound()
	return out
}

func (c *crew) session() *recovery.Session {
	s, err := recovery.OpenSession(c.Context(), c.runa.Dir)
	require.NoError(c, err)
	return s
}

// pull has Dorvik ask the server.
func (c *crew) pull() {
	s := c.session()
	defer s.Close()
	_, err := s.Locate(c.Context(), true)
	require.NoError(c, err)
}

func TestJoinsAreMadeAndTakenBack(t *testing.T) {
	for _, route := range []plan.Route{plan.Merge, plan.Rebase} {
		for _, laden := range []bool{false, true} {
			if !laden && os.Getenv("DORVIK_FILES") == "" {
				continue // the soak tries all
			}
			t.Run(fmt.Sprintf("%s laden %v", route, laden), func(t *testing.T) {
				c := newCrew(t)
				if laden {
					c.laden()
				}
				c.pull()
				before := state(t, c.runa.Dir)
				s := c.session()
				defer s.Close()
				_, err := applytest.Join(t.Context(), s, route)
				require.NoError(t, err)
				after := state(t, c.runa.Dir)
				want := strings.Replace(c.runa.Read("f"), "EDITED", "seven", 1)
				assert.Equal(t, strings.Replace("f\n"+base, "two", "MINE\nTHEIRS", 1), want)
				assert.Equal(t, "absent", c.runa.Read("gone"))
				assert.Equal(t, "false now a file\n", after["turns"])
				assert.Equal(t, "to g", after["link"])
				assert.True(t, strings.HasPrefix(after["mode"], "true "))
				if !laden {
					assert.Empty(t, after["-status"])
				} else {
					assert.Equal(t, "M f\nM g\nM was-moved\nA added\nA caf\xe9\nA copied\n  g\nR mine/goes",
						after["-status"])
					assert.Contains(t, c.runa.Read("was-moved"), "edited\nmoved")
				}
				_, err = s.Applier.GoBack(t.Context(), "")
				require.NoError(t, err)
				assert.Equal(t, before, state(t, c.runa.Dir), "taken back")

				p, err := s.Locate(t.Context(), false)
				require.NoError(t, err)
				_, err = applytest.Join(t.Context(), s, route)
				require.NoError(t, err)
				pushed, err := s.Push.Tip(t.Context(), p, change.Consent{})
				require.NoError(t, err)
				require.Nil(t, pushed.Refusal)
				assert.Equal(t, pushed.Tip, pushed.Holds)
				c.ilka.Hg("pull", "-q")
				assert.Equal(t, pushed.Tip.String(), c.ilka.Hg("log", "-r", "tip", "-T", "{node}"))
				assert.NotContains(t, state(t, c.runa.Dir)["-log"], "draft")
				_, err = s.Applier.GoBack(t.Context(), "")
				assert.ErrorContains(t, err, "was pushed")
			})
		}
	}
}

// TestKilledAtAnyStep kills a change at each of its steps, or has the step fail. The next start finds old or new,
// whole.
func TestKilledAtAnyStep(t *testing.T) {
	every := 41
	if os.Getenv("DORVIK_FILES") != "" { // the soak tries all
		every = 1
	}
	c := newCrew(t)
	c.laden()
	c.pull()
	for _, what := range []string{"merge", "rebase", "undo"} {
		from := hgtest.Copy(t, c.runa.Dir)
		if what == "undo" {
			require.NoError(t, applytest.Run(from, "rebase", 0, false))
		}
		applytest.AtAnyStep(t, what, every, func() string { return hgtest.Copy(t, from) },
			func(dir string) map[string]string { return state(t, dir) }, "-parent")
	}
}

// TestPhasesBranchesAndFieldsAreKept: a changeset that is made again keeps what it had.
func TestPhasesBranchesAndFieldsAreKept(t *testing.T) {
	c := newCrew(t)
	r := c.runa
	r.Write("m", "m\nmore\nsecret\n")
	r.Commit("a secret")
	r.Hg("phase", "--secret", "--force", "-r", ".")
	r.Hg("bookmark", "board")
	c.pull()
	s := c.session()
	defer s.Close()
	p, err := s.Locate(t.Context(), false)
	require.NoError(t, err)
	assert.Equal(t, "1 commit of yours is secret, and a push leaves it out: “a secret”. “hg phase --draft -r .” lets it go.",
		p.OtherHeads(object.ID.String, vcs.InMercurial))
	_, err = applytest.Join(t.Context(), s, plan.Rebase)
	require.NoError(t, err)
	assert.Equal(t, "mine draft\nmine again draft\na secret secret", r.Hg("log", "-r", "only(., desc('theirs'))", "-T",
		"{desc} {phase}\n"))
	assert.Equal(t, "board", r.Hg("log", "-r", ".", "-T", "{activebookmark}"))
	assert.Equal(t, "Runa Holm <runa@skerry.example> 1767261600 -3600", r.Hg("log", "-r", ".", "-T",
		"{author} {date|hgdate}"))
	assert.Equal(t, "renamed moved (moved)", r.Hg("log", "-r", "desc('theirs')", "-T",
		"renamed {file_copies % '{source} ({source})'}"))
	_, err = s.Applier.GoBack(t.Context(), "")
	require.NoError(t, err)
	assert.Equal(t, "mine draft\nmine again draft\na secret secret", r.Hg("log", "-r", "only(., desc('theirs'))", "-T",
		"{desc} {phase}\n"))
	assert.Equal(t, "board", r.Hg("log", "-r", ".", "-T", "{activebookmark}"))
}

// TestASecretTipStaysHere: a push leaves it out, and the remote was not set back because it lacks it. A merge with it
// cannot be pushed.
func TestASecretTipStaysHere(t *testing.T) {
	c := newCrew(t)
	c.runa.Hg("phase", "--secret", "--force", "-r", ".")
	c.pull()
	s := c.session()
	defer s.Close()
	_, err := applytest.Join(t.Context(), s, plan.Merge)
	require.NoError(t, err)
	p, err := s.Locate(t.Context(), true)
	require.NoError(t, err)
	refused, err := s.Push.Tip(t.Context(), p, change.Consent{})
	require.NoError(t, err)
	require.NotNil(t, refused.Refusal)
	assert.Contains(t, refused.Refusal.Short, "the merge is secret, as a commit is that it joins")
	assert.False(t, refused.WentBack)
	_, err = s.Applier.GoBack(t.Context(), "")
	require.NoError(t, err)

	_, err = applytest.Join(t.Context(), s, plan.Rebase)
	require.NoError(t, err)
	p, err = s.Locate(t.Context(), true)
	require.NoError(t, err)
	pushed, err := s.Push.Tip(t.Context(), p, change.Consent{})
	require.NoError(t, err)
	require.Nil(t, pushed.Refusal)
	assert.Equal(t, "What is secret did not go to default.", pushed.PhaseSentence())
	assert.Equal(t, "mine", c.server.Hg("log", "-r", "tip", "-T", "{desc}"))
	p, err = s.Locate(t.Context(), true)
	require.NoError(t, err)
	assert.Empty(t, p.Rewritten())
	assert.Equal(t, "Your 1 commit is secret.", p.Standing(false).Text)
	assert.Equal(t, "There is nothing to join and nothing to push.", p.Standing(false).Next)
}

// TestPublicChangesetsStay: a rebase would replace changesets that others have, and is not offered.
func TestPublicChangesetsStay(t *testing.T) {
	c := newCrew(t)
	c.pull()
	c.runa.Hg("phase", "--public", "-r", "desc('re:^mine$')")
	s := c.session()
	defer s.Close()
	p, err := s.Locate(t.Context(), false)
	require.NoError(t, err)
	pl, err := s.Planner.Plan(t.Context(), p, &settle.Decisions{}, nil)
	require.NoError(t, err)
	assert.Equal(t, plan.Merge, pl.Suggested)
	assert.Equal(t, "others have some of your 2 commits already, and Mercurial keeps what others have for good.",
		pl.Why)
	assert.ErrorContains(t, pl.Rebase.Refused, "a rebase would replace commits that others have")
	before := state(t, c.runa.Dir)
	_, err = applytest.Join(t.Context(), s, plan.Rebase)
	assert.ErrorAs(t, err, new(*plan.FixedError), "asked all the same")
	assert.Equal(t, before, state(t, c.runa.Dir))
	for set, means := range map[string]string{"desc('re:^mine$')": "public: others may have it, so it is never replaced",
		".": "draft: it can still be replaced"} {
		ids, err := s.Repo.Commits(t.Context(), set)
		require.NoError(t, err)
		d, err := s.History.Details(t.Context(), ids[0], nil)
		require.NoError(t, err)
		assert.Equal(t, means, d.Phase)
	}
}

// TestHooksOfThePerson: a person's hooks for commits run for the changesets of a join, and can refuse them. Those for
// changesets from elsewhere do not run.
func TestHooksOfThePerson(t *testing.T) {
	c := newCrew(t)
	c.pull()
	r := c.runa
	said := filepath.Join(t.TempDir(), "said")
	r.Set("hooks.commit.note", "echo commit $HG_NODE >> "+said)
	r.Set("hooks.changegroup.Note", "echo from $HG_SOURCE >> "+said)
	s := c.session()
	defer s.Close()
	_, err := applytest.Join(t.Context(), s, plan.Rebase)
	require.NoError(t, err)
	text, err := os.ReadFile(said)
	require.NoError(t, err)
	assert.Equal(t, 2, strings.Count(string(text), "commit "), string(text))
	assert.NotContains(t, string(text), "from ")
	_, err = s.Applier.GoBack(t.Context(), "")
	require.NoError(t, err)
	undone, err := os.ReadFile(said)
	require.NoError(t, err)
	assert.Equal(t, string(text), string(undone), "none runs for changesets that come again")

	before := state(t, r.Dir)
	r.Set("hooks.pretxncommit.never", "echo not on a Friday; exit 1")
	_, err = applytest.Join(t.Context(), s, plan.Rebase)
	require.ErrorContains(t, err, "never hook")
	assert.ErrorContains(t, err, "Everything is as it was before")
	assert.Equal(t, before, state(t, r.Dir))
}

// TestHostileNames: a manifest with a path that leads out of the working folder is refused.
func TestHostileNames(t *testing.T) {
	c := newCrew(t)
	require.NoError(t, os.Symlink(t.TempDir(), filepath.Join(c.runa.Dir, "new")))
	c.pull()
	s := c.session()
	defer s.Close()
	_, err := applytest.Join(t.Context(), s, plan.Merge)
	require.NoError(t, err, "the link that is in the way goes aside")
	assert.Equal(t, "new\n", c.runa.Read("new/deep/x"))
	_, err = s.Applier.GoBack(t.Context(), "")
	require.NoError(t, err)
	info, err := os.Lstat(filepath.Join(c.runa.Dir, "new"))
	require.NoError(t, err)
	assert.NotZero(t, info.Mode()&fs.ModeSymlink)
}

// TestWhatLiesBeside: sub-repositories are named, and working folders whose files are converted stay as they are.
func TestWhatLiesBeside(t *testing.T) {
	c := newCrew(t)
	i := c.ilka
	i.Write(".hgsub", "lib = ../lib\n")
	i.Write(".hgsubstate", strings.Repeat("0", 40)+" lib\n")
	i.Write(".hgeol", "[repository]\nnative = CRLF\n")
	i.Commit("beside")
	c.runa.Set("paths.default", i.Dir)
	c.pull()
	c.runa.Set("extensions.eol", "")
	s := c.session()
	_, err := applytest.Join(t.Context(), s, plan.Merge)
	require.ErrorContains(t, err, "Files have other line ends on disk than in changesets here (.hgeol)")
	s.Close()
	c.runa.Set("extensions.eol", "!")
	s = c.session()
	defer s.Close()
	_, err = applytest.Join(t.Context(), s, plan.Merge)
	require.NoError(t, err)
	assert.Contains(t, s.TakeNotice(), "The sub-repositories lib may be at other changesets")
}

// TestOddPlaces: a working folder at no changeset, one that shares the changesets of another, and a branch that was
// closed.
func TestOddPlaces(t *testing.T) {
	c := newCrew(t)
	c.pull()
	r := c.runa
	share := filepath.Join(t.TempDir(), "share")
	r.Stop()
	out, err := exec.Command("hg", "--config", "extensions.share=", "share", "-q", r.Dir, share).CombinedOutput()
	require.NoError(t, err, "%s", out)
	other := hgtest.At(t, share, "")
	other.Hg("update", "-q", "desc('mine again')")
	before := state(t, r.Dir)
	s, err := recovery.OpenSession(t.Context(), share)
	require.NoError(t, err)
	_, err = s.Locate(t.Context(), true)
	require.NoError(t, err)
	_, err = applytest.Join(t.Context(), s, plan.Rebase)
	require.NoError(t, err)
	assert.Contains(t, s.TakeNotice(), "2 changesets that were made again stay, too, because others build on them",
		"the other working folder is at them")
	assert.Equal(t, before["-parent"], state(t, r.Dir)["-parent"])
	assert.Equal(t, "mine again", other.Hg("log", "-r", ".", "-T", "{desc}"))
	_, err = s.Applier.GoBack(t.Context(), "")
	require.NoError(t, err)
	s.Close()
	assert.Equal(t, before, state(t, r.Dir))

	r.Hg("update", "-q", "null")
	s = c.session()
	_, err = s.Locate(t.Context(), false)
	assert.ErrorContains(t, err, "The working folder is at no commit. “hg update default” goes to default.")
	s.Close()
	r.Hg("update", "-q", "desc('mine again')")
	r.Hg("commit", "-q", "--close-branch", "-m", "closed")
	s = c.session()
	defer s.Close()
	_, err = applytest.Join(t.Context(), s, plan.Merge)
	require.NoError(t, err)
	r.Sound()
}

// TestACommitIsTakenBack: a commit of uncommitted work, replaced and taken back, leaves the files and what hg knows of
// them as they were.
func TestACommitIsTakenBack(t *testing.T) {
	c := newCrew(t)
	c.laden()
	r := c.runa
	before := state(t, r.Dir)
	s := c.session()
	defer s.Close()
	_, err := s.Commits.Make(t.Context(), recovery.Draft{Staged: true, Message: "all of it"}, change.Consent{})
	require.NoError(t, err)
	assert.Empty(t, r.Hg("status", "-mard"))
	assert.Equal(t, "added caf\xe9 copied f g mine/goes moved copied (g)", r.Hg("log", "-r", ".", "-T",
		"{files} {file_copies}"))
	_, err = s.Commits.Make(t.Context(), recovery.Draft{Staged: true, Message: "all of it, in other words",
		Amends: true},
		change.Consent{})
	require.NoError(t, err)
	assert.Equal(t, "all of it, in other words", r.Hg("log", "-r", ".", "-T", "{desc}"))
	for range 2 {
		_, err = s.Applier.GoBack(t.Context(), "")
		require.NoError(t, err)
	}
	assert.Equal(t, before, state(t, r.Dir))
}

// TestMovingForward: with nothing of one's own the branch goes to theirs, and back.
func TestMovingForward(t *testing.T) {
	c := newCrew(t)
	r := c.runa
	r.Hg("update", "-q", "desc('start')")
	r.Hg("strip", "-q", "--no-backup", "-r", "desc('mine')")
	r.Write("g", "edited\n"+base)
	before := state(t, r.Dir)
	c.pull()
	s := c.session()
	defer s.Close()
	_, err := applytest.Join(t.Context(), s, "")
	require.NoError(t, err)
	assert.Equal(t, "theirs", r.Hg("log", "-r", ".", "-T", "{desc}"))
	assert.Equal(t, "M g", r.Hg("status", "-mard"))
	_, err = s.Applier.GoBack(t.Context(), "")
	require.NoError(t, err)
	after := state(t, r.Dir)
	delete(before, "-log") // theirs are here now
	delete(after, "-log")
	assert.Equal(t, before, after)
}
