package recovery

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/words"
)

// numbered is a text of lines with numbers, some of them changed to others by a prefix.
func numbered(prefix string, changed ...int) string {
	var b strings.Builder
	for i := 1; i <= 14; i++ {
		p := "line"
		for _, c := range changed {
			if c == i {
				p = prefix
			}
		}
		fmt.Fprintf(&b, "%s %d\n", p, i)
	}
	return b.String()
}

var (
	digits = regexp.MustCompile(`\d+`)
	marked = regexp.MustCompile(`(?s)<<<<<<< [^\n]*\n(.*?)>>>>>>> [^\n]*\n`)
)

// byHand settles what is in conflict between marks in a file: each block becomes one line.
func byHand(text string, blocks int) string {
	return marked.ReplaceAllStringFunc(text, func(block string) string {
		if blocks--; blocks < 0 {
			return block
		}
		_, body, _ := strings.Cut(block, "\n")
		return "both " + digits.FindString(body) + "\n"
	})
}

// settleByHand settles all that is open in git's way, and stages it.
func settleByHand(r *gittest.Repo) {
	for path := range strings.FieldsSeq(r.Git("diff", "--name-only", "--diff-filter=U")) {
		r.Write(path, byHand(r.Read(path), 99))
		r.Git("add", path)
	}
}

// halfDone is a way in which git leaves something half done.
type halfDone struct {
	begin    []string // what git is told
	onward   []string // how git goes on
	conflict bool     // begin stops at a conflict
	before   func(r *gittest.Repo)
	until    string // git goes on, all being settled by hand, until this is in its directory
}

var halfDones = map[string]halfDone{
	"merge": {begin: []string{"merge", "origin/main"}, onward: []string{"commit", "--no-edit", "--cleanup=strip"},
		conflict: true},
	"pull": {begin: []string{"pull", "--no-rebase"}, onward: []string{"commit", "--no-edit",
		"--cleanup=strip"}, conflict: true},
	"pull, rebase": {begin: []string{"pull", "--rebase"}, onward: []string{"rebase", "--continue"}, conflict: true},
	"rebase": {begin: []string{"rebase", "origin/main"}, onward: []string{"rebase", "--continue"},
		conflict: true},
	"patches": {begin: []string{"rebase", "--apply", "origin/main"}, onward: []string{"rebase", "--continue"},
		conflict: true},
	"interactive": {begin: []string{"-c", "sequence.editor=sed -i -e s/^pick/squash/ -e 1s/squash/pick/", "rebase",
		"-i",
		"origin/main"}, onward: []string{"rebase", "--continue"}, conflict: true},
	"picks": {begin: []string{"cherry-pick", "..side"}, onward: []string{"cherry-pick", "--continue"}, conflict: true},
	"revert": {begin: []string{"revert", "--no-edit", "HEAD~2"}, onward: []string{"revert", "--continue"},
		conflict: true},
	"several lines": {begin: []string{"merge", "more", "origin/main"}, onward: []string{"commit", "--no-edit",
		"--cleanup=strip"}, conflict: true, before: func(r *gittest.Repo) {
		r.Git("switch", "-q", "-c", "more", "HEAD~3")
		r.Commit("more", "more", "more\n")
		r.Git("switch", "-q", "main")
	}},
	"rebase of merges": {begin: []string{"rebase", "-r", "origin/main"}, onward: []string{"rebase", "--continue"},
		conflict: true, before: mergePart},
	"rebase at a merge": {begin: []string{"rebase", "-r", "origin/main"}, onward: []string{"rebase", "--continue"},
		conflict: true, before: mergePart, until: "MERGE_HEAD"},
}

// mergePart has a line of one's own be merged into the branch, with a conflict.
func mergePart(r *gittest.Repo) {
	r.Git("switch", "-q", "-c", "part", "HEAD~2")
	r.Commit("part", "p", "p\n", "f", numbered("mine", 2, 7, 9))
	r.Git("switch", "-q", "main")
	r.Commit("fourth", "f", numbered("late", 9))
	_, _ = r.Try("merge", "-q", "part")
	settleByHand(r)
	r.Git("commit", "-q", "--no-edit", "--cleanup=strip")
	r.Commit("last", "g", numbered("mine", 5, 9))
}

// settledSoFar is what a person did before giving up.
var settledSoFar = map[string]func(r *gittest.Repo){
	"nothing": func(*gittest.Repo) {},
	"one file staged": func(r *gittest.Repo) {
		r.Write("g", byHand(r.Read("g"), 9))
		r.Git("add", "g")
	},
	"a place between marks": func(r *gittest.Repo) { r.Write("f", byHand(r.Read("f"), 1)) },
	"a file without marks":  func(r *gittest.Repo) { r.Write("f", byHand(r.Read("f"), 9)) },
	"all of it": func(r *gittest.Repo) {
		settleByHand(r)
	},
	"other edits, too": func(r *gittest.Repo) {
		r.Write("f", strings.Replace(byHand(r.Read("f"), 1), "line 14", "edited 14", 1))
		r.Write("other", "edited\n")
		r.Write("loose", "not known\n")
	},
}

