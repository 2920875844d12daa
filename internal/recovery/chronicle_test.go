package recovery

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/lookback"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
)

// told is a history in lines: the sign, the subject, and what is said of each commit. Ids are
// told by the subjects of their commits.
func told(t *testing.T, w *Workspace, c *lookback.Chronicle) string {
	subject := func(id object.ID) string {
		commit, err := w.Planner.Store.Commit(t.Context(), id)
		require.NoError(t, err)
		return "“" + commit.Subject() + "” of " + commit.Author().Name
	}
	var b strings.Builder
	require.NoError(t, c.Same(t.Context()))
	require.True(t, c.Compared())
	for {
		more, err := c.More(t.Context(), 3)
		require.NoError(t, err)
		if len(more) == 0 {
			return b.String()
		}
		for i := range more {
			e := &more[i]
			var names []string
			for _, n := range e.Names {
				names = append(names, "<"+n.Name+">")
			}
			fmt.Fprintln(&b, strings.Join(append(append([]string{e.Sign()}, names...), e.Subject(),
				strings.Join(e.Said(subject), "; ")), " "))
		}
	}
}

func (tm *team) chronicle(revs ...string) string {
	s := tm.session()
	c, err := s.History.Chronicle(tm.t.Context(), revs...)
	require.NoError(tm.t, err)
	out := told(tm.t, s.Workspace, c)
	s.Close()
	return out
}

// commits makes commits in a repository, a minute apart.
func commits(t *testing.T, r *gittest.Repo, minute int, subjects ...string) {
	for i, s := range subjects {
		when := fmt.Sprintf("2026-03-04T10:%02d:00Z", minute+i)
		r.Write(strings.ReplaceAll(s, " ", "-"), s+"\n")
		r.Git("add", "-A")
		r.Git("commit", "-q", "--date", when, "-m", s)
	}
}

// silent is a system whose server has to be asked for its branches, and does not answer.
type silent struct{ lookback.Repository }

func (silent) Discover(context.Context) (int, error) { return 0, errors.New("no answer") }

// TestWhatACommitIsToThePerson goes from two lines to a rebase, its push, and a pick.
func TestWhatACommitIsToThePerson(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	commits(t, tm.other, 1, "theirs one", "same change")
	tm.other.Git("push", "-q")
	commits(t, tm.mine, 3, "same change", "yours two")
	tm.mine.Git("fetch", "-q")
	tm.mine.Git("tag", "v1", "HEAD~2")
	now := tm.chronicle()
	for _, line := range []string{"◐ <main> yours two yours, not pushed\n", "◑ theirs one not in your branch yet\n",
		"◐ same change yours, not pushed; same change as “same change” of", "○ <v1> start where the lines part\n"} {
		assert.Contains(t, now, line)
	}

	s := tm.session()
	p, j, b := ready(t, s, plan.Rebase, settle.Yours)
	_, err := s.Accept(t.Context(), p, j, b, change.Consent{})
	require.NoError(t, err)
	s.Close()
	now = tm.chronicle()
	assert.Contains(t, now, "◐ <main> yours two yours, not pushed; replayed from “yours two” of")
	assert.Contains(t, now, "◌ yours two left behind by a rebase; waypoint 1 keeps it\n")
	assert.Contains(t, now, "◌ same change left behind by a rebase; waypoint 1 keeps it\n")
	tm.mine.Git("push", "-q", "origin", "main")
	now = tm.chronicle()
	assert.Contains(t, now, "yours two yours, on the remote; was “yours two” of")
	assert.Contains(t, now, "◑ theirs one \n")

	// Another branch has a commit of its own, and one that is here by its change.
	tm.other.Git("checkout", "-q", "-b", "topic", "main~2")
	commits(t, tm.other, 10, "yours two", "new there")
	tm.other.Git("push", "-q", "origin", "topic")
	tm.mine.Git("fetch", "-q")
	now = tm.chronicle("origin/topic")
	assert.Contains(t, now, "◑ <origin/topic> new there not in your branch\n")
	assert.Contains(t, now, "yours two not in your branch; same change as “yours two”")
	w, err := OpenWorkspace(t.Context(), tm.mine.Dir)
	require.NoError(t, err)
	defer w.Close()
	all, more, err := w.History.Branchings(t.Context())
	require.NoError(t, err)
	assert.Zero(t, more)
	require.Len(t, all, 2)
	by := map[string]lookback.Branching{all[0].Line.Name: all[0], all[1].Line.Name: all[1]}
	topic := by["origin/topic"]
	assert.Equal(t, []int{2, 3, 1}, []int{topic.There, topic.Here, topic.Same})
	assert.Zero(t, by["origin/main"].There+by["origin/main"].Here)
	w.History.Repo = silent{w.Repo}
	known, _, err := w.History.Lines(t.Context(), true)
	require.EqualError(t, err, "no answer")
	assert.Len(t, known, 3, "two branches and a tag, though the server is silent")

	s = tm.session()
	require.NoError(t, s.Pick(t.Context(), []string{"origin/topic"}, 0))
	p, j, b = ready(t, s, plan.Pick, settle.Yours)
	_, err = s.Accept(t.Context(), p, j, b, change.Consent{})
	require.NoError(t, err)
	s.Close()
	assert.Contains(t, tm.chronicle(), "◐ <main> new there yours, not pushed; picked from “new there”")
}

