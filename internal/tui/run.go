// Package tui is the full screen: the frame, and a file for each screen. It
// holds no rule of the job; it shows what recovery says and asks it.
package tui

import (
	"context"
	"errors"
	"fmt"
	"os"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"

	"dorvik.dev/dorvik/internal/recovery"
)

// Run opens the full screen on the repository that holds a folder, and says on
// the terminal afterwards how things were left.
func Run(ctx context.Context, s *recovery.Session, themeName string) error {
	j := newJob(ctx, s, themeName)
	options := []tea.ProgramOption{tea.WithContext(ctx)}
	if c := os.Getenv("COLORTERM"); j.theme.colour && (c == "truecolor" || c == "24bit") {
		options = append(options, tea.WithColorProfile(colorprofile.TrueColor)) // the terminal says so itself
	}
	_, err := tea.NewProgram(program{j.frame, j.load(false)}, options...).Run()
	j.leave()
	if err != nil && !errors.Is(err, tea.ErrInterrupted) {
		return fmt.Errorf("the full screen ended: %w; your branch and files are safe, and decisions are kept", err)
	}
	fmt.Fprintln(os.Stderr, j.farewell())
	return nil
}

// program is a frame and what is done first.
type program struct {
	*frame
	first tea.Cmd
}

// Init gives what is done first.
func (p program) Init() tea.Cmd { return p.first }
