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
	return message{text: s.job.join.Message, of: "the merge commit", file: "MERGE_MSG", status: s.status(),
		says: "An empty message brings back the proposed one. Nothing on disk changes yet.", save: m.written,
		wanted: s.ready != nil && s.ready.NoTask}.write(s.job)
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
			return tea.Batch(cmd, road.reword(s.ready != nil && s.ready.NoTask))
		}
		s.job.flash = term.Text(term.Plain, "Mark the commit, then press w.")
	}
	return cmd
}
