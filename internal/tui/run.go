// Package tui is the full screen: the frame, and a file per screen. It contains no rule of the job; it asks recovery
// and shows the answers.
package tui

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/term"

	"dorvik.dev/dorvik/internal/demo"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/words"
)

// Run opens the full screen in a session, and prints the final state on the terminal afterwards. played is the demo,
// if it is one.
func Run(ctx context.Context, s *recovery.Session, themeName string, played *demo.Rehearsal) error {
	a := newApp(ctx, s, themeName)
	a.played = played
	every, err := s.Workspace.FetchEvery(ctx)
	if a.every = every; err != nil {
		a.notice = strings.TrimSpace(a.notice + " " + words.Sentence(err.Error()))
	}
	if age, err := s.Workspace.KeepFor(ctx); err != nil {
		a.notice = strings.TrimSpace(a.notice + " " + words.Sentence(err.Error()))
	} else if age > 0 {
		if _, err := s.Clean(ctx, age); err != nil {
			a.notice = strings.TrimSpace(a.notice + " " + words.Sentence(err.Error()))
		}
	}
	env, wait, close, err := a.serveAsks(ctx)
	if err != nil { // git then fails where it would ask
		a.notice = strings.TrimSpace(a.notice + " " + words.Sentence(err.Error()))
	}
	defer close()
	s.Repo.AskBy(env)
	if err := a.show(ctx, tea.Batch(wait, a.load(false))); err != nil {
		return err
	}
	fmt.Fprintln(os.Stderr, a.farewell())
	return nil
}

// ErrNoTerminal reports that the full screen has nowhere to be.
var ErrNoTerminal = errors.New(
	"there is no terminal here for the full screen. “dorvik look” says where you stand, and " +
		"“dorvik recover” does the job without a screen. Nothing was changed")

// hasTerminal reports whether keys can be read: from standard input, or from the terminal that the process belongs to.
func hasTerminal() bool {
	if term.IsTerminal(os.Stdin.Fd()) {
		return true
	}
	tty, err := os.Open("/dev/tty")
	if err == nil {
		tty.Close()
	}
	return err == nil
}

// show runs the screen until the person leaves.
func (a *app) show(ctx context.Context, first tea.Cmd) error {
	if !hasTerminal() {
		return ErrNoTerminal
	}
	err := a.onTerminal(ctx, first)
	a.leave()
	a.trial.end()
	if err != nil && !errors.Is(err, tea.ErrInterrupted) && ctx.Err() == nil { // otherwise the program was asked to end
		return fmt.Errorf("the full screen ended: %w; your branch and files are safe, and decisions are kept", err)
	}
	return nil
}
