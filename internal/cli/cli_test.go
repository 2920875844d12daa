package cli

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/demo"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/recovery"
)

func dorvik(args ...string) (code int, out, errs string) {
	var o, e bytes.Buffer
	code = command(args, &o, &e, Screens{Job: func(context.Context, *recovery.Session, string,
		*demo.Rehearsal) error {
		return nil
	}})
	return code, o.String(), e.String()
}

func scene(t *testing.T) *demo.Scene {
	gittest.Isolate(t)
	for _, name := range []string{"GIT_AUTHOR_NAME", "GIT_AUTHOR_EMAIL", "GIT_COMMITTER_NAME", "GIT_COMMITTER_EMAIL",
		"GIT_AUTHOR_DATE", "GIT_COMMITTER_DATE"} {
		os.Unsetenv(name) // the demo's clones say who one is
	}
	s, err := demo.Make(t.Context(), filepath.Join(t.TempDir(), "demo"), demo.AsRuna)
	require.NoError(t, err)
	return s
}

func asJSON(t *testing.T, text string) map[string]any {
	var v map[string]any
	dec := json.NewDecoder(strings.NewReader(text))
	require.NoError(t, dec.Decode(&v), text)
	assert.False(t, dec.More(), "nothing but JSON goes to standard output")
	return v
}

// fingerprint is all that a folder holds: names, modes, times and contents.
func fingerprint(t *testing.T, dir string) string {
	h := sha256.New()
	require.NoError(t, filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		fmt.Fprintln(h, p, info.Mode(), info.ModTime().UnixNano())
		if !d.IsDir() {
			data, err := os.ReadFile(p)
			if err != nil {
				return err
			}
			h.Write(data)
		}
		return nil
	}))
	return fmt.Sprintf("%x", h.Sum(nil))
}

func TestUnrelatedLinesOnlyWhenAsked(t *testing.T) {
	gittest.Isolate(t)
	repo := gittest.New(t)
	repo.Write("a", "1\n")
	repo.Commit("mine")
	repo.Git("checkout", "-q", "--orphan", "other")
	repo.Git("rm", "-qrf", ".")
	repo.Write("b", "2\n")
	repo.Commit("theirs")
	args := []string{"-C", repo.Dir, "plan", "--json", "--yours", "main", "--theirs", "other"}
	code, _, errs := dorvik(args...)
	assert.Equal(t, exitFailed, code)
	assert.Contains(t, errs, "no common ancestor")
	assert.Contains(t, errs, "--unrelated")
	code, out, errs := dorvik(append(args, "--unrelated")...)
	assert.Equal(t, exitDone, code, errs)
	tree := repo.Git("merge-tree", "--write-tree", "--allow-unrelated-histories", "main", "other")
	for _, r := range asJSON(t, out)["routes"].([]any) {
		assert.Equal(t, tree, r.(map[string]any)["tree"])
	}
}

// TestPlanPickAgreesWithGit compares with what git makes of the same picks.
func TestPlanPickAgreesWithGit(t *testing.T) {
	gittest.Isolate(t)
	repo := gittest.New(t)
	repo.Commit("base", "f", "1\n2\n3\n4\n5\n", "g", "1\n")
	repo.Git("checkout", "-q", "-b", "other")
	repo.Commit("one", "f", "ONE\n2\n3\n4\n5\n")
	repo.Commit("two", "g", "2\n")
	repo.Commit("three", "f", "ONE\n2\n3\n4\nFIVE\n")
	repo.Git("checkout", "-q", "main")
	repo.Commit("mine", "h", "1\n")
	repo.Commit("the same as two", "g", "2\n")
	outcomes := func(out string) (names []string) {
		r := asJSON(t, out)["routes"].([]any)[0].(map[string]any)
		assert.Equal(t, "pick", r["route"])
		for _, s := range r["steps"].([]any) {
			names = append(names, s.(map[string]any)["outcome"].(string))
		}
		return append(names, fmt.Sprint(r["tree"]))
	}
	code, out, errs := dorvik("-C", repo.Dir, "plan", "--json", "--pick", "other~2,other~1..other")
	assert.Equal(t, exitDone, code, errs)
	got := outcomes(out)
	code, out, _ = dorvik("-C", repo.Dir, "plan", "--json", "--pick", "main~1..other")
	assert.Equal(t, exitDone, code)
	assert.Equal(t, []string{"clean", "already-there", "clean", got[2]}, outcomes(out))
	assert.Equal(t, []string{"clean", "clean"}, got[:2])

	code, out, _ = dorvik("-C", repo.Dir, "plan", "--json", "--yours", "other", "--pick", "main~1", "--no-such")
	assert.Equal(t, exitUsage, code, out)
	code, _, _ = dorvik("-C", repo.Dir, "plan", "--pick", "other", "--theirs", "other")
	assert.Equal(t, exitUsage, code)
	code, _, errs = dorvik("-C", repo.Dir, "plan", "--pick", "nowhere")
	assert.Equal(t, exitFailed, code)
	assert.Contains(t, errs, "nowhere")
	repo.Git("cherry-pick", "other~2", "other")
	assert.Equal(t, got[2], repo.Git("rev-parse", "HEAD^{tree}"))
	repo.Commit("clash", "g", "mine\n")
	repo.Git("checkout", "-q", "other")
	repo.Commit("four", "g", "theirs\n")
	code, out, _ = dorvik("-C", repo.Dir, "plan", "--yours", "main", "--pick", "other")
	assert.Equal(t, exitConflicts, code)
	assert.Contains(t, out, "g  1 place that both changed")
}

