package tui

import (
	"context"
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"dorvik/internal/check"
	"dorvik/internal/core/diagnose"
	"dorvik/internal/recovery"
)

type checkView struct {
	command check.Command
	found   bool
	ready   bool // the command is known
	agreed  bool
	running bool
	started time.Time
	passed  bool
	failed  bool
	took    time.Duration
	exit    int
	output  []string
	lines   chan outputLine
	places  []diagnose.Place
	texts   map[string][]recovery.Line // of the files with places
	at      int
	anyway  bool // going on without passing was asked for once
	built   recovery.Built
	holder  string // the commit that mends become part of; empty where there is none
}

// outputLine is a line of the check's output; the zero one, with end, its end.
type outputLine struct {
	text string
	end  bool
}

// maxOutput is how many lines of output are kept.
const maxOutput = 20000

func (c *checkView) take(l outputLine) {
	if l.end {
		c.lines = nil
		return
	}
	if c.output = append(c.output, l.text); len(c.output) > maxOutput {
		c.output = c.output[len(c.output)-maxOutput:]
	}
}

func (c *checkView) wait() tea.Cmd {
	lines := c.lines
	if lines == nil {
		return nil
	}
	return func() tea.Msg {
		l, ok := <-lines
		l.end = !ok
		return l
	}
}

func (c *checkView) state() string {
	switch {
	case c.running:
		return "running"
	case c.failed && len(c.places) > 0:
		return plural(len(c.places), "error", "errors")
	case c.failed:
		return "failed"
	case c.passed:
		return "passes ✓"
	case c.ready && !c.found:
		return "none found"
	}
	return ""
}

type checkReady struct {
	command check.Command
	found   bool
	agreed  bool
	built   recovery.Built
	checked *recovery.Checked
	st      recovery.State
}

// toCheck goes to Check with the joined commits made in memory.
func (m *model) toCheck() tea.Cmd {
	m.goTo(recovery.Check)
	m.check = checkView{}
	pos, j := m.pos, m.join
	m.check.holder, _ = j.MendHolder()
	if n := len(j.Lost); n > 0 {
		m.flash = txt(trouble, "▲ ").add(plain, fmt.Sprintf("A mend of %s does not fit the new result and was not applied.", j.Lost[0].Path))
	}
	return m.start("making the joined commits", func(ctx context.Context, _ func(int, int)) (tea.Msg, error) {
		built, err := m.s.Build(ctx, pos, j)
		if err != nil {
			return nil, err
		}
		out := checkReady{built: built}
		if out.command, out.found, err = m.s.CheckCommand(ctx, j.Tree); err != nil {
			return nil, err
		}
		out.agreed = out.command.Configured || m.s.AgreedTo(out.command.Line)
		if c := m.s.CheckOf(j.Tree); c != nil && c.Command == out.command.Line {
			out.checked = c
		}
		err = m.s.Reach(recovery.Check)
		out.st = m.s.State()
		return out, err
	})
}

func (m *model) takeCheckReady(r checkReady) tea.Cmd {
	c := &m.check
	c.command, c.found, c.agreed, c.built, c.ready = r.command, r.found, r.agreed, r.built, true
	m.st = r.st
	if r.checked != nil && r.checked.Passed {
		c.passed, c.took = true, r.checked.Took
		return nil
	}
	if c.found && c.agreed {
		return m.runCheck()
	}
	return nil
}

type checkDone struct {
	result check.Result
	places []diagnose.Place
	texts  map[string][]recovery.Line
	st     recovery.State
}

func (m *model) runCheck() tea.Cmd {
	c := &m.check
	c.running, c.started, c.passed, c.failed, c.anyway = true, m.now(), false, false, false
	c.output, c.places, c.at = nil, nil, 0
	lines := make(chan outputLine, 256)
	c.lines = lines
	command, built, tree, pos := c.command.Line, c.built, m.join.Tree, m.pos
	work := m.start("checking", func(ctx context.Context, _ func(int, int)) (tea.Msg, error) {
		defer close(lines)
		if err := m.s.Agree(command); err != nil {
			return nil, err
		}
		var all []string
		r, dir, err := m.s.RunCheck(ctx, command, built.Tip, func(l string) {
			all = append(all, l)
			lines <- outputLine{text: l}
		})
		if err != nil {
			return nil, err
		}
		out := checkDone{result: r, st: m.s.State(), texts: map[string][]recovery.Line{}}
		if r.Passed {
			return out, nil
		}
		if out.places, err = m.s.Diagnose(tree, all, dir); err != nil {
			return nil, err
		}
		for _, p := range out.places {
			if out.texts[p.Path] == nil {
				if out.texts[p.Path], _, err = m.s.Lines(pos, tree, p.Path); err != nil {
					return nil, err
				}
			}
		}
		return out, nil
	})
	return tea.Batch(work, c.wait())
}

func (m *model) takeCheckDone(d checkDone) tea.Cmd {
	c := &m.check
	c.running, c.passed, c.failed = false, d.result.Passed, !d.result.Passed
	c.took, c.exit, c.places, c.texts = d.result.Took, d.result.Exit, d.places, d.texts
	m.st = d.st
	return nil
}

