package recovery

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/vcs"
)

// withWork has staged, unstaged and untracked work.
func withWork(t *testing.T) *team {
	tm := newTeam(t)
	tm.mine.Write("g", "staged\n")
	tm.mine.Git("add", "g")
	tm.mine.Write("g", "staged\nand more\n")
	tm.mine.Write("d/h", "edited\n")
	tm.mine.Write("new/file", "new\n")
	return tm
}

// Each draft commits what it says and nothing else; the files stay, and undo brings back exactly what was.
func TestUncommittedWorkIsCommitted(t *testing.T) {
	for name, c := range map[string]struct {
		draft  Draft
		has    map[string]string // in the commit
		status string
	}{
		"what is staged": {Draft{Staged: true}, map[string]string{"g": "staged\n", "d/h": "h\n"},
			" M d/h\n M g\n?? new/"},
		"one file": {Draft{Paths: []string{"d/h"}}, map[string]string{"g": "g\n", "d/h": "edited\n"},
			"MM g\n?? new/"},
		"a new file": {Draft{Paths: []string{"new/file"}}, map[string]string{"new/file": "new\n", "g": "g\n"},
			" M d/h\nMM g"},
		"everything": {Draft{Paths: []string{"g", "d/h", "new/file"}}, map[string]string{"g": "staged\nand more\n",
			"d/h": "edited\n", "new/file": "new\n"}, ""},
		"some edits of a file": {Draft{Paths: []string{"d/h"}, Texts: map[string]string{"d/h": "half\n"}},
			map[string]string{"d/h": "half\n"}, " M d/h\nMM g\n?? new/"},
		"the last commit": {Draft{Paths: []string{"d/h"}, Amends: true}, map[string]string{"d/h": "edited\n",
			"own": "own\n"},
			"MM g\n?? new/"},
	} {
		t.Run(name, func(t *testing.T) {
			tm := withWork(t)
			if c.draft.Amends {
				tm.mine.Git("stash", "-q", "-u")
				tm.mine.Commit("own", "own", "own\n")
				tm.mine.Git("stash", "pop", "-q", "--index")
			}
			before, was := tm.mine.Git("status", "--porcelain"), tm.mine.Git("rev-parse", "HEAD")
			s := tm.session()
			c.draft.Message = "#7 Warn of ice"
			wp, err := s.Commits.Make(t.Context(), c.draft, change.Consent{})
			require.NoError(t, err)
			assert.Equal(t, "#7 Warn of ice", tm.mine.Git("log", "-1", "--format=%s"), "a sign of a task is no comment")
			parent := was
			if c.draft.Amends {
				parent = tm.mine.Git("rev-parse", was+"^")
			}
			assert.Equal(t, parent, tm.mine.Git("rev-parse", "HEAD^"))
			for path, text := range c.has {
				assert.Equal(t, text, tm.mine.Content("HEAD", path), path)
			}
			assert.Equal(t, c.status, tm.mine.Git("status", "--porcelain"))
			assert.Equal(t, "staged\nand more\n", tm.mine.Read("g"))
			assert.Equal(t, "edited\n", tm.mine.Read("d/h"))
			assert.Equal(t, "new\n", tm.mine.Read("new/file"))
			assert.Contains(t, entry(t, s, ledger.Committed).Sentence(vcs.InGit, "x"), "Uncommitted work was committed on main")

			_, err = s.Applier.GoBack(t.Context(), wp.Name)
			require.NoError(t, err)
			assert.Equal(t, was, tm.mine.Git("rev-parse", "HEAD"))
			assert.Equal(t, before, tm.mine.Git("status", "--porcelain"), "undo")
		})
	}
}