func TestPick(t *testing.T) {
	gittest.Isolate(t)
	remote := gittest.New(t)
	remote.Git("config", "receive.denyCurrentBranch", "ignore")
	remote.Commit("base", "a", "1\n2\n3\n4\n5\n6\n7\n8\n9\n", "b", "b\n")
	remote.Git("branch", "-M", "main")
	dir := filepath.Join(t.TempDir(), "clone")
	remote.Git("clone", "-q", remote.Dir, dir)
	repo := gittest.At(t, dir)
	repo.Git("checkout", "-q", "-b", "other")
	repo.Commit("one", "a", "1\n2\nthree\n4\n5\n6\n7\n8\n9\n")
	repo.Commit("two", "b", "bb\n")
	repo.Commit("three", "a", "1\n2\nthree\n4\n5\n6\n7\n8\nnine\n")
	repo.Git("commit", "-q", "--amend", "--no-edit", "--author", "Ilka Renn <ilka@skerry.example>")
	repo.Git("checkout", "-q", "main")
	before := repo.Commit("mine", "a", "1\n2\nDrei\n4\n5\n6\n7\n8\n9\n")
	state := func() string { return repo.Git("rev-parse", "HEAD") + repo.Git("status", "--porcelain") }

	code, _, errs := dorvik("-C", dir, "pick", "HEAD~1")
	assert.Equal(t, exitDone, code)
	assert.Contains(t, errs, "nothing left to pick")
	repo.Git("revert", "--no-edit", "HEAD")
	code, _, errs = dorvik("-C", dir, "pick", "--no-check", "HEAD~1")
	assert.Equal(t, exitDone, code, errs)
	assert.Equal(t, repo.Git("rev-parse", before+"^{tree}"), repo.Git("rev-parse", "HEAD^{tree}"),
		"it was taken back, so it is not there")
	repo.Git("reset", "-q", "--hard", before)
	code, _, _ = dorvik("-C", dir, "pick")
	assert.Equal(t, exitUsage, code)

	code, out, _ := dorvik("-C", dir, "pick", "--json", "--no-check", "main..other")
	assert.Equal(t, exitConflicts, code)
	v := asJSON(t, out)
	assert.Equal(t, "conflicts", v["result"])
	assert.Len(t, v["open"], 1)
	assert.Equal(t, before, state())
	code, out, _ = dorvik("-C", dir, "look", "--json")
	assert.Equal(t, exitDone, code)
	assert.Equal(t, "pick", asJSON(t, out)["recovery"].(map[string]any)["route"], "the pick is kept")
	_, out, _ = dorvik("-C", dir, "look")
	assert.Contains(t, out, "A pick is unfinished here, of 3 commits")

	code, out, errs = dorvik("-C", dir, "pick", "--json", "--no-check", "--prefer", "theirs", "main..other")
	require.Equal(t, exitDone, code, errs)
	v = asJSON(t, out)
	assert.Equal(t, "joined", v["result"])
	assert.Equal(t, "pick", v["route"])
	picked := repo.Git("rev-parse", "HEAD")
	assert.Equal(t, "three\ntwo\none\nmine\nbase", repo.Git("log", "--format=%s"))
	assert.Equal(t, "Ilka Renn", repo.Git("log", "-1", "--format=%an"))
	assert.Equal(t, repo.Git("rev-parse", "other^{tree}"), repo.Git("rev-parse", "HEAD^{tree}"))
	assert.Empty(t, repo.Git("status", "--porcelain"))
	assert.Contains(t, repo.Git("reflog", "-1"), "cherry-pick: ")

	code, _, _ = dorvik("-C", dir, "undo")
	assert.Equal(t, exitDone, code)
	assert.Equal(t, before, state())
	remote.Commit("new", "c", "c\n")
	code, out, errs = dorvik("-C", dir, "pick", "--json", "--no-check", "--push", "main..other")
	assert.Equal(t, exitRefused, code, "the decision is kept, and the remote has moved")
	assert.Equal(t, "refused", asJSON(t, out)["result"])
	assert.Contains(t, errs, "What you picked is on your branch")
	assert.Equal(t, repo.Git("rev-parse", picked+"^{tree}"), repo.Git("rev-parse", "HEAD^{tree}"))
	code, out, errs = dorvik("-C", dir, "recover", "--json", "--no-check", "--push", "--route", "rebase")
	assert.Equal(t, exitDone, code, errs)
	assert.Equal(t, "pushed", asJSON(t, out)["result"])
	assert.Equal(t, "three\ntwo\none\nmine\nnew\nbase", remote.Git("log", "--format=%s", "main"))

	repo.Git("checkout", "-q", "-b", "joint", "main~2")
	repo.Git("merge", "-q", "--no-ff", "-m", "joint", "main")
	repo.Git("checkout", "-q", "main")
	code, _, errs = dorvik("-C", dir, "pick", "joint")
	assert.Equal(t, exitFailed, code)
	assert.Contains(t, errs, "joins lines")
	code, _, errs = dorvik("-C", dir, "pick", "--parent", "3", "joint")
	assert.Equal(t, exitFailed, code)
	assert.Contains(t, errs, "has no parent 3")
	repo.Git("checkout", "-q", "-B", "main", "main~2")
	repo.Git("branch", "-q", "-u", "origin/main")
	code, _, errs = dorvik("-C", dir, "pick", "--parent", "1", "--no-check", "joint")
	assert.Equal(t, exitDone, code, errs)
	assert.Equal(t, repo.Git("rev-parse", "joint^{tree}"), repo.Git("rev-parse", "HEAD^{tree}"))
	assert.Equal(t, "joint", repo.Git("log", "-1", "--format=%s"))
	assert.NotContains(t, errs, "goroutine")
}

