package recovery

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/ledger"
)

// through goes through and returns the steps.
func (tm *team) through(s *Session) (*Through, string) {
	var steps []string
	t, err := s.GoThrough(tm.t.Context(), func(step string) { steps = append(steps, step) })
	require.NoError(tm.t, err)
	return t, strings.Join(steps, "\n")
}

// agreed has a check that may run.
func (tm *team) agreed(line string) {
	gittest.Own(tm.t, "dorvik.check", line)
}

// One call does all where nothing asks, and stops at the first thing that does.
func TestGoingThrough(t *testing.T) {
	for name, c := range map[string]struct {
		do    func(tm *team)
		stage ledger.Stage
		why   string // empty if it is pushed
	}{
		"all": {func(tm *team) { tm.agreed("true") }, 0, ""},
		"a conflict": {func(tm *team) { tm.agreed("true"); tm.mine.Commit("two", "d/h", "mine\n") }, ledger.Settle,
			"1 conflict needs a decision"},
		"no check":   {func(*team) {}, ledger.Check, "no check was found"},
		"it fails":   {func(tm *team) { tm.agreed("false") }, ledger.Check, "“false” failed on the joined code"},
		"in the way": {func(tm *team) { tm.agreed("true"); tm.mine.Write("d/h", "edited\n") }, ledger.Push, "d/h"},
		"own, rewritten": {func(tm *team) {
			tm.mine.Git("pull", "-q", "--rebase")
			tm.mine.Git("push", "-q")
			tm.mine.Git("commit", "-q", "--amend", "-m", "better")
		}, ledger.Look, "earlier forms of your own commits"},
		"a task": {func(tm *team) {
			tm.agreed("true")
			tm.mine.Git("config", "dorvik.referenceWanted", "true")
		}, ledger.Push, "no commit that goes names a task"},
		"a task, with nothing to join": {func(tm *team) {
			tm.mine.Git("pull", "-q", "--rebase")
			tm.mine.Git("config", "dorvik.referenceWanted", "true")
		}, ledger.Push, "no commit that goes names a task"},
		"each commit": {func(tm *team) {
			tm.agreed("test ! -e m || test -e m2")
			tm.mine.Git("config", "dorvik.checkEach", "true")
			tm.mine.Commit("mine two", "m2", "m2\n")
		}, ledger.Check, "failed on the new commit"},
		"a rule": {func(tm *team) { tm.agreed("true"); tm.refuse() }, ledger.Push, "by a hook or a rule"},
		"no branch": {func(tm *team) { tm.mine.Git("checkout", "-q", "--detach") }, ledger.Look,
			"You are on no branch"},
		"nothing": {func(tm *team) { tm.mine.Git("pull", "-q", "--rebase"); tm.mine.Git("push", "-q") },
			ledger.Look, "nothing to do"},
		"only theirs": {func(tm *team) { tm.mine.Git("reset", "-q", "--hard", "HEAD~1") }, ledger.Look,
			"nothing to push"},
	} {
		t.Run(name, func(t *testing.T) {
			tm := newTeam(t)
			tm.mine.Commit("mine", "m", "m\n")
			tm.other.Commit("theirs", "d/h", "H\n")
			tm.other.Git("push", "-q")
			c.do(tm)
			was, branch := tm.remote.Git("rev-parse", "main"), tm.mine.Git("rev-parse", "HEAD")
			s := tm.session()
			out, steps := tm.through(s)
			if c.why == "" {
				assert.Equal(t, tm.mine.Git("rev-parse", "main"), tm.remote.Git("rev-parse", "main"))
				assert.Contains(t, steps,
					"Joined by rebase: nothing had to be decided.\nThe joined code passes “true”.\n"+
						"main has the result.\nPushed. origin/main now holds")
				return
			}
			assert.Equal(t, c.stage, out.Stage, out.Why)
			assert.Contains(t, out.Why, c.why)
			assert.Equal(t, was, tm.remote.Git("rev-parse", "main"))
			if name != "a rule" && name != "only theirs" {
				assert.Equal(t, branch, tm.mine.Git("rev-parse", "HEAD"), "it stops before the branch changes")
			}
		})
	}
}

// refuse has the server refuse every push.
func (tm *team) refuse(says ...string) {
	hook := filepath.Join(tm.remote.Dir, "hooks", "pre-receive")
	require.NoError(tm.t, os.MkdirAll(filepath.Dir(hook), 0o755))
	said := strings.Join(says, "\n")
	gittest.Program(tm.t, hook, "#!/bin/sh\ncat >&2 <<'END'\n"+said+"\nEND\nexit 1\n")
}

// Somebody pushes before every push of ours: it is joined again each time, decisions stay, and nothing is lost or
// doubled. The soak does many rounds.
func TestABranchThatStaysBusy(t *testing.T) {
	rounds := 4
	if os.Getenv("DORVIK_HISTORIES") != "" {
		rounds = 200
	}
	tm := newTeam(t)
	tm.agreed("true")
	tm.mine.Commit("mine", "m", "m\n")
	left := filepath.Join(t.TempDir(), "left")
	require.NoError(t, os.WriteFile(left, []byte(strconv.Itoa(rounds)), 0o644))
	gittest.Program(t, filepath.Join(tm.mine.Dir, ".git/hooks/pre-push"), fmt.Sprintf(`#!/bin/sh
left=$(cat %[1]s)
[ "$left" -gt 0 ] || exit 0
echo $((left - 1)) > %[1]s
unset $(git rev-parse --local-env-vars)
cd %[2]s && echo "$left" > "busy-$left" && git add . && git commit -q -m "busy $left" && git push -q
`, left, tm.other.Dir))
	s := tm.session()
	out, steps := tm.through(s)
	require.Empty(t, out.Why)
	assert.Equal(t, rounds+1, out.Tries)
	assert.Equal(t, rounds, strings.Count(steps, "Somebody pushed first"))
	assert.Equal(t, tm.mine.Git("rev-parse", "main"), tm.remote.Git("rev-parse", "main"))
	subjects := tm.remote.Git("log", "--format=%s", "main")
	for i := 1; i <= rounds; i++ {
		assert.Equal(t, 1, strings.Count(subjects+"\n", fmt.Sprintf("busy %d\n", i)))
	}
	assert.Equal(t, 1, strings.Count(subjects, "mine"))
}