// TestAHistoryBesideAnOpenSession: what is kept cannot be read then, and that is told.
func TestAHistoryBesideAnOpenSession(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	s := tm.session()
	w, err := OpenWorkspace(t.Context(), tm.mine.Dir)
	require.NoError(t, err)
	defer w.Close()
	c, err := w.History.Chronicle(t.Context())
	require.NoError(t, err)
	require.ErrorIs(t, c.Untold, ledger.ErrInUse)
	assert.Contains(t, told(t, w, c), "start")
	_, err = w.History.Story(t.Context(), "")
	require.ErrorIs(t, err, ledger.ErrInUse)
	s.Close()
	c, err = w.History.Chronicle(t.Context())
	require.NoError(t, err)
	assert.NoError(t, c.Untold)
}

// TestHistoriesOfOddRepositories: without a remote, shallow, unborn, of a name that is nowhere.
func TestHistoriesOfOddRepositories(t *testing.T) {
	t.Parallel()
	gittest.Isolate(t)
	alone := gittest.New(t)
	alone.Commit("first", "f", "1\n")
	alone.Commit("second", "f", "2\n")
	w, err := OpenWorkspace(t.Context(), alone.Dir)
	require.NoError(t, err)
	defer w.Close()
	c, err := w.History.Chronicle(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "○ <main> second \n○ first \n", told(t, w, c))
	_, err = w.History.Chronicle(t.Context(), "nowhere")
	assert.ErrorContains(t, err, `no commit named "nowhere"`)

	alone.Git("checkout", "-q", "--orphan", "unborn")
	_, err = w.History.Chronicle(t.Context())
	assert.ErrorContains(t, err, "has no commit yet")
	alone.Git("checkout", "-q", "-f", "--detach", "main")
	c, err = w.History.Chronicle(t.Context())
	require.NoError(t, err)
	assert.Contains(t, told(t, w, c), "second")

	shallow := gittest.At(t, t.TempDir())
	shallow.Git("clone", "-q", "--depth", "1", "file://"+alone.Dir, ".")
	v, err := OpenWorkspace(t.Context(), shallow.Dir)
	require.NoError(t, err)
	defer v.Close()
	c, err = v.History.Chronicle(t.Context())
	require.NoError(t, err)
	assert.Equal(t, 1, strings.Count(told(t, v, c), "\n"))
	assert.True(t, c.Cut())
}

func TestFind(t *testing.T) {
	t.Parallel()
	gittest.Isolate(t)
	repo := gittest.New(t)
	for i, c := range []struct{ who, when, subject, file string }{
		{"Ilka Renn <ilka@skerry.example>", "2025-12-31T23:59:00+0000", "Round fares #12", "fares/a"},
		{"Mato Veld <mato@skerry.example>", "2026-03-04T10:00:00+0000", "Fares and tides", "tide"},
		{"Ilka Renn <ilka@skerry.example>", "2026-03-05T00:00:00+0000", "Tide window", "fares/b"},
	} {
		repo.Write(c.file, fmt.Sprint(i))
		repo.Git("add", "-A")
		repo.Git("commit", "-q", "--author", c.who, "--date", c.when, "-m", c.subject)
	}
	w, err := OpenWorkspace(t.Context(), repo.Dir)
	require.NoError(t, err)
	defer w.Close()
	c, err := w.History.Chronicle(t.Context())
	require.NoError(t, err)
	all, err := c.More(t.Context(), 10)
	require.NoError(t, err)
	require.Len(t, all, 3)
	for typed, want := range map[string]string{
		"":                             "Tide window, Fares and tides, Round fares #12",
		"FARES":                        "Fares and tides, Round fares #12",
		"tide fares":                   "Fares and tides",
		"by:ilka":                      "Tide window, Round fares #12",
		`by:"ilka renn" tide`:          "Tide window",
		"in:fares/":                    "Tide window, Round fares #12",
		"in:fares/a":                   "Round fares #12",
		"since:2026-03":                "Tide window, Fares and tides",
		"until:2026-03-04":             "Fares and tides, Round fares #12",
		"until:2025":                   "Round fares #12",
		"since:2026 until:2026-03-04":  "Fares and tides",
		"#12":                          "Round fares #12",
		all[1].ID.String()[:8]:         "Fares and tides",
		"http://skerry.example/nobody": "",
	} {
		f, err := lookback.ParseFind(typed)
		require.NoError(t, err, typed)
		assert.Equal(t, typed == "", f.Empty())
		found, err := w.History.Found(t.Context(), f, all)
		require.NoError(t, err)
		var got []string
		for _, e := range found {
			got = append(got, e.Subject())
		}
		assert.Equal(t, want, strings.Join(got, ", "), typed)
	}
	_, err = lookback.ParseFind("since:tomorrow")
	assert.EqualError(t, err, `"tomorrow" is not a date; write it as 2026-03-04, 2026-03 or 2026`)
}