// TestFilesAreWrittenAsAttributesAsk holds that line ends and encodings of the working
// tree are none of a join: contents are joined as git keeps them, and git writes them.
func TestFilesAreWrittenAsAttributesAsk(t *testing.T) {
	gittest.Isolate(t)
	remote := gittest.New(t)
	remote.Git("config", "receive.denyCurrentBranch", "ignore")
	const text = "1\n2\n3\n4\n5\n6\n7\n"
	wide := func(s string) string { return strings.Join(strings.Split(s, ""), "\x00") + "\x00" } // UTF-16LE
	remote.Commit("base", ".gitattributes", "dos text eol=crlf\nauto text=auto\nwide working-tree-encoding=UTF-16LE "+
		"eol=lf\n",
		"dos", text, "auto", text, "wide", wide(text))
	remote.Git("branch", "-M", "main")
	dir := filepath.Join(t.TempDir(), "clone")
	remote.Git("clone", "-q", remote.Dir, dir)
	repo := gittest.At(t, dir)
	mine, theirs := strings.Replace(text, "1", "one", 1), strings.Replace(text, "7", "seven", 1)
	repo.Commit("mine", "dos", mine, "auto", mine, "wide", wide(mine))
	remote.Commit("theirs", "dos", theirs, "auto", theirs, "wide", wide(theirs))
	code, _, errs := dorvik("-C", dir, "recover", "--route", "merge", "--no-check")
	require.Equal(t, exitDone, code, errs)
	both := strings.Replace(mine, "7", "seven", 1)
	assert.Equal(t, strings.ReplaceAll(both, "\n", "\r\n"), repo.Read("dos"))
	assert.Equal(t, both, repo.Read("auto"))
	assert.Equal(t, wide(both), repo.Read("wide"))
	assert.Empty(t, repo.Git("status", "--porcelain"))
	assert.Equal(t, repo.Git("merge-tree", "--write-tree", "HEAD^1", "HEAD^2"), repo.Git("rev-parse", "HEAD^{tree}"))
}

// TestPlanAsksTheRemote: before a fetch what is here says nothing of what the remote has by now.
func TestPlanAsksTheRemote(t *testing.T) {
	s := scene(t)
	code, out, _ := dorvik("-C", s.Clone, "plan", "--json", "--no-fetch")
	assert.Equal(t, exitDone, code)
	v := asJSON(t, out)
	assert.Equal(t, float64(0), v["theirs"].(map[string]any)["commits"])
	assert.Equal(t, false, v["known"].(map[string]any)["asked"])
	code, out, errs := dorvik("-C", s.Clone, "plan", "--no-fetch")
	assert.Equal(t, exitDone, code)
	assert.Contains(t, out, "Nothing new on origin/main as far as is known.")
	assert.Contains(t, errs, "The remote was not asked")
	assert.NotContains(t, out, "Your 4 commits can be pushed")
	code, out, errs = dorvik("-C", s.Clone, "plan", "--json")
	assert.Equal(t, exitConflicts, code, errs)
	v = asJSON(t, out)
	assert.NotEqual(t, float64(0), v["theirs"].(map[string]any)["commits"])
	assert.Equal(t, true, v["known"].(map[string]any)["asked"])
	assert.NotEmpty(t, v["known"].(map[string]any)["at"])
}

func TestPlanChangesNothing(t *testing.T) {
	s := scene(t)
	gittest.At(t, s.Clone).Git("fetch", "-q")
	before := fingerprint(t, s.Clone)
	code, out, errs := dorvik("-C", s.Clone, "plan", "--json", "--no-fetch")
	assert.Equal(t, exitConflicts, code, errs)
	assert.Equal(t, before, fingerprint(t, s.Clone), "the repository is byte for byte as it was")
	p := asJSON(t, out)
	assert.Equal(t, "rebase", p["suggested"])
	assert.Equal(t, "origin/main", p["upstream"])
	routes := p["routes"].([]any)
	merge, rebase := routes[0].(map[string]any), routes[1].(map[string]any)
	assert.Equal(t, []any{
		map[string]any{"path": "docs/harbours.md", "kind": "content", "regions": 1.0},
		map[string]any{"path": "fares/fares.go", "kind": "content", "regions": 1.0}}, merge["conflicts"])
	assert.Nil(t, merge["tree"])
	var outcomes []string
	for _, step := range rebase["steps"].([]any) {
		outcomes = append(outcomes, step.(map[string]any)["outcome"].(string))
	}
	assert.Equal(t, []string{"already-there", "conflict", "conflict", "clean"}, outcomes)

	code, out, _ = dorvik("-C", s.Clone, "plan", "--json", "--route", "merge", "--yours", "main~3")
	assert.Equal(t, exitDone, code)
	route := asJSON(t, out)["routes"].([]any)[0].(map[string]any)
	assert.Equal(t, true, route["clean"])
	assert.Len(t, route["tree"], 40)
	code, out, _ = dorvik("-C", s.Clone, "plan", "--json", "--yours", "origin/main~4")
	assert.Equal(t, exitDone, code)
	route = asJSON(t, out)["routes"].([]any)[0].(map[string]any)
	assert.Equal(t, "fast-forward", route["trivial"])
	assert.NotNil(t, route["tree"])
	code, out, errs = dorvik("-C", s.Clone, "plan")
	assert.Equal(t, exitConflicts, code)
	assert.Empty(t, errs)
	assert.Contains(t, out, "rebase  asks 2 decisions at 2 stops")
	assert.Contains(t, out, "is already there: Mato Veld made the same change")
}

// allowed are the git commands the product may run.
const allowed = " rev-parse for-each-ref rev-list cat-file index-pack unpack-objects commit-tree update-ref read-tree " +
	"checkout-index update-index write-tree ls-files status worktree ls-remote fetch push config check-attr hook var "

// watchGit puts a git that writes down its arguments first on the PATH. What it gives checks that
// there were calls, and that all of them are allowed.
func watchGit(t *testing.T) (check func()) {
	calls := logGit(t)
	return func() {
		lines := calls()
		assert.Greater(t, len(lines), 30)
		for _, l := range lines {
			name, _, _ := strings.Cut(strings.TrimPrefix(l, "-c core.hooksPath=/dev/null "), " ")
			assert.Contains(t, allowed, " "+name+" ", l)
		}
	}
}