// newHalfDone is a clone that git left in the middle.
func newHalfDone(t *testing.T, h halfDone) *gittest.Repo {
	tm := newTeam(t)
	tm.other.Commit("start", "f", numbered("line"), "g", numbered("line"), "other", "other\n")
	tm.other.Git("push", "-q")
	tm.mine.Git("pull", "-q")
	tm.other.Commit("theirs", "f", numbered("theirs", 2, 7, 12), "g", numbered("theirs", 5))
	tm.other.Git("push", "-q")
	mine := tm.mine
	mine.Commit("first", "f", numbered("mine", 2, 7), "g", numbered("mine", 5))
	mine.Commit("second", "b", "b\n")
	mine.Commit("third", "f", numbered("mine", 2, 7, 12))
	mine.Git("switch", "-q", "-c", "side", "HEAD~3")
	mine.Commit("side one", "f", numbered("theirs", 2, 7), "g", numbered("theirs", 5))
	mine.Commit("side two", "s", "s\n")
	mine.Git("switch", "-q", "main")
	mine.Git("fetch", "-q")
	if h.begin[0] == "revert" {
		mine.Commit("over", "f", numbered("later", 2, 7), "g", numbered("later", 5))
		h.begin[len(h.begin)-1] = "HEAD~3"
	}
	if h.before != nil {
		h.before(mine)
	}
	_, err := mine.Try(h.begin...)
	require.Equal(t, h.conflict, err != nil)
	for range 6 {
		if _, err := os.Stat(filepath.Join(mine.Dir, ".git", h.until)); err == nil {
			break
		}
		settleByHand(mine)
		_, _ = mine.Try(append([]string{"-c", "core.editor=true"}, h.onward...)...)
	}
	return mine
}

// onwards has git go on until it is done, everything being settled by hand.
func (h halfDone) onwards(t *testing.T, r *gittest.Repo) {
	edited := r.Read("other")
	r.Git("checkout", "-q", "other") // git rebases no further with edits beside it
	defer r.Write("other", edited)
	settleByHand(r)
	for range 6 {
		out, err := r.Try(append([]string{"-c", "core.editor=true"}, h.onward...)...)
		if err == nil {
			return
		}
		require.Contains(t, out+err.Error(), "onflict")
		settleByHand(r)
	}
	require.Fail(t, "git does not come to an end")
}

// finishBy goes on by Dorvik, everything being settled by hand.
func finishBy(t *testing.T, s *Session, how ledger.TakeOver, route plan.Route) (*ledger.Waypoint, *plan.Join) {
	require.NoError(t, s.TakeOver(t.Context(), how))
	p, err := s.Locate(t.Context(), false)
	require.NoError(t, err)
	require.NoError(t, s.Ledger.Sync(p))
	for {
		j, err := s.Planner.Join(t.Context(), p, route, decisions(s), plan.Amends{}, nil)
		require.NoError(t, err)
		if c := firstWithout(j, decisions(s)); c != nil {
			d := settle.Decision{Key: c.Key, Way: settle.Written, Text: "both " + digits.FindString(c.Yours) + "\n"}
			require.NoError(t, s.Decide(d))
			continue
		}
		b, err := s.Planner.Build(t.Context(), p, j)
		require.NoError(t, err)
		wp, err := s.Accept(t.Context(), p, j, b, change.Consent{RewritePublished: true})
		require.NoError(t, err)
		return wp, j
	}
}

// TestTakeOver: whatever git left half done, and whatever was settled in it, going on by Dorvik
// comes to what going on by git comes to; taking it back comes to where the branch was; and undo
// of either comes to the half-done state again, from which git goes on.
func TestTakeOver(t *testing.T) {
	t.Parallel()
	every := os.Getenv("DORVIK_HISTORIES") != ""
	for i, name := range slices.Sorted(maps.Keys(halfDones)) {
		for k, what := range slices.Sorted(maps.Keys(settledSoFar)) {
			h, some := halfDones[name], settledSoFar[what]
			if !every && (i+k)%2 == 0 {
				continue // in the soak
			}
			t.Run(name+"/"+what, func(t *testing.T) {
				t.Parallel()
				mine := newHalfDone(t, h)
				some(mine)
				before := standingOf(t, mine.Dir)
				says := mine.Git("status")
				was := mine.Git("rev-parse", "main")

				byGit := gittest.At(t, (&harbour{}).copy(t, mine.Dir))
				edited := mine.Read("other")
				h.onwards(t, byGit)

				s := openAgain(t, mine.Dir)
				_, err := s.Locate(t.Context(), false)
				var stuck *plan.StuckError
				require.ErrorAs(t, err, &stuck)
				assert.Contains(t, stuck.Sentence(), "git stopped in the middle of")
				wp, _ := finishBy(t, s, ledger.Finish, "")
				assert.Equal(t, byGit.Git("rev-parse", "main^{tree}"), mine.Git("rev-parse", "main^{tree}"))
				const form = "--format=%an %T %p %B"
				// a merge's message says how its conflicts were settled, too
				settled := regexp.MustCompile(`\n\nConflicts, and how they were settled:\n(\n- .*)+`)
				assert.Equal(t, byGit.Git("log", form, "--topo-order"),
					settled.ReplaceAllString(mine.Git("log", form, "--topo-order"), ""), "the same commits")
				clean(t, mine, edited, what)
				assert.Equal(t, edited, mine.Read("other"), "work beside it is as it was")

				goBackAsBefore(t, s, wp, mine, before, says)
				back, err := s.GiveBack(t.Context())
				require.NoError(t, err)
				assert.Equal(t, was, mine.Git("rev-parse", "main"))
				clean(t, mine, edited, what)
				assert.Equal(t, edited, mine.Read("other"))

				goBackAsBefore(t, s, back, mine, before, says)
				s.Close()
				h.onwards(t, mine)
				assert.Equal(t, byGit.Git("rev-parse", "main^{tree}"), mine.Git("rev-parse", "main^{tree}"),
					"git goes on from what was brought back")
			})
		}
	}
}

