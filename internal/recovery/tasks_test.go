package recovery

import (
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/gittest"
)

// The list is a file or the output of a command of one's own, with the task that was taken last at its head.
func TestTheListOfTasks(t *testing.T) {
	tm, ctx := newTeam(t), t.Context()
	s := tm.session()
	set, err := s.Tasks.Settings(ctx)
	require.NoError(t, err)
	assert.Equal(t, TaskSettings{}, set)

	tm.mine.Write(".git/tasks",
		"#7 Warn of ice\n\n  ISLE-8:  Warn   of fog\r\nFix: see #9\nplain words\nlonely\n\xff #10\n")
	tm.mine.Git("config", "dorvik.tasks", ".git/tasks")
	tm.mine.Git("config", "dorvik.referenceWanted", "true")
	set, err = s.Tasks.Settings(ctx)
	require.NoError(t, err)
	assert.Equal(t, TaskSettings{Listed: true, Wanted: true}, set)
	want := []Task{{"#7", "Warn of ice"}, {"ISLE-8", "Warn of fog"}, {"#9", "Fix: see"}, {"plain", "words"},
		{"lonely", ""}, {"#10", "\uFFFD"}}
	got, err := s.Tasks.List(ctx)
	require.NoError(t, err)
	assert.Equal(t, want, got)

	require.NoError(t, s.Tasks.Took("#9"))
	got, err = s.Tasks.List(ctx)
	require.NoError(t, err)
	assert.Equal(t, []Task{want[2], want[0], want[1]}, got[:3])

	ran := filepath.Join(t.TempDir(), "ran")
	tm.mine.Git("config", "dorvik.tasks", "!touch '"+ran+"'; echo '#1 One'")
	_, err = s.Tasks.List(ctx)
	assert.ErrorContains(t, err, "set by the repository's own configuration", "a command of the repository")
	assert.NoFileExists(t, ran)
	tm.mine.Git("config", "--unset", "dorvik.tasks")
	gittest.Own(t, "dorvik.tasks", "!touch '"+ran+"'; echo '#1 One'")
	got, err = s.Tasks.List(ctx)
	require.NoError(t, err)
	assert.Equal(t, []Task{{"#1", "One"}}, got)
	assert.FileExists(t, ran)

	require.NoError(t, syscall.Mkfifo(filepath.Join(tm.mine.Dir, ".git", "pipe"), 0o600))
	for said, problem := range map[string]string{
		"!echo no server >&2; exit 3": "ended with exit status 3: no server",
		".git/none":                   "no such file",
		".":                           "is not a file",
		".git/pipe":                   "is not a file", // and nobody writes into it
	} {
		gittest.Own(t, "dorvik.tasks", said)
		_, err = s.Tasks.List(ctx)
		assert.ErrorContains(t, err, "reading the list of tasks (dorvik.tasks): ", said)
		assert.ErrorContains(t, err, problem, said)
	}
	gittest.Own(t, "dorvik.tasks", "!yes '#2 Again'")
	got, err = s.Tasks.List(ctx)
	require.NoError(t, err, "a list without end is cut")
	assert.Equal(t, Task{"#2", "Again"}, got[len(got)/2])
	assert.Less(t, len(strings.Repeat("#2 Again\n", len(got))), 2*mostOfTasks)
}
