package tui

import (
	tea "charm.land/bubbletea/v2"

	"charm.land/bubbles/v2/key"

	"dorvik.dev/dorvik/internal/core/caught"
	"dorvik.dev/dorvik/internal/words"
)

// take calls receive and recovers from a panic in it. The frame then shows the
// defect until the person begins anew or leaves.
func (f *frame) take(msg tea.Msg) (cmd tea.Cmd) {
	switch k := msg.(type) {
	case tea.KeyPressMsg:
		if f.defect != nil {
			return f.keyAfterDefect(k)
		}
	case tea.MouseMsg, tea.PasteMsg: // meant for what is not shown
		if f.defect != nil {
			return nil
		}
	}
	f.guard(func() { cmd = f.receive(msg) })
	return cmd
}

// picture calls draw. If draw panics, picture returns the page of the defect.
func (f *frame) picture() (p page) {
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
	case key.Matches(k, keys.quit), key.Matches(k, keys.stop):
		return tea.Quit
	case key.Matches(k, keys.back) && f.anew != nil:
		f.defect = nil
		return f.anew()
	}
	return nil
}

// defectPage draws the defect without calling any screen.
func (f *frame) defectPage() (p page) {
	say := func(rows ...line) {
		for _, l := range rows {
			p.rows(indent(wrap(l, f.w-4), 2))
		}
		p.blank()
	}
	p.blank()
	say(line{}.bold(trouble, "✗ This view failed"))
	say(txt(plain, words.Sentence(f.defect.Error())))
	if f.task != nil && f.task.vital {
		say(txt(plain, "Your branch is being changed just now, which goes on to its end. One moment, please."))
	} else {
		say(txt(plain, "The failure changed neither branch nor files, and what you decided is kept."))
		if f.anew != nil {
			say(txt(plain, "").bold(bright, keys.back.Help().Key).add(plain, "  begin anew at Look"))
		}
		say(txt(plain, "").bold(bright, keys.quit.Help().Key).add(plain,
			"    leave; “dorvik” goes on where you left"))
	}
	for len(p) < f.h {
		p.blank()
	}
	for i := range p {
		p[i] = p[i].fit(f.w)
	}
	return p[:min(len(p), max(f.h, 1))]
}