// TestDetails: what is told of a commit, its files and their lines.
func TestDetails(t *testing.T) {
	t.Parallel()
	gittest.Isolate(t)
	repo := gittest.New(t)
	repo.Commit("base", "f", "one\ntwo\nthree\nfour\nfive\nsix\nseven\neight\nnine\nten\n", "old", "moved\nand\nkept\n",
		"bin", "\x00", "gone", "g\n")
	repo.Git("mv", "old", "new")
	repo.Git("rm", "-q", "gone")
	repo.Commit("Mend the pier\n\nFor SKER-12 and #7.", "f", "one\ntwo "+
		"2\nthree\nfour\nfive\nsix\nseven\neight\nnine\nten\neleven\n",
		"bin", "\x00\x01")
	w, err := OpenWorkspace(t.Context(), repo.Dir)
	require.NoError(t, err)
	defer w.Close()
	id, err := w.Repo.Resolve(t.Context(), "HEAD")
	require.NoError(t, err)
	d, err := w.History.Details(t.Context(), id, func(int, int) {})
	require.NoError(t, err)
	assert.Empty(t, d.Signature)
	assert.Nil(t, d.Decided)
	require.Len(t, d.References, 2)
	assert.Equal(t, "SKER-12", d.Text()[d.References[0][0]:d.References[0][1]])
	assert.Equal(t, "#7", d.Text()[d.References[1][0]:d.References[1][1]])
	require.Len(t, d.Sides, 1)
	var got []string
	for _, f := range d.Sides[0].Files {
		got = append(got, fmt.Sprint(f.Path, " ", f.From, " ", f.Added, " ", f.Removed, " ", f.Text))
	}
	assert.Equal(t, []string{"bin  0 0 false", "f  2 1 true", "gone  0 1 true", "new old 0 0 true"}, got)
	n, err := w.History.LinesChanged(t.Context(), d.Node)
	require.NoError(t, err)
	assert.Equal(t, 4, n)

	lines, ok, err := w.History.Change(t.Context(), d.Sides[0].Files[1])
	require.NoError(t, err)
	require.True(t, ok)
	var b strings.Builder
	for _, l := range lines {
		marked := l.Text
		for _, m := range l.Marks {
			marked = marked[:m[0]] + "[" + marked[m[0]:m[1]] + "]" + marked[m[1]:]
		}
		fmt.Fprintf(&b, "%s %d %d %s", [...]string{" ", "-", "+", "~"}[l.Kind], l.Old, l.New,
			strings.TrimSuffix(marked, "\n"))
		if l.Kind == lookback.LinesFolded {
			fmt.Fprintf(&b, "%d", l.Count)
		}
		b.WriteString("\n")
	}
	assert.Equal(t, "  1 1 one\n- 2 0 two\n+ 0 2 two[ 2]\n  3 3 three\n  4 4 four\n  5 5 five\n~ 0 0 2\n  8 8 eight\n"+
		"  9 9 nine\n  10 10 ten\n+ 0 11 eleven\n", b.String())
	_, ok, err = w.History.Change(t.Context(), d.Sides[0].Files[0])
	require.NoError(t, err)
	assert.False(t, ok, "a picture has no lines")

	root, err := w.History.Details(t.Context(), d.Parents[0], nil)
	require.NoError(t, err)
	assert.Len(t, root.Sides[0].Files, 4, "a first commit is held against nothing")
	repo.Git("config", "dorvik.reference", "(")
	_, err = w.History.Details(t.Context(), id, nil)
	assert.ErrorContains(t, err, "dorvik.reference is not a regular expression")
	repo.Git("config", "dorvik.reference", "pier")
	d, err = w.History.Details(t.Context(), id, nil)
	require.NoError(t, err)
	require.Len(t, d.References, 1)

	commit, was, err := w.History.FileBefore(t.Context(), d.Node, "new")
	require.NoError(t, err)
	assert.Equal(t, "old", was)
	assert.Equal(t, d.Parents[0], commit)
	_, was, err = w.History.FileBefore(t.Context(), root.Node, "f")
	require.NoError(t, err)
	assert.Empty(t, was)
}