func (m *model) checkKeys() []binding {
	c := &m.check
	switch {
	case !c.ready:
		return []binding{{"esc", "back"}}
	case c.running:
		return []binding{{"ctrl+c", "stop the check"}, {"o", "whole output"}}
	case c.anyway:
		return []binding{{"y", "go on without"}, {"esc", "no"}}
	case c.passed:
		return []binding{{"enter", "go on to Push"}, {"r", "run again"}, {"o", "whole output"}, {"esc", "back"}}
	case c.failed && len(c.places) > 0:
		keys := []binding{{"enter", "mend here"}, {"↑↓", "errors"}, {"r", "run again"}, {"o", "whole output"}, {"s", "go on anyway…"}}
		if len(m.st.Mends) > 0 {
			keys = append(keys, binding{"u", "undo the mend"})
		}
		return append(keys, binding{"esc", "back"})
	case c.failed:
		return []binding{{"r", "run again"}, {"o", "whole output"}, {"s", "go on anyway…"}, {"esc", "back"}}
	case !c.found:
		return []binding{{"enter", "go on without"}, {"esc", "back"}}
	}
	return []binding{{"enter", "agree and run it"}, {"s", "go on without…"}, {"esc", "back"}}
}

func (m *model) checkKey(name string, page int) tea.Cmd {
	c := &m.check
	anyway := c.anyway
	c.anyway = false
	if name == "o" && len(c.output) > 0 {
		return m.wholeOutput()
	}
	if name == "esc" {
		if anyway {
			return nil
		}
		if !m.busy() {
			if len(m.items) > 0 {
				m.goTo(recovery.Settle)
				return m.selectConflict()
			}
			m.goTo(recovery.Choose)
		}
		return nil
	}
	if !c.ready || m.busy() {
		return nil
	}
	switch name {
	case "enter":
		switch {
		case c.passed || !c.found:
			return m.toPush()
		case c.failed && len(c.places) > 0:
			return m.mendHere()
		case !c.failed:
			return m.runCheck()
		}
	case "r":
		if c.found && (c.agreed || c.failed || c.passed) {
			return m.runCheck()
		}
	case "s":
		if c.found && !c.passed {
			c.anyway = true
			m.flash = txt(trouble, "▲ ").add(plain, "Nothing then proves that the joined code works. Press y to go on without.")
		}
	case "y":
		if anyway {
			return m.toPush()
		}
	case "up":
		c.at = max(0, c.at-1)
	case "down":
		c.at = max(0, min(len(c.places)-1, c.at+1))
	case "u":
		if len(m.st.Mends) > 0 {
			var undone recovery.Mend
			return m.rejoin(func(s *recovery.Session) (err error) {
				undone, _, err = s.UndoMend()
				return err
			}, func() tea.Cmd {
				m.flash = txt(plain, "The mend of "+undone.Path+" is taken back.")
				return m.toCheck()
			})
		}
	}
	return nil
}

func (m *model) wholeOutput() tea.Cmd {
	v := &viewer{title: line{}.add(plain, " ").bold(bright, "OUTPUT").add(dim, "  "+m.check.command.Line)}
	for _, l := range m.check.output {
		v.lines = append(v.lines, recovery.Line{Text: l})
	}
	m.viewer = v
	return nil
}

// mendHere opens the place of the error to be edited.
func (m *model) mendHere() tea.Cmd {
	c := &m.check
	p := c.places[c.at]
	if c.holder == "" {
		m.flash = txt(trouble, "▲ ").add(plain, "None of your commits is left to hold a mend: all of them are on their side already.")
		return nil
	}
	text, ok, err := m.s.TextAt(m.join.Tree, p.Path)
	if err != nil || !ok {
		m.flash = txt(trouble, "▲ ").add(plain, p.Path+" holds no text that could be edited.")
		return nil
	}
	ed := newEditor(text, 1)
	ed.goTo(p.Line, p.Col)
	ed.top = max(0, ed.row-m.h/3)
	title := txt(plain, " ").bold(bright, p.Path).add(trouble, fmt.Sprintf("  ✗ %d: ", p.Line)).add(plain, p.Text)
	m.editing = &editing{ed: ed, title: title, save: func(after string) tea.Cmd {
		if after == text {
			m.flash = txt(plain, "Nothing was changed.")
			return nil
		}
		return m.rejoin(func(s *recovery.Session) error {
			return s.AddMend(recovery.Mend{Path: p.Path, Before: text, After: after})
		}, func() tea.Cmd {
			m.flash = txt(joined, "✦ ").add(plain, "Mended. The edit becomes part of "+c.holder+".")
			return m.toCheck()
		})
	}}
	return nil
}