// logGit puts a git that writes down its arguments first on the PATH, and gives what gives these.
func logGit(t *testing.T) (calls func() []string) {
	real, err := exec.LookPath("git")
	require.NoError(t, err)
	dir := t.TempDir()
	log := filepath.Join(dir, "log")
	// git sets GIT_EXEC_PATH for the commands it starts itself; only ours count.
	script := fmt.Sprintf("#!/bin/sh\n[ -n \"$GIT_EXEC_PATH\" ] || echo \"$*\" >> %s\nexec %s \"$@\"\n", log, real)
	gittest.Program(t, filepath.Join(dir, "git"), script)
	t.Setenv("PATH", dir+":"+os.Getenv("PATH"))
	return func() []string {
		data, err := os.ReadFile(log)
		require.NoError(t, err)
		return strings.Split(strings.TrimSpace(string(data)), "\n")
	}
}

// TestFewProcessesAreStarted: what is done often asks git once.
func TestFewProcessesAreStarted(t *testing.T) {
	s := scene(t)
	calls := logGit(t)
	before := 0
	for _, c := range []struct {
		most int
		args []string
	}{{1, []string{"look", "--short", "--no-fetch"}},
		{1, []string{"plan", "--route", "merge", "--yours", "main", "--theirs", "origin/main"}},
		{1, []string{"plan", "--route", "rebase", "--yours", "main", "--theirs", "origin/main"}}} {
		code, _, errs := dorvik(append([]string{"-C", s.Clone}, c.args...)...)
		require.Contains(t, []int{exitDone, exitConflicts}, code, errs)
		all := calls()
		assert.Len(t, all[before:], c.most, "%v", all[before:])
		before = len(all)
	}
}

// TestOnlyPlumbingIsStarted does the whole job by both routes, with a check and an undo.
func TestOnlyPlumbingIsStarted(t *testing.T) {
	for _, route := range []string{"rebase", "merge"} {
		s := scene(t)
		check := watchGit(t)
		dorvik("-C", s.Clone, "look")
		dorvik("-C", s.Clone, "plan")
		dorvik("-C", s.Clone, "history", "--decided")
		dorvik("-C", s.Clone, "annotate", "fares/fares.go")
		dorvik("-C", s.Clone, "draw", "report", "-o", filepath.Join(t.TempDir(), "x.svg"))
		for _, also := range [][]string{{"look", "--branches"}, {"look", "--short"}, {"logbook"}} {
			code, _, errs := dorvik(append([]string{"-C", s.Clone}, also...)...)
			assert.Contains(t, []int{exitDone, exitConflicts}, code, "%v: %s", also, errs)
		}
		code, _, errs := dorvik("-C", s.Clone, "recover", "--route", route, "--prefer", "suggested", "--check", "true")
		require.Equal(t, exitDone, code, errs)
		code, _, errs = dorvik("-C", s.Clone, "undo")
		require.Equal(t, exitDone, code, errs)
		code, _, errs = dorvik("-C", s.Clone, "recover", "--route", route, "--no-check", "--push")
		require.Equal(t, exitDone, code, errs)

		check()
	}
}

// TestOnlyPlumbingTakesOver: nor is more than that started to finish, join anew or take back what
// git left half done, to carry work along, to go back after a push, or to undo by a commit.
func TestOnlyPlumbingTakesOver(t *testing.T) {
	for _, begin := range []string{"merge", "rebase"} {
		s := scene(t)
		mine := gittest.At(t, s.Clone)
		mine.Git("fetch", "-q")
		mine.Git("stash", "-q")
		_, err := mine.Try(begin, "origin/main")
		require.Error(t, err)
		mine.Write("cmd/skerry/main.go", mine.Read("cmd/skerry/main.go")+"\n// not committed yet\n")
		check := watchGit(t)
		do := func(args ...string) {
			code, _, errs := dorvik(append([]string{"-C", s.Clone}, args...)...)
			require.Equal(t, exitDone, code, "%s, %v: %s", begin, args, errs)
		}
		recover := []string{"recover", "--prefer", "suggested,theirs", "--no-check", "--take-over"}
		for _, how := range []string{"back", "anew", "finish"} {
			do(append(recover, how, "--carry")...)
			do("undo")
		}
		do(append(recover, "finish", "--push", "--carry")...)
		_, out, _ := dorvik("-C", s.Clone, "logbook", "--json")
		name := fmt.Sprint(asJSON(t, out)["entries"].([]any)[0].(map[string]any)["waypoint"])
		do("undo", name, "--since")
		do("undo")
		do("undo", name, "--by-commit")
		do("push")
		check()
	}
}

