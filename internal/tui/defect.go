package tui

import (
	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/core/caught"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// take calls receive and recovers from a panic in it. The frame then shows the
// defect until the person begins again or leaves.
func (f *frame) take(msg tea.Msg) (cmd tea.Cmd) {
	switch k := msg.(type) {
	case tea.KeyPressMsg:
		if f.defect != nil {
			return f.keyAfterDefect(k)
		}
	case tea.MouseMsg, tea.PasteMsg: // meant for the screen that is hidden
		if f.defect != nil {
			return nil
		}
	}
	f.guard(func() { cmd = f.receive(msg) })
	return cmd
}

// picture calls draw. If draw panics, picture returns the page of the defect.
func (f *frame) picture() (p term.Page) {
	if f.defect == nil {
		f.guard(func() { p = f.draw() })
	}
	if f.defect != nil {
		return f.defectPage()
	}
	return p
}

// guard runs part of the frame and stores a panic in f.defect.
func (f *frame) guard(part func()) {
	if err := caught.Do(func() error { part(); return nil }); err != nil {
		f.defect = err
	}
}

// keyAfterDefect handles the keys that defectPage names.
func (f *frame) keyAfterDefect(k tea.KeyPressMsg) tea.Cmd {
	busy := f.task != nil && f.task.vital
	switch {
	case busy:
		return nil
	case key.Matches(k, keys.Quit), key.Matches(k, keys.Stop):
		return tea.Quit
	case key.Matches(k, keys.Back) && f.anew != nil:
		f.defect = nil
		return f.anew()
	}
	return nil
}

// defectPage draws the defect without calling any screen.
func (f *frame) defectPage() (p term.Page) {
	say := func(rows ...term.Line) {
		for _, l := range rows {
			p.Rows(term.Indent(term.Wrap(l, f.w-4), 2))
		}
		p.Blank()
	}
	p.Blank()
	say(term.Line{}.Bold(term.Trouble, "✗ This view failed"))
	say(term.Text(term.Plain, words.Sentence(f.defect.Error())))
	if f.task != nil && f.task.vital {
		say(term.Text(term.Plain,
			"Your branch is being changed just now, which goes on to its end. One moment, please."))
	} else {
		say(term.Text(term.Plain, "The failure changed neither branch nor files, and what you decided is kept."))
		if f.anew != nil {
			say(term.Text(term.Plain, "").Bold(term.Bright, keys.Back.Help().Key).Add(term.Plain,
				"  start again at Look"))
		}
		say(term.Text(term.Plain, "").Bold(term.Bright, keys.Quit.Help().Key).Add(term.Plain,
			"    leave; “dorvik” continues where you left off"))
	}
	for len(p) < f.h {
		p.Blank()
	}
	for i := range p {
		p[i] = p[i].Fit(f.w)
	}
	return p[:min(len(p), max(f.h, 1))]
}