func (m *model) checkPage(w, h int) page {
	c := &m.check
	var p page
	p.blank()
	say := func(l line) { p.rows(indent(wrap(l, w-4), 2)) }
	switch {
	case !c.ready:
		return p
	case !c.found:
		say(line{}.bold(bright, "No check was found. ").add(plain, "Nothing in this project tells how it is built or tested."))
		say(txt(dim, "Name one with: git config dorvik.check 'make test'. Or go on without; then nothing proves that the joined code works."))
		return p
	case c.running:
		say(line{}.bold(bright, "Checking the joined code. ").add(dim, seconds(m.now().Sub(c.started))))
		m.mendedNote(&p, w)
		p.blank()
		return append(p, m.outputPage(w-2, h-len(p))...)
	case c.passed:
		say(line{}.bold(joined, "✓ The joined code passes. ").add(plain, c.command.Line+" ended well after "+seconds(c.took)+"."))
		say(txt(dim, "That is the very tree that will be pushed."))
		m.mendedNote(&p, w)
		if len(c.output) > 0 {
			p.blank()
			p.rows(m.outputPage(w-2, h-len(p)))
		}
		return p
	case c.failed:
		return m.failedPage(p, w, h)
	}
	say(line{}.bold(bright, "Does the joined code build? ").add(plain, "The texts join; that does not prove that they work together. This project is checked by:"))
	p.blank()
	p.row(txt(plain, "    ").bold(bright, "$ "+c.command.Line))
	p.row(txt(dim, "      found from "+c.command.Source))
	p.blank()
	say(txt(plain, "It runs the joined code with your rights, in a checkout of its own inside the git directory. Your working tree is not used. Dorvik asks this once in a repository."))
	m.mendedNote(&p, w)
	return p
}

func (m *model) mendedNote(p *page, w int) {
	if m.join == nil || len(m.join.Mended) == 0 {
		return
	}
	paths := map[string]bool{}
	var names []string
	for _, mend := range m.join.Mended {
		if !paths[mend.Path] {
			paths[mend.Path] = true
			names = append(names, mend.Path)
		}
	}
	p.rows(indent(wrap(txt(joined, "✦ ").add(plain, "Mended: "+list(names)+". ").add(dim, "The edit becomes part of "+m.check.holder+"."), w-4), 2))
}

// failedPage lists the errors, the place of the marked one, and the output.
func (m *model) failedPage(p page, w, h int) page {
	c := &m.check
	p.rows(indent(wrap(line{}.bold(trouble, "✗ The joined code does not pass. ").
		add(plain, "No text conflict could show this. Mend it here and check again; nothing has been changed or pushed."), w-4), 2))
	m.mendedNote(&p, w)
	if len(c.places) == 0 {
		p.row(txt(dim, "  The output names no place in a file of this project."))
		p.blank()
		return append(p, m.outputPage(w-2, h-len(p))...)
	}
	p.blank()
	p.row(txt(plain, "  ").then(heading("ERRORS")).add(dim, fmt.Sprintf("  %d of %d", c.at+1, len(c.places))))
	shown := min(len(c.places), max(1, h/4))
	from := max(0, min(c.at-shown/2, len(c.places)-shown))
	for i := from; i < from+shown; i++ {
		e := c.places[i]
		mark := "   ✗ "
		if i == c.at {
			mark = " ▶ ✗ "
		}
		where := fmt.Sprintf("%s:%d", e.Path, e.Line)
		if e.Col > 0 {
			where += fmt.Sprintf(":%d", e.Col)
		}
		l := txt(trouble, mark).bold(bright, where).add(plain, "   "+e.Text)
		if i == c.at {
			l = l.fit(w).on(onRow)
		}
		p.row(l)
	}
	p.row(txt(plain, " ").then(rule(w - 2)))
	rest := h - len(p)
	if w < wide {
		return append(p, m.placePage(w, rest)...)
	}
	left := w / 2
	return append(p, beside(m.placePage(left-1, rest), m.outputPage(w-left-4, rest), left, w, rest)...)
}

func (m *model) placePage(w, h int) page {
	c := &m.check
	e := c.places[c.at]
	p := page{txt(plain, "  ").then(heading("THE PLACE")).add(dim, "  "+e.Path), nil}
	lines := c.texts[e.Path]
	from := max(0, min(e.Line-1-(h-2)/2, len(lines)-(h-2)))
	for i := from; i < len(lines) && len(p) < h; i++ {
		sign, hu := gutter(lines[i].Origin)
		l := txt(faint, fmt.Sprintf("%6d ", i+1)).add(hu, sign+" ").add(plain, lines[i].Text)
		if i == e.Line-1 {
			l = l.fit(w).on(onTrouble)
		}
		p.row(l.cut(w))
	}
	return p
}

// outputPage is the end of the check's output.
func (m *model) outputPage(w, h int) page {
	c := &m.check
	p := page{txt(plain, "  ").then(heading("OUTPUT")), nil, txt(dim, "  $ "+c.command.Line)}
	last := 0
	if !c.running {
		last = 2
	}
	room := max(0, h-len(p)-last)
	for _, l := range c.output[max(0, len(c.output)-room):] {
		p.row(txt(dim, "  "+strings.TrimRight(l, " ")).cut(w))
	}
	if c.failed {
		p.blank()
		p.row(txt(trouble, fmt.Sprintf("  stopped after %s, exit %d", seconds(c.took), c.exit)))
	}
	return p
}
