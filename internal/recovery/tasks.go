package recovery

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/prove"
	"dorvik.dev/dorvik/internal/vcs"
)

// Task is an entry of the list of tasks.
type Task struct {
	Sign  string // as commits name it
	Title string // the rest of its line
}

// Tasks reads the list of tasks that dorvik.tasks names: a file, or a command after an exclamation mark, with one task
// a line. A command runs only if the setting is the person's own and not the repository's.
type Tasks struct {
	repo    vcs.System
	planner *plan.Planner
	prover  *prove.Prover
	ledger  *ledger.Ledger
}

const (
	tasksSetting = "dorvik.tasks"
	mostOfTasks  = 1 << 20 // bytes of the list that are read
)

// TaskSettings is what the settings say of tasks.
type TaskSettings struct {
	Listed bool   // dorvik.tasks names a list
	Wanted bool   // by dorvik.referenceWanted, a push must name one
	Form   string // by dorvik.taskForm, how a message names one; empty for its sign alone
}

// Naming returns how a message names a task.
func (t TaskSettings) Naming(sign string) string {
	if t.Form == "" {
		return sign
	}
	return strings.ReplaceAll(t.Form, vcs.TaskHere, sign)
}

// Settings reads them.
func (t *Tasks) Settings(ctx context.Context) (out TaskSettings, err error) {
	said, err := t.repo.Config(ctx, tasksSetting)
	if err != nil {
		return out, err
	}
	out.Listed = said != ""
	if out.Form, err = t.repo.Config(ctx, "dorvik.taskForm"); err != nil {
		return out, err
	}
	out.Wanted, err = t.repo.Flag(ctx, "dorvik.referenceWanted")
	return out, err
}

// NamedIn reports whether a message names a task, or need not.
func (t *Tasks) NamedIn(ctx context.Context, message string) (bool, error) {
	refs, err := t.planner.References(ctx)
	return err == nil && (!refs.Wanted || len(refs.In(message)) > 0), err
}

// List returns the tasks in their order, the one that was taken last before the others.
func (t *Tasks) List(ctx context.Context) ([]Task, error) {
	text, err := t.read(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the list of tasks (%s): %w", tasksSetting, err)
	}
	refs, err := t.planner.References(ctx)
	if err != nil {
		return nil, err
	}
	last := t.ledger.State().LastTask
	var out []Task
	for line := range strings.Lines(text) {
		task, ok := taskOf(refs, strings.ToValidUTF8(line, "\uFFFD"))
		switch {
		case !ok:
		case task.Sign == last:
			out = slices.Insert(out, 0, task)
		default:
			out = append(out, task)
		}
	}
	return out, nil
}

// taskOf reads a line of the list: its first sign is the task, or its first word if it has no sign.
func taskOf(refs *plan.References, line string) (Task, bool) {
	line = strings.Join(strings.Fields(line), " ")
	if line == "" {
		return Task{}, false
	}
	if at := refs.Places(line); len(at) > 0 {
		before, after := line[:at[0][0]], line[at[0][1]:]
		title := strings.TrimSpace(before) + " " + strings.TrimLeft(after, " :-–")
		return Task{line[at[0][0]:at[0][1]], strings.TrimSpace(title)}, true
	}
	sign, title, _ := strings.Cut(line, " ")
	return Task{sign, title}, true
}

// read returns the text of the list.
func (t *Tasks) read(ctx context.Context) (string, error) {
	dir := t.repo.Where().Dir
	said, err := t.repo.Config(ctx, tasksSetting)
	if err != nil {
		return "", err
	}
	if strings.HasPrefix(said, "!") {
		line, err := t.prover.OwnProgram(ctx, tasksSetting)
		if err != nil {
			return "", err
		}
		text, err := check.Ask(ctx, dir, strings.TrimPrefix(line, "!"), mostOfTasks)
		return string(text), err
	}
	path, err := t.repo.ConfigPath(ctx, tasksSetting)
	if err != nil {
		return "", err
	}
	if !filepath.IsAbs(path) {
		path = filepath.Join(dir, path)
	}
	if info, err := os.Stat(path); err == nil && !info.Mode().IsRegular() { // opening a pipe would wait for a writer
		return "", fmt.Errorf("%s is not a file", path)
	}
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, mostOfTasks))
	return string(text), err
}

// Took remembers the task that was taken.
func (t *Tasks) Took(sign string) error { return t.ledger.Choices.TakeTask(sign) }