func TestRecover(t *testing.T) {
	s := scene(t)
	mine := gittest.At(t, s.Clone)
	tip := mine.Git("rev-parse", "main")

	code, out, errs := dorvik("-C", s.Clone, "recover", "--json")
	assert.Equal(t, exitConflicts, code, errs)
	r := asJSON(t, out)
	assert.Equal(t, "conflicts", r["result"])
	assert.Len(t, r["open"], 2)
	assert.Equal(t, tip, mine.Git("rev-parse", "main"))

	code, out, errs = dorvik("-C", s.Clone, "recover", "--prefer", "suggested", "--json")
	assert.Equal(t, exitFailed, code, "a check that was found is not run before it is agreed to")
	assert.Contains(t, errs, "--check 'go build ./... && go test ./...'")
	assert.Equal(t, "failed", asJSON(t, out)["result"])

	code, out, _ = dorvik("-C", s.Clone, "recover", "--check", "echo timetable/sailing.go:29:9: no; false", "--json")
	assert.Equal(t, exitCheck, code)
	r = asJSON(t, out)
	assert.Equal(t, "check-failed", r["result"])
	assert.Len(t, r["misfits"], 1, "told before the check")
	assert.Equal(t, false, r["check"].(map[string]any)["passed"])
	assert.Equal(t, tip, mine.Git("rev-parse", "main"))

	code, out, _ = dorvik("-C", s.Clone, "recover", "--no-check", "--json")
	assert.Equal(t, exitDone, code)
	r = asJSON(t, out)
	assert.Equal(t, "joined", r["result"])
	assert.Equal(t, mine.Git("rev-parse", "main"), r["tip"])
	assert.Equal(t, mine.Git("rev-parse", "main^{tree}"), r["tree"])
	assert.Len(t, r["settled"], 2)
	assert.Len(t, r["already_there"], 1)
	assert.Empty(t, r["left_out"])
	assert.NotEmpty(t, r["waypoint"])

	code, out, _ = dorvik("-C", s.Clone, "undo", "--json")
	assert.Equal(t, exitDone, code)
	assert.Equal(t, tip, asJSON(t, out)["tip"])
	code, _, errs = dorvik("-C", s.Clone, "undo")
	assert.Equal(t, exitFailed, code)
	assert.Contains(t, errs, "nothing to undo")

	code, _, _ = dorvik("-C", s.Clone, "recover", "--no-check")
	assert.Equal(t, exitDone, code)
	other := gittest.At(t, s.Teammates[0].Clone)
	other.Git("-c", "user.name=Ilka Renn", "commit", "-q", "--allow-empty", "-m", "meanwhile")
	other.Git("push", "-q")
	// The remote has moved on since: this joins again, on what is new.
	code, out, errs = dorvik("-C", s.Clone, "recover", "--no-check", "--push", "--json")
	assert.Equal(t, exitDone, code, errs)
	assert.Equal(t, "pushed", asJSON(t, out)["result"])
	assert.Equal(t, mine.Git("rev-parse", "main"), gittest.At(t, s.Remote).Git("rev-parse", "main"))

	code, out, _ = dorvik("-C", s.Clone, "recover", "--push", "--json")
	assert.Equal(t, exitDone, code)
	assert.Equal(t, "nothing-to-do", asJSON(t, out)["result"])
}

func TestRefusedByAHook(t *testing.T) {
	s := scene(t)
	hook := filepath.Join(s.Remote, "hooks", "pre-receive")
	require.NoError(t, os.MkdirAll(filepath.Dir(hook), 0o755))
	require.NoError(t, os.WriteFile(hook, []byte("#!/bin/sh\nprintf 'No pushes \\033[31mon Fridays.\\n'\nexit 1\n"),
		0o755))
	code, out, errs := dorvik("-C", s.Clone, "recover", "--prefer", "suggested", "--no-check", "--push", "--json")
	assert.Equal(t, exitRefused, code)
	r := asJSON(t, out)
	assert.Equal(t, "refused", r["result"])
	assert.Equal(t, "rule", r["refusal"].(map[string]any)["kind"])
	assert.Contains(t, errs, "No pushes ␛[31mon Fridays.", "what the server says reaches the terminal as marks")
	code, _, _ = dorvik("-C", s.Clone, "recover", "--push")
	assert.Equal(t, exitRefused, code, "the joined result stays and can be pushed again")
	require.NoError(t, os.Remove(hook))
	code, _, errs = dorvik("-C", s.Clone, "recover", "--push")
	assert.Equal(t, exitDone, code, errs)
}

func TestLook(t *testing.T) {
	s := scene(t)
	code, out, _ := dorvik("-C", s.Clone, "look", "--no-fetch", "--json")
	assert.Equal(t, exitDone, code)
	assert.Equal(t, 0.0, asJSON(t, out)["theirs"].(map[string]any)["commits"])
	code, out, _ = dorvik("-C", s.Clone, "look", "--json")
	assert.Equal(t, exitDone, code)
	l := asJSON(t, out)
	assert.Equal(t, 4.0, l["theirs"].(map[string]any)["commits"])
	assert.Len(t, l["overlap"], 9)
	assert.Equal(t, []any{"cmd/skerry/main.go"}, l["uncommitted"])
	assert.Nil(t, l["recovery"])
	dorvik("-C", s.Clone, "recover", "--route", "merge")
	_, out, _ = dorvik("-C", s.Clone, "look", "--json")
	assert.Equal(t, map[string]any{"stage": "Settle", "route": "merge", "decisions": 0.0}, asJSON(t, out)["recovery"])
	code, out, errs := dorvik("-C", s.Clone, "look")
	assert.Equal(t, exitDone, code)
	assert.Empty(t, errs, "what was asked for goes to standard output")
	assert.Contains(t, out, "Ilka Renn and Mato Veld pushed 4 commits to origin/main")
	assert.Contains(t, out, "A recovery is unfinished here, at Settle")
}