// clean holds that git knows of nothing half done, and of nothing uncommitted but what is the
// person's own.
func clean(t *testing.T, r *gittest.Repo, edited, what string) {
	status := strings.ReplaceAll(r.Git("status", "--porcelain"), "\n", "|")
	if edited != "other\n" {
		assert.Equal(t, " M other|?? loose", status, what)
	} else {
		assert.Empty(t, status, what)
	}
	assert.NotRegexp(t, "currently|in progress|unmerged|fixed", r.Git("status"))
	assert.Equal(t, "refs/heads/main", r.Git("symbolic-ref", "HEAD"))
	for _, left := range []string{"MERGE_HEAD", "MERGE_MSG", "CHERRY_PICK_HEAD", "REVERT_HEAD", "rebase-merge",
		"rebase-apply", "sequencer", "refs/rewritten", "index.lock", "dorvik/moving.json"} {
		_, err := os.Lstat(filepath.Join(r.Dir, ".git", left))
		assert.ErrorIs(t, err, os.ErrNotExist, left)
	}
}

// goBackAsBefore undoes a taking over, and holds that git's half-done state is there again.
func goBackAsBefore(t *testing.T, s *Session, wp *ledger.Waypoint, r *gittest.Repo, before standing, says string) {
	_, err := s.Applier.GoBack(t.Context(), wp.Name)
	require.NoError(t, err)
	assert.Equal(t, before, standingOf(t, r.Dir))
	assert.Equal(t, says, r.Git("status"))
}

// TestWhatAListAsksFor: of the lines of a list that replay nothing, what is not done is said, and where the
// list leads where Dorvik cannot follow it is said why.
func TestWhatAListAsksFor(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ edit, notes, why string }{
		"runs":    {`$a exec make test`, "runs “make test” on the way", ""},
		"stops":   {`$a break`, "stops once more", ""},
		"rewords": {`3s/pick/reword/`, "rewords “third”", ""},
		"edits":   {`3s/pick/e/`, "stops at “third”", ""},
		"takes": {`$a update-ref refs/heads/other`, "moves other, too, which was moved since by something else",
			""},
		"drops":     {`2s/pick/drop/`, "", ""},
		"joins":     {`$a merge side`, "", "no commit joined before"},
		"elsewhere": {`$a reset origin/main`, "", "ends on another line"},
		"label":     {`2i label here|$a reset here`, "", "ends on another line"},
		"unknown":   {`$a reset nowhere`, "", "“nowhere”, which is not known"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			mine := newHalfDone(t, halfDone{begin: []string{"-c", "sequence.editor=sed -i -e '" +
				strings.ReplaceAll(c.edit, "|", "' -e '") + "'", "rebase", "-i", "origin/main"}, conflict: true})
			s := openAgain(t, mine.Dir)
			st, err := s.Workspace.Stuck(t.Context())
			require.NoError(t, err)
			assert.Contains(t, strings.Join(st.Notes, "\n"), c.notes)
			assert.Equal(t, c.notes == "", len(st.Notes) == 0)
			assert.Contains(t, st.Sentence(), words.If(name == "drops", "at the 1st of your 2 commits",
				"at the 1st of your"))
			assert.Contains(t, st.Why, c.why)
			assert.Equal(t, c.why == "", st.Why == "" && st.Resume != nil)
			if c.why != "" {
				return
			}
			require.NoError(t, s.TakeOver(t.Context(), ledger.Finish))
			terms, agreed, err := s.Prover.MayCheck(t.Context(), nil, st.Stand)
			require.NoError(t, err)
			assert.Equal(t, name == "runs", terms != nil && terms.Command.Line() == "make test")
			assert.False(t, agreed, "nothing is run without consent")
			_, j := finishBy(t, s, ledger.Finish, "")
			assert.Equal(t, name != "drops", j.Kept() == 3)
		})
	}
}
