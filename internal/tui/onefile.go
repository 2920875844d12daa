package tui

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/tui/term"
)

// oneFile is the settling of a single file: there is Settle alone, and what it ends with is a file.
type oneFile struct {
	name  string // that the result is written to
	save  func(j *plan.Join) error
	saved bool
}

// RunFile settles one file in the full screen. save writes the result, when all is settled and the person
// says so; saved is false where that did not come to be.
func RunFile(ctx context.Context, s *recovery.Session, themeName, name string,
	save func(j *plan.Join) error) (saved bool, err error) {
	j := newJob(ctx, s, themeName)
	j.file = &oneFile{name: name, save: save}
	j.stages = []stage{j.settle}
	j.more = nil
	j.title = func() term.Line {
		return term.Line{}.Add(term.Plain, " ").Bold(term.Bright, "dorvik").Add(term.Dim, "  "+filepath.Base(name))
	}
	if err := j.show(ctx, j.loadFile()); err != nil {
		return false, err
	}
	switch {
	case j.file.saved:
		fmt.Fprintf(os.Stderr, "dorvik: %s is written.\n", name)
	case j.join != nil && j.join.Settled > 0:
		fmt.Fprintf(os.Stderr, "dorvik: %s is as it was. What you settled is kept for when you open it again.\n", name)
	default:
		fmt.Fprintf(os.Stderr, "dorvik: %s is as it was.\n", name)
	}
	return j.file.saved, nil
}

// loadFile works the file's join out, and shows the first conflict that is open.
func (j *job) loadFile() tea.Cmd {
	return j.start("joining", func(ctx context.Context, progress func(int, int)) (then, error) {
		v, err := j.s.Survey(ctx, false, progress)
		if err != nil {
			return nil, err
		}
		return func() tea.Cmd {
			j.pos, j.plan, j.st, j.me = v.Position, v.Plan, v.State, v.Position.Me
			return j.rejoin(func(to *recovery.Session) error { return to.Ledger.TakeRoute(plan.Merge) },
				func() tea.Cmd {
					return j.settle.enter(j.settle.nextOpen(-1))
				})
		}, nil
	})
}

// saveFile writes the result, and leaves.
func (j *job) saveFile() tea.Cmd {
	join := j.join
	return j.startVital("writing "+j.file.name, func(context.Context, func(int, int)) (then, error) {
		err := j.file.save(join)
		return func() tea.Cmd {
			j.file.saved = true
			return tea.Quit
		}, err
	})
}

// leaveFile leaves without a result, when that was asked for.
func (j *job) leaveFile() tea.Cmd {
	j.ask(term.Warning(j.file.name+" stays as it is; what you settled is kept for when you open it again. Leave?"), "leave",
		func() tea.Cmd { return tea.Quit }, func() { j.flash = term.Text(term.Plain, "Nothing was changed.") })
	return nil
}
