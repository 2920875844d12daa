package tui

import (
	"context"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// leaveStuck returns to the half-done operation.
func (j *job) leaveStuck() tea.Cmd {
	return j.start("going back to what was half done", func(context.Context, func(int, int)) (then, error) {
		err := j.s.Ledger.LeaveStuck()
		return func() tea.Cmd { return j.nav.load(false) }, err
	})
}

// carryWork turns carrying of uncommitted work on or off. onward, unless nil, continues after the join.
func (j *job) carryWork(onward then) tea.Cmd {
	on := !j.st.Carry
	return j.start("reading your uncommitted work", func(context.Context, func(int, int)) (then, error) {
		err := j.s.Ledger.Carry(on)
		return func() tea.Cmd {
			if j.resumed = false; onward != nil {
				j.onward = onward
			}
			cmd := j.nav.load(true)
			j.flash = term.Text(term.Plain, words.If(on,
				"Your uncommitted work is brought along: joined onto the result when "+
					"you accept it. Until then nothing is touched.", "Your uncommitted work stays where it is."))
			return cmd
		}, err
	})
}

// carriable reports whether uncommitted work is in the way or carried.
func (j *job) carriable() bool {
	return j.st.Carry || j.inWay != nil && !j.inWay.Unknown && !j.inWay.Hidden
}
