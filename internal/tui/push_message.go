package tui

import (
	"context"
	"strings"

	tea "charm.land/bubbletea/v2"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/tui/term"
)

// pushMessage edits the messages of the commits that Push shows.
type pushMessage struct{ s *pushScreen }

// write opens the message of the merge commit.
func (m pushMessage) write() tea.Cmd {
	s := m.s
	ed := term.NewEditor(strings.TrimRight(s.job.join.Message, "\n"), 1)
	title := term.Text(term.Plain, " ").Bold(term.Bright, "ITS MESSAGE").Add(term.Dim,
		"  of the merge commit; the first line is its subject")
	s.job.open(&writing{frame: s.job.frame, ed: ed, right: s.status(), name: "MERGE_MSG", own: s.job.s.Repo.Editor,
		says:   "An empty message brings back the proposed one. Nothing on disk changes yet.",
		around: func(w, h int) term.Page { return append(term.Page{title, nil}, ed.View(w, h-2)...) },
		save:   m.written})
	return nil
}

// written stores the message of the merge commit and makes the commit again.
func (m pushMessage) written(text string) tea.Cmd {
	s := m.s
	if text = strings.TrimSpace(text); text != "" {
		text += "\n"
	}
	return s.job.rejoin(func(to *recovery.Session) error { return to.Ledger.Choices.Write(text) }, func() tea.Cmd {
		pos, join := s.job.pos, s.job.join
		return s.job.start("making the commit again", func(ctx context.Context, _ func(int, int)) (then, error) {
			built, err := s.job.s.Planner.Build(ctx, pos, join)
			return func() tea.Cmd { s.job.built = built; return s.enter() }, err
		})
	})
}

// reword opens the message of the last commit that is replayed. With more than one it shows the road.
func (m pushMessage) reword() tea.Cmd {
	s := m.s
	cmd := openRoad(s.job, nil)
	road, ok := s.job.screen().(*roadScreen)
	if !ok {
		return cmd
	}
	if last, ok := replay.Last(s.job.join.Steps); ok {
		road.list.row = last
		if s.job.join.Kept() == 1 {
			return tea.Batch(cmd, road.reword())
		}
		s.job.flash = term.Text(term.Plain, "Mark the commit, then press w.")
	}
	return cmd
}
