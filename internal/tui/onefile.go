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

// RunFile settles one file in the full screen. save writes the result when everything is settled and the person
// confirms. saved is false if that did not happen.
func RunFile(ctx context.Context, s *recovery.Session, themeName, name string,
	save func(j *plan.Join) error) (saved bool, err error) {
	a := newApp(ctx, s, themeName)
	a.file = &oneFile{name: name, save: save}
	a.stages = []stage{a.settle}
	a.more = nil
	a.title = func() term.Line {
		return term.Line{}.Add(term.Plain, " ").Bold(term.Bright, "dorvik").Add(term.Dim, "  "+filepath.Base(name))
	}
	if err := a.show(ctx, a.loadFile()); err != nil {
		return false, err
	}
	switch {
	case a.file.saved:
		fmt.Fprintf(os.Stderr, "dorvik: %s is written.\n", name)
	case a.join != nil && a.join.Settled > 0:
		fmt.Fprintf(os.Stderr, "dorvik: %s is as it was. What you settled is kept for when you open it again.\n", name)
	default:
		fmt.Fprintf(os.Stderr, "dorvik: %s is as it was.\n", name)
	}
	return a.file.saved, nil
}

// loadFile joins the file and shows the first open conflict.
func (a *app) loadFile() tea.Cmd {
	return a.start("joining", func(ctx context.Context, progress func(int, int)) (then, error) {
		v, err := a.s.Survey(ctx, false, progress)
		if err != nil {
			return nil, err
		}
		return func() tea.Cmd {
			a.pos, a.plan, a.st, a.me = v.Position, v.Plan, v.State, v.Position.Me
			return a.rejoin(func(to *recovery.Session) error { return to.Ledger.TakeRoute(plan.Merge) },
				func() tea.Cmd {
					return a.toNextOpen()
				})
		}, nil
	})
}

// saveFile writes the result and leaves.
func (a *app) saveFile() tea.Cmd {
	join := a.join
	return a.startVital("writing "+a.file.name, func(context.Context, func(int, int)) (then, error) {
		err := a.file.save(join)
		return func() tea.Cmd {
			a.file.saved = true
			return tea.Quit
		}, err
	})
}

// leaveFile leaves without a result, after a question.
func (a *app) leaveFile() tea.Cmd {
	a.ask(term.Warning(a.file.name+" stays as it is; what you settled is kept for when you open it again. Leave?"),
		"leave",
		func() tea.Cmd { return tea.Quit }, quietly(func() {
			a.flash = term.Text(term.Plain, "Nothing was changed.")
		}))
	return nil
}