func TestWays(t *testing.T) {
	dir := t.TempDir()
	file := func(name, text string) string {
		p := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(p, []byte(text), 0o644))
		return p
	}
	base := file("base", "package a\n\nfunc f(x int) int {\n\treturn x * g(1)\n}\n\nvar a = 1\nvar b = 1\nvar c = 1\n")
	yours := file("yours", "package a\n\nfunc f(x int) int {\n\treturn x * h(1)\n}\n\nvar a = 1\nvar b = 1\nvar c = "+
		"2\n")
	theirs := file("theirs", "package a\n\nfunc f(x int) int {\n\treturn round(x * g(1))\n}\n\nvar a = 1\nvar b = "+
		"1\nvar c = 1\n")
	code, out, errs := dorvik("ways", "--json", "--name", "a.go", base, yours, theirs)
	require.Equal(t, exitDone, code, errs)
	w := asJSON(t, out)
	assert.Equal(t, 1.0, w["joined_by_itself"])
	c := w["conflicts"].([]any)[0].(map[string]any)
	assert.Equal(t, []any{4.0, 4.0}, c["base_lines"])
	assert.Equal(t, "weave", c["suggested"])
	ways := c["ways"].([]any)
	weave, mine := ways[0].(map[string]any), ways[1].(map[string]any)
	assert.Equal(t, "\treturn round(x * h(1))\n", weave["text"])
	assert.Equal(t, true, weave["parses"])
	assert.Empty(t, weave["leaves_out"])
	assert.Equal(t, []any{map[string]any{"side": "theirs", "text": "round("}, map[string]any{"side": "theirs",
		"text": ")"}}, mine["leaves_out"])

	const moving, rest = "one\ntwo\nthree\n", "a\nb\nc\nd\n"
	code, out, _ = dorvik("ways", "--json", file("b.txt", moving+rest), file("y.txt", rest+moving),
		file("t.txt", "one\nTWO\nthree\n"+rest))
	assert.Equal(t, exitDone, code)
	followed := asJSON(t, out)["conflicts"].([]any)[0].(map[string]any)["ways"].([]any)[0].(map[string]any)
	assert.Empty(t, followed["text"], "nothing stays in the place")
	assert.Equal(t, map[string]any{"side": "yours", "lines": []any{5.0, 7.0}, "text": "one\nTWO\nthree\n"},
		followed["moved"])

	code, out, _ = dorvik("ways", "--json", "--whole", "--name", "a.go", base, yours, theirs)
	assert.Equal(t, exitDone, code)
	for _, way := range asJSON(t, out)["conflicts"].([]any)[0].(map[string]any)["ways"].([]any) {
		way := way.(map[string]any)
		assert.Equal(t,
			"package a\n\nfunc f(x int) int {\n"+way["text"].(string)+"}\n\nvar a = 1\nvar b = 1\nvar c = 2\n",
			way["file"])
	}

	code, out, _ = dorvik("ways", "--json", "--name", "x.txt", base, base, theirs)
	assert.Equal(t, exitDone, code)
	assert.Equal(t, []any{}, asJSON(t, out)["conflicts"])
	code, _, errs = dorvik("ways", base, file("bin", "\x00"), theirs)
	assert.Equal(t, exitFailed, code)
	assert.Contains(t, errs, "not a text")
}

func TestWrongUse(t *testing.T) {
	s := scene(t)
	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"--nonsense"}, exitUsage, "unknown flag"},
		{[]string{"plan", "--route", "sideways"}, exitUsage, "sideways"},
		{[]string{"recover", "--prefer", "ours"}, exitUsage, "ours"},
		{[]string{"recover", "--check", "true", "--no-check"}, exitUsage, "both"},
		{[]string{"ways", "a"}, exitUsage, "three files"},
		{[]string{"undo", "1", "2"}, exitUsage, "accepts at most 1"},
		{[]string{"plan", "extra"}, exitUsage, "extra"},
		{[]string{"conquer"}, exitUsage, "conquer"},
		{[]string{"--theme", "plaid"}, exitUsage, "plaid"},
		{[]string{"plan", "--yours", "nowhere"}, exitFailed, "nowhere"},
		{[]string{"undo", "17"}, exitFailed, "no waypoint 17"},
		{[]string{"--help"}, exitDone, "Somebody pushed before you"},
		{nil, exitDone, ""},
	} {
		code, out, errs := dorvik(append([]string{"-C", s.Clone}, c.args...)...)
		assert.Equal(t, c.code, code, "%v: %s", c.args, errs)
		if c.code == exitDone { // what was asked for goes to standard output, all else to standard error
			out, errs = errs, out
		}
		assert.Contains(t, errs, c.says, "%v", c.args)
		assert.Empty(t, out, "%v", c.args)
	}
	code, _, errs := dorvik("-C", t.TempDir(), "look")
	assert.Equal(t, exitFailed, code)
	assert.Contains(t, errs, "not in a git repository")
}

func TestDemoCommand(t *testing.T) {
	gittest.Isolate(t)
	dir := filepath.Join(t.TempDir(), "d")
	code, out, _ := dorvik("demo", "--no-ui", "--dir", dir)
	assert.Equal(t, exitDone, code)
	d := asJSON(t, out)
	assert.DirExists(t, d["clone"].(string))
	assert.Len(t, d["teammates"], 2)
	code, _, errs := dorvik("demo", "--dir", filepath.Join(t.TempDir(), "e"))
	assert.Equal(t, exitDone, code)
	assert.Contains(t, errs, "stay in")
}

