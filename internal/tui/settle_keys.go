package tui

import (
	"fmt"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/tui/keys"
)

func (s *settleScreen) actions() []action {
	q := s.question()
	if q == nil {
		return []action{acts(keys.Next, s.onward(), s.job.nav.joined), act(keys.Back, "", s.leave)}
	}
	out := s.wayActions(q)
	if !q.Question.Whole() {
		out = append(out, acts(keys.Write, "write it", s.deciding().write),
			acts(keys.Take, "edit by edit", s.deciding().takeEdits))
	}
	if len(s.job.questions) > 1 {
		out = append(out, act(keys.Following, "conflict",
			func() tea.Cmd { return s.turnTo((s.at + 1) % len(s.job.questions)) }),
			also(keys.Previous,
				func() tea.Cmd { return s.turnTo((s.at + len(s.job.questions) - 1) % len(s.job.questions)) }))
	}
	if !q.Question.Whole() {
		out = append(out, act(keys.Views, s.views.next(), quietly(func() {
			s.views = (s.views + 1) % viewCount
			s.edits.To(0)
		})))
	}
	if !q.Question.Whole() {
		out = append(out, also(keys.Annotate, func() tea.Cmd { return openJoinedLines(s.job, q.Question.Path) }))
	}
	if s.job.join.Settled > 0 {
		out = append(out, acts(keys.Undo, "", s.deciding().undoDecision))
	}
	if len(s.job.st.Decisions.Undone) > 0 {
		out = append(out, acts(keys.RedoTyping, "redo", s.deciding().redoDecision))
	}
	out = append(out, act(keys.List, "the list", quietly(s.toList)))
	out = append(out, s.besideActions(q)...)
	if s.job.join.Open > 1 || len(q.File.Wholly()) > 0 {
		out = append(out, acts(keys.Alike, "", s.openAlike))
	}
	out = append(append(out, roadAction(s.job, s.question())...), acts(keys.Back, "", s.leave))
	return append(out, scrollKeys(s.scrolled())[2:]...) // page keys only; up and down mark ways
}

// wayActions returns the keys that mark and take a way.
func (s *settleScreen) wayActions(q *plan.Attributed) (out []action) {
	switch {
	case s.job.join.Open == 0 && s.marksDecision():
		out = append(out, acts(keys.Next, s.onward(), s.deciding().decide))
	case s.marksDecision():
		out = append(out, acts(keys.Next, "the next open one", s.deciding().decide))
	case s.way == unmarked:
		out = append(out, also(keys.Next, s.deciding().decide))
	case s.way == len(q.Question.Ways):
		out = append(out, acts(keys.Next, "write it", s.deciding().write))
	default:
		out = append(out, acts(keys.Next, "settle it", s.deciding().decide))
	}
	mark := func(by int) func() tea.Cmd { return quietly(func() { s.mark(s.way + by) }) }
	up := keys.Written(keys.Up, fmt.Sprintf("1–%d", len(q.Question.Ways)), "mark a way")
	out = append(out, action{up, mark(-1), false}, also(keys.Down, mark(1)))
	for i := range min(9, len(q.Question.Ways)) {
		out = append(out, also(keys.Digits[i+1], quietly(func() { s.mark(i) })))
	}
	return out
}

// besideActions returns the other keys: the commits behind the edits, their authors, a viewer.
func (s *settleScreen) besideActions(q *plan.Attributed) (out []action) {
	for i, side := range []struct {
		key  key.Binding
		node history.Node
	}{{keys.YourCommit, q.Yours}, {keys.TheirCommit, q.Theirs}} {
		if side.node.Commit != nil && s.job.file == nil && !s.job.join.Stops[q.Stop].Uncommitted {
			all := q.Wrote[i].Commits
			if len(all) == 0 {
				all = []history.Node{side.node}
			}
			out = append(out, also(side.key, func() tea.Cmd { return showCommits(s.job, side.key, all) }))
		}
	}
	if s.seen[q.Question.Key] != nil {
		out = append(out, acts(keys.Output, "open both in a viewer", s.viewOutside))
	}
	if s.way >= 0 && s.way < len(q.Question.Ways) && q.Question.Ways[s.way].Way == settle.AsBefore {
		out = append(out, acts(keys.Drop, "forget that", s.deciding().forget))
	}
	if q.Decision == nil && s.job.file == nil {
		out = append(out, s.asideAction(), also(keys.Colleague, s.askColleague))
	}
	return out
}