// TestWhatTheOthersGet: by author, what of theirs the result has otherwise, before and after the push.
func TestWhatTheOthersGet(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	tm.other.Commit("theirs", "f", "one\nTWO\nthree\nfour\nfive\n", "theirs", "t\n")
	tm.other.Git("push", "-q")
	tm.mine.Commit("yours", "f", "one\ntwo\nthree\nfour\nFIVE\n")
	s := tm.session()
	p, j, b := ready(t, s, plan.Rebase, settle.Yours)
	d, err := s.Push.Departure(t.Context(), p, j, b.Tip)
	require.NoError(t, err)
	check := func(others []lookback.Other, pull []string) {
		require.Len(t, others, 1)
		o := others[0]
		assert.Equal(t, []int{1, 1}, []int{o.Commits, o.Kept})
		require.Len(t, o.Files, 1)
		assert.Equal(t, "f", o.Files[0].Path)
		lines, ok, err := s.History.Change(t.Context(), o.Files[0])
		require.NoError(t, err)
		require.True(t, ok)
		assert.Equal(t, "five\n", lines[len(lines)-2].Text, "their line, before yours")
		require.Len(t, pull, 1)
		assert.Contains(t, pull[0], "moves forward by 1 commit with their next pull")
	}
	check(d.Others, d.Pull)
	_, err = s.Accept(t.Context(), p, j, b, change.Consent{})
	require.NoError(t, err)
	p, err = s.Locate(t.Context(), false)
	require.NoError(t, err)
	_, err = s.Push.Tip(t.Context(), p, change.Consent{})
	require.NoError(t, err)
	p, err = s.Locate(t.Context(), true)
	require.NoError(t, err)
	got, err := s.History.LastReceived(t.Context(), p)
	require.NoError(t, err)
	check(got.Others, got.Pull)
	assert.Equal(t, p.Yours, got.Tip)
	yours, theirs, err := s.History.Sides(t.Context(), p)
	require.NoError(t, err)
	assert.Equal(t, "yours theirs", yours[0].Subject()+" "+theirs[0].Subject())

	said := lookback.NextPull(vcs.InGit, p, 1, true, []plan.Published{{Node: yours[0], On: "origin/topic", Who: nil}})
	require.Len(t, said, 2)
	assert.Contains(t, said[1], "1 commit of yours was on origin/topic under another id, and stays there.")
}

// TestAStoryIsToldAfterwards: what was decided, and whether it builds, is kept with the waypoint.
func TestAStoryIsToldAfterwards(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	tm.diverge()
	s := tm.session()
	p, j, b := ready(t, s, plan.Merge, settle.Theirs)
	_, err := s.Prover.Prove(t.Context(), p, termsOf("true", j.Tree), b.Tip, func(string) {}, nil)
	require.NoError(t, err)
	before, err := s.History.Story(t.Context(), "")
	require.NoError(t, err)
	assert.Nil(t, before.Waypoint)
	_, err = s.Accept(t.Context(), p, j, b, change.Consent{})
	require.NoError(t, err)
	s.Close()

	w, err := OpenWorkspace(t.Context(), tm.mine.Dir)
	require.NoError(t, err)
	defer w.Close()
	after, err := w.History.Story(t.Context(), "")
	require.NoError(t, err)
	require.NotNil(t, after.Waypoint)
	assert.Equal(t, before.Join.Tree, after.Join.Tree)
	assert.Equal(t, len(before.Left), len(after.Left))
	require.Len(t, after.Questions, len(before.Questions))
	for i := range after.Questions {
		assert.Equal(t, settle.Theirs, after.Questions[i].Decision.Way)
	}
	require.NotNil(t, after.Checked)
	assert.True(t, after.Checked.Passed)
	assert.False(t, after.Differs)
	assert.False(t, after.Pushed)
	tm.mine.Git("push", "-q", "origin", "main")
	after, err = w.History.Story(t.Context(), "1")
	require.NoError(t, err)
	assert.True(t, after.Pushed)
	_, err = w.History.Story(t.Context(), "2")
	assert.ErrorContains(t, err, "There is no waypoint 2 here.")

	fresh := newTeam(t)
	v, err := OpenWorkspace(t.Context(), fresh.mine.Dir)
	require.NoError(t, err)
	defer v.Close()
	_, err = v.History.Story(t.Context(), "")
	assert.ErrorContains(t, err, "nothing is to be joined here, and nothing was")
}