// TestLookSaysWhatIsSo: how old what is known is, what is in the way, and that a run was cut off.
func TestLookSaysWhatIsSo(t *testing.T) {
	s := scene(t)
	mine := gittest.At(t, s.Clone)
	_, out, _ := dorvik("-C", s.Clone, "look", "--json")
	assert.Empty(t, asJSON(t, out)["in_the_way"])
	mine.Write("fares/fares.go", "package fares\n")
	_, out, errs := dorvik("-C", s.Clone, "look", "--no-fetch", "--json")
	l := asJSON(t, out)
	assert.Equal(t, []any{"fares/fares.go"}, l["in_the_way"])
	assert.NotEmpty(t, l["known"])
	assert.Empty(t, errs)
	_, out, errs = dorvik("-C", s.Clone, "look", "--no-fetch")
	assert.Contains(t, errs, "The remote was not asked: this is what was fetched on ")
	assert.Contains(t, out, "the join must change fares/fares.go")
	assert.NotContains(t, out, "leaves them as they are")
	mine.Git("checkout", "-q", "fares/fares.go")

	tip := mine.Git("rev-parse", "main")
	require.NoError(t, os.MkdirAll(filepath.Join(s.Clone, ".git/dorvik"), 0o755))
	was, is := mine.Git("rev-parse", "main^{tree}"), mine.Git("rev-parse", "origin/main^{tree}")
	body := fmt.Sprintf(`{"kind":"accept","branch":"main","from":"%s","to":"%s","waypoint":{"name":"1","branch":"main"},
"lay":{"Start":"%s","Had":"%s","Staged":"%s","Files":"%s","Keep":"switch"}}`, tip, mine.Git("rev-parse", "origin/main"), was,
		was, is, is)
	require.NoError(t, os.MkdirAll(filepath.Join(s.Clone, ".git/dorvik/kept/switch"), 0o700))
	data, err := os.ReadFile(filepath.Join(s.Clone, ".git/index"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(s.Clone, ".git/dorvik/kept/switch/index"), data, 0o600))
	mine.Write(".git/dorvik/moving.json", fmt.Sprintf("dorvik journal 2 %x\n%s", sha256.Sum256([]byte(body)), body))
	code, out, errs := dorvik("-C", s.Clone, "look", "--json")
	assert.Equal(t, exitDone, code)
	assert.Equal(t, "accept", asJSON(t, out)["half_done"])
	assert.Contains(t, errs, "Dorvik was interrupted while it changed your branch main")
	busy, err := os.Create(filepath.Join(s.Clone,
		".git/dorvik/busy")) // as by a git that outlives it, or another Dorvik
	require.NoError(t, err)
	require.NoError(t, syscall.Flock(int(busy.Fd()), syscall.LOCK_EX))
	_, out, errs = dorvik("-C", s.Clone, "look", "--json")
	assert.Equal(t, true, asJSON(t, out)["under_way"])
	assert.Contains(t, errs, "Dorvik is changing your branch main just now")
	assert.NotContains(t, errs, "not committed")
	require.NoError(t, busy.Close())
	_, out, errs = dorvik("-C", s.Clone, "recover", "--no-check", "--json")
	assert.Contains(t, errs, "They are as they were before")
	assert.Contains(t, asJSON(t, out)["notice"], "interrupted")
	_, out, _ = dorvik("-C", s.Clone, "look", "--json")
	assert.Empty(t, asJSON(t, out)["half_done"])
	mine.Write(".git/dorvik/moving.json", "{")
	code, _, errs = dorvik("-C", s.Clone, "look")
	assert.Equal(t, exitFailed, code)
	assert.Contains(t, errs, "cannot be read")
	_, _, errs = dorvik("-C", s.Clone, "recover", "--no-check")
	assert.Contains(t, errs, "set aside as moving.json.damaged-1")
	code, _, _ = dorvik("-C", s.Clone, "look")
	assert.Equal(t, exitDone, code)
}

// TestWhatHasToBeConfirmed stops with exit code 3 and says what to say.
func TestWhatHasToBeConfirmed(t *testing.T) {
	s := scene(t)
	mine := gittest.At(t, s.Clone)
	mine.Git("push", "-q", "origin", "main:refs/heads/elsewhere")
	tip := mine.Git("rev-parse", "main")
	args := []string{"-C", s.Clone, "recover", "--route", "rebase", "--prefer", "suggested,theirs", "--no-check",
		"--json"}
	code, out, errs := dorvik(args...)
	assert.Equal(t, exitConflicts, code)
	assert.Len(t, asJSON(t, out)["published"], 4)
	assert.Contains(t, errs, "--rewrite-published")
	assert.Equal(t, tip, mine.Git("rev-parse", "main"))
	code, _, errs = dorvik(append(args, "--rewrite-published")...)
	assert.Equal(t, exitDone, code, errs)
	dorvik("-C", s.Clone, "undo")

	mine.Commit("bad", "notes.txt", "<<<<<<< a\nx\n=======\ny\n>>>>>>> b\n")
	mine.Commit("mended", "notes.txt", "x\n")
	args = []string{"-C", s.Clone, "recover", "--route", "merge", "--prefer", "suggested,theirs", "--no-check",
		"--push", "--json"}
	code, out, errs = dorvik(args...)
	assert.Equal(t, exitConflicts, code)
	assert.Len(t, asJSON(t, out)["marks"], 1)
	assert.Contains(t, errs, "conflict marks stand in notes.txt in")
	code, out, errs = dorvik(append(args, "--push-marks")...)
	assert.Equal(t, exitDone, code, errs)
	assert.Equal(t, "pushed", asJSON(t, out)["result"])
}

// TestJSONWhateverHappens: one value comes out, also where nothing can be done.
func TestJSONWhateverHappens(t *testing.T) {
	for _, args := range [][]string{{"look"}, {"plan"}, {"recover"}, {"pick", "nowhere"}, {"undo"}} {
		code, out, _ := dorvik(append([]string{"-C", t.TempDir(), "--json"}[:2], append(args, "--json")...)...)
		assert.Equal(t, exitFailed, code)
		v := asJSON(t, out)
		assert.Equal(t, "failed", v["result"], args)
		assert.NotEmpty(t, v["error"], args)
	}
}