// A new file that is all there is stays when its commit is undone.
func TestOnlyANewFileIsCommitted(t *testing.T) {
	tm := newTeam(t)
	tm.mine.Write("new/file", "new\n")
	s := tm.session()
	wp, err := s.Commits.Make(t.Context(), Draft{Paths: []string{"new/file"}, Message: "m"}, change.Consent{})
	require.NoError(t, err)
	assert.Empty(t, tm.mine.Git("status", "--porcelain"))
	list, err := s.Commits.Changed(t.Context())
	require.NoError(t, err)
	assert.Empty(t, list)
	_, err = s.Applier.GoBack(t.Context(), wp.Name)
	require.NoError(t, err)
	assert.Equal(t, "new\n", tm.mine.Read("new/file"))
	assert.Equal(t, "?? new/", tm.mine.Git("status", "--porcelain"))
	list, err = s.Commits.Changed(t.Context())
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, "new/file", list[0].Path)
}

// What cannot be committed is told, and nothing changes.
func TestWhatIsNotCommitted(t *testing.T) {
	for name, c := range map[string]struct {
		do    func(tm *team)
		draft Draft
		says  string
	}{
		"nothing staged": {func(tm *team) { tm.mine.Git("reset", "-q") }, Draft{Staged: true, Message: "m"},
			"Nothing is staged"},
		"no message":        {func(*team) {}, Draft{Staged: true, Message: " \n"}, "no message"},
		"only comments":     {func(*team) {}, Draft{Staged: true, Message: "# m\n", Commented: true}, "no message"},
		"an unchanged file": {func(*team) {}, Draft{Paths: []string{"f"}, Message: "m"}, "None of the chosen files"},
		"a pushed commit":   {func(*team) {}, Draft{Staged: true, Message: "m", Amends: true}, "was pushed"},
		"no branch": {func(tm *team) { tm.mine.Git("checkout", "-q", "--detach") },
			Draft{Staged: true, Message: "m"}, "no branch"},
		"a hook that says no": {func(tm *team) { tm.localHook("pre-commit", "echo 'Not on Fridays.'; exit 1") },
			Draft{Staged: true, Message: "m"}, "Not on Fridays"},
		"a hook about messages": {func(tm *team) {
			tm.localHook("commit-msg",
				`grep -q '#[0-9]' "$1" || { echo 'No task.'; exit 1; }`)
		},
			Draft{Staged: true, Message: "m"}, "No task"},
	} {
		t.Run(name, func(t *testing.T) {
			tm := withWork(t)
			c.do(tm)
			before := tm.mine.Git("status", "--porcelain") + tm.mine.Git("rev-parse", "HEAD")
			s := tm.session()
			_, err := s.Commits.Make(t.Context(), c.draft, change.Consent{})
			assert.ErrorContains(t, err, c.says)
			assert.Equal(t, before, tm.mine.Git("status", "--porcelain")+tm.mine.Git("rev-parse", "HEAD"))
		})
	}
}

// localHook has git run a program here.
func (tm *team) localHook(name, text string) {
	path := filepath.Join(tm.mine.Dir, ".git/hooks", name)
	require.NoError(tm.t, os.MkdirAll(filepath.Dir(path), 0o755))
	gittest.Program(tm.t, path, "#!/bin/sh\n"+text+"\n")
}

// Hooks see what is committed, can edit its message, and run afterwards.
func TestCommittingRunsTheHooks(t *testing.T) {
	tm := withWork(t)
	seen := filepath.Join(t.TempDir(), "seen")
	tm.localHook("pre-commit", "git diff --cached --name-only > "+seen)
	tm.localHook("prepare-commit-msg", `echo "Task: #7" >> "$1"; echo "$2" >> `+seen)
	tm.localHook("post-commit", "git log -1 --format=%s >> "+seen)
	s := tm.session()
	_, err := s.Commits.Make(t.Context(), Draft{Paths: []string{"d/h"}, Message: "Warn of ice\n"}, change.Consent{})
	require.NoError(t, err)
	assert.Equal(t, "Warn of ice\nTask: #7\n", tm.mine.Git("log", "-1", "--format=%B"))
	data, err := os.ReadFile(seen)
	require.NoError(t, err)
	assert.Equal(t, "d/h\nmessage\nWarn of ice Task: #7\n", string(data))

	template := filepath.Join(t.TempDir(), "template")
	require.NoError(t, os.WriteFile(template, []byte("# Which task?\n"), 0o644))
	tm.mine.Git("config", "commit.template", template)
	text, err := s.Commits.Template(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "# Which task?\n", text)
}