// TestSignatures: what git says of a signature, in words.
func TestSignatures(t *testing.T) {
	gittest.Isolate(t)
	repo := gittest.New(t)
	repo.Commit("base", "f", "1\n")
	programs := t.TempDir()
	t.Setenv("PATH", programs+":"+os.Getenv("PATH"))
	for _, c := range []struct{ head, says, want string }{
		{"PGP SIGNATURE", "GOODSIG 1234567890ABCDEF Runa Holt\n[GNUPG:] VALIDSIG ABCD 2026 1 0 4 0 1 8 00 " +
			"ABCD\n[GNUPG:] TRUST_ULTIMATE 0",
			"signed by Runa Holt (OpenPGP); the signature is good"},
		{"PGP SIGNATURE", "GOODSIG 1234567890ABCDEF Runa Holt\n[GNUPG:] TRUST_UNDEFINED 0",
			"signed by Runa Holt (OpenPGP); the signature is good, by a key you have not said you trust"},
		{"PGP SIGNATURE", "BADSIG 1234567890ABCDEF Runa Holt", "signed (OpenPGP), and the signature is BAD: this " +
			"is not what was signed"},
		{"PGP SIGNATURE", "EXPKEYSIG 1234567890ABCDEF Runa Holt",
			"signed by Runa Holt (OpenPGP); the signature is good, and expired, or its key is"},
		{"PGP SIGNATURE", "REVKEYSIG 1234567890ABCDEF Runa Holt",
			"signed by Runa Holt (OpenPGP) with a key that was revoked since"},
		{"PGP SIGNATURE", "ERRSIG 1234567890ABCDEF 1 8 00 0 9 -", "signed (OpenPGP); the key to check it with is " +
			"not here"},
		{"SSH SIGNATURE", "", "signed (SSH); it was not checked here: “git verify-commit "},
		{"SIGNED MESSAGE", "", "signed (X.509); it was not checked here"},
	} {
		program := "#!/bin/sh\ncat >/dev/null\nprintf '\\n[GNUPG:] %s\\n' '" + c.says + "'\n"
		for _, name := range []string{"gpg", "gpgsm", "ssh-keygen"} {
			gittest.Program(t, programs+"/"+name, program)
		}
		raw := fmt.Sprintf("tree %s\nauthor A <a@x> 1 +0000\ncommitter A <a@x> 1 +0000\ngpgsig -----BEGIN "+
			"%s-----\n \n x\n"+
			" -----END %s-----\n\nsigned %s\n", repo.Git("rev-parse", "HEAD^{tree}"), c.head, c.head, c.says)
		id, err := repo.TryInput([]byte(raw), "hash-object", "-t", "commit", "-w", "--stdin")
		require.NoError(t, err)
		w, err := OpenWorkspace(t.Context(), repo.Dir)
		require.NoError(t, err)
		commit, err := object.ParseID(id)
		require.NoError(t, err)
		d, err := w.History.Details(t.Context(), commit, nil)
		require.NoError(t, err)
		assert.Contains(t, d.Signature, c.want)
		w.Close()
	}
}

// TestWhatWasRewrittenForOthers: commits that another branch of the remote still has as they were.
func TestWhatWasRewrittenForOthers(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	tm.other.Commit("theirs", "theirs", "t\n")
	tm.other.Git("push", "-q")
	tm.mine.Commit("yours", "yours", "y\n")
	tm.mine.Git("push", "-q", "origin", "HEAD:topic")
	s := tm.session()
	p, j, b := ready(t, s, plan.Rebase, settle.Yours)
	d, err := s.Push.Departure(t.Context(), p, j, b.Tip)
	require.NoError(t, err)
	require.Len(t, d.Pull, 2)
	assert.Contains(t, d.Pull[1], "1 commit of yours was on origin/topic under another id")
	_, err = s.Accept(t.Context(), p, j, b, change.Consent{RewritePublished: true})
	require.NoError(t, err)
	got, err := s.History.LastReceived(t.Context(), p)
	require.NoError(t, err)
	assert.Equal(t, d.Pull[1], got.Pull[1])
	assert.Contains(t, got.Pull[0], "as it was before the push")
}