// TestHistoryAnnotateAndDraw goes through the commands that look back, after a join by either route.
func TestHistoryAnnotateAndDraw(t *testing.T) {
	s := scene(t)
	at := func(args ...string) (int, string, string) { return dorvik(append([]string{"-C", s.Clone}, args...)...) }
	code, out, errs := at("history", "--json")
	require.Equal(t, exitDone, code, errs)
	first := asJSON(t, out)["commits"].([]any)[0].(map[string]any)
	assert.Equal(t, []any{"Print the berth on the ticket", "Runa Holt", "yours", nil, "2026-03-04T11:00:00Z"},
		[]any{first["subject"], first["author"], first["where"], first["was"], first["date"]})
	code, _, errs = at("recover", "--route", "merge", "--prefer", "weave,yours-theirs", "--no-check", "--push")
	require.Equal(t, exitDone, code, errs)

	code, out, errs = at("history", "--json", "--decided", "--max", "1")
	require.Equal(t, exitDone, code, errs)
	commits := asJSON(t, out)["commits"].([]any)
	require.Len(t, commits, 1)
	merge := commits[0].(map[string]any)
	assert.Equal(t, "remote", merge["where"])
	var decided []string
	for _, d := range merge["decided"].([]any) {
		d := d.(map[string]any)
		decided = append(decided, fmt.Sprint(d["path"], " ", d["kind"], " ", d["way"]))
	}
	assert.Equal(t, []string{"docs/harbours.md content yours-theirs", "fares/fares.go content weave"}, decided)
	code, out, errs = at("history", "--find", "by:mato holm")
	assert.Equal(t, exitDone, code)
	assert.Empty(t, errs)
	assert.Regexp(t, `^ +[0-9a-f]{40}  Add Holm to the harbour list  Mato Veld, 4 Mar 2026\n$`, out)
	for _, wrong := range [][]string{{"history", "--find", "since:never"}, {"annotate"}, {"annotate", "a", "b", "c"},
		{"draw"},
		{"draw", "pie", "-o", "x.svg"}, {"draw", "report"}, {"draw", "report", "-o", "x.png"}, {"draw", "report",
			"main", "-o", "x.md"},
		{"draw", "report", "-o", "x.pdf", "--paper", "a5"}, {"draw", "report", "-o", "x.pdf", "--theme",
			"blue"}, {"demo", "--scene", "x"}} {
		code, _, _ := at(wrong...)
		assert.Equal(t, exitUsage, code, wrong)
	}

	code, out, errs = at("annotate", "--json", "docs/harbours.md")
	require.Equal(t, exitDone, code, errs)
	lines := asJSON(t, out)["lines"].([]any)
	require.Len(t, lines, 12)
	holm := lines[9].(map[string]any)
	assert.Equal(t, []any{10.0, 9.0, "docs/harbours.md", "Mato Veld", "mato@skerry.example",
		"Add Holm to the harbour list"},
		[]any{holm["line"], holm["from_line"], holm["path"], holm["author"], holm["email"], holm["subject"]})
	code, out, _ = at("annotate", "HEAD~1", "routes.json")
	assert.Equal(t, exitDone, code)
	assert.Contains(t, out, "Runa Holt")
	code, out, errs = at("annotate", "--json", "assets/pier.png")
	assert.Equal(t, exitFailed, code)
	assert.Contains(t, errs, "assets/pier.png has no lines: it is no text")
	assert.Equal(t, "failed", asJSON(t, out)["result"])

	for _, kind := range []string{"history", "overlap", "routes", "activity", "report"} {
		file := filepath.Join(t.TempDir(), kind+".svg")
		code, out, errs := at("draw", kind, "-o", file, "--theme", "dark", "--json")
		require.Equal(t, exitDone, code, errs)
		info, err := os.Stat(file)
		require.NoError(t, err)
		assert.Equal(t, float64(info.Size()), asJSON(t, out)["bytes"])
		code, _, errs = at("draw", kind, "-o", file)
		assert.Equal(t, exitFailed, code)
		assert.Contains(t, errs, "is there already")
	}
}

func TestLogbook(t *testing.T) {
	s := scene(t)
	code, out, errs := dorvik("-C", s.Clone, "logbook", "--json")
	require.Equal(t, exitDone, code, errs)
	assert.Equal(t, []any{}, asJSON(t, out)["entries"])
	code, out, _ = dorvik("-C", s.Clone, "logbook")
	assert.Equal(t, exitDone, code)
	assert.Equal(t, "Dorvik has changed nothing here yet.\n", out)
	tip := gittest.At(t, s.Clone).Git("rev-parse", "main")
	code, _, errs = dorvik("-C", s.Clone, "recover", "--route", "merge", "--prefer", "suggested", "--no-check")
	require.Equal(t, exitDone, code, errs)
	code, _, errs = dorvik("-C", s.Clone, "undo")
	require.Equal(t, exitDone, code, errs)
	code, out, errs = dorvik("-C", s.Clone, "logbook", "--json")
	require.Equal(t, exitDone, code, errs)
	all := asJSON(t, out)["entries"].([]any)
	require.Len(t, all, 2)
	undone := all[0].(map[string]any)
	assert.Equal(t, []any{"undo", "1", "main", "merge", tip},
		[]any{undone["what"], undone["waypoint"], undone["branch"], undone["route"], undone["to"]})
	code, out, errs = dorvik("-C", s.Clone, "logbook")
	assert.Equal(t, exitDone, code)
	assert.Empty(t, errs)
	assert.Contains(t, out, "waypoint 1 main was joined by merge, and went to ")
}

// TestACommandThatReadsIsLeftAtOnce: amid something that takes long and looks at nothing else, too.
func TestACommandThatReadsIsLeftAtOnce(t *testing.T) {
	gittest.Isolate(t)
	repo := gittest.New(t)
	long := func(tag string) string { // no line is another's, and all words are
		var b strings.Builder
		for n := range 20_000 {
			fmt.Fprintf(&b, "%s %d a b c d e f g h\n", tag, n)
		}
		return b.String()
	}
	repo.Commit("base", "f", long("base"))
	repo.Git("checkout", "-q", "-b", "theirs")
	repo.Commit("theirs", "f", long("theirs"))
	repo.Git("checkout", "-q", "main")
	repo.Commit("yours", "f", long("yours"))
	ctx, stop := context.WithCancel(t.Context())
	stop()
	var out, errs bytes.Buffer
	code := run(ctx, []string{"-C", repo.Dir, "plan", "--json", "--yours", "main", "--theirs", "theirs"}, &out, &errs,
		Screens{})
	assert.Equal(t, exitFailed, code)
	assert.Equal(t, "failed", asJSON(t, out.String())["result"])
	for name, want := range map[string]bool{"plan": true, "look": true, "recover": false, "push": false,
		"undo": false} {
		cmd, _, err := Root().Find([]string{name})
		require.NoError(t, err)
		assert.Equal(t, want, cmd.Annotations[reads] != "", name)
	}
}
