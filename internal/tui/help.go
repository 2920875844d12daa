package tui

import (
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
)

// helpScreen lists every key and the meaning of the signs.
type helpScreen struct {
	f      *frame
	scroll term.Scroll
}

func newHelp(f *frame) *helpScreen { return &helpScreen{f: f} }

func (s *helpScreen) actions() []action {
	close := quietly(s.f.close)
	return append([]action{act(keys.Back, "", close), also(keys.Help, close)}, scrollKeys(&s.scroll)...)
}

func (s *helpScreen) update(msg tea.Msg) tea.Cmd {
	s.scroll.Update(msg)
	return nil
}

func (s *helpScreen) status() term.Line { return term.Text(term.Dim, "all keys") }

func (s *helpScreen) remark() term.Line {
	return term.Text(term.Dim, "Quitting is safe: decisions are kept, and nothing changes until you accept.")
}

// legend returns the meaning of the signs.
func legend() term.Page {
	say := func(m term.Mark, name, what string) term.Line {
		return term.Text(term.Plain, "  ").Mark(m).Bold(m.Hue, name).Add(term.Plain, what)
	}
	return term.Page{
		say(term.MarkYours, "yours", ": what you have and the remote has not   ").
			Then(say(term.MarkTheirs, "theirs", ": what others pushed")[1:]),
		say(term.MarkBase, "base", ": what both started from   ").
			Then(say(term.MarkJoined, "joined", ": yours and theirs, the two halves, brought together")[1:]),
		say(term.MarkOpen, "a conflict", " that needs a decision   ").Then(say(term.MarkSettled, "settled",
			", or succeeded")[1:]).
			Add(term.Plain, "   ").Mark(term.MarkFailed).Add(term.Plain,
			"failed   ").Mark(term.MarkWarning).Add(term.Plain, "look at this"),
		say(term.MarkBehind, "left behind", " by a rebase, or not needed; a waypoint keeps it"),
		term.Text(term.Dim, "  Yours and theirs mean the same on both routes; they never swap."),
	}
}

func (s *helpScreen) view(w, h int) term.Page {
	p := append(term.Page{nil}, legend()...)
	p.Blank()
	show := func(right, all bool) (out term.Page) {
		for _, sec := range keys.Sections() {
			if sec.Right != right && !all {
				continue
			}
			out.Row(term.Text(term.Plain, "  ").Then(term.Heading(strings.ToUpper(sec.Name))))
			for _, b := range padded(sec.Keys) {
				out.Row(term.Text(term.Plain, "    ").Then(term.Drawn(s.f.keys.FullHelpView([][]key.Binding{{b}}))))
			}
			out.Blank()
		}
		return out
	}
	if w < wide {
		p.Rows(show(false, true))
	} else {
		p.Rows(term.Beside(show(false, false), show(true, false), w/2-2, w, 0))
	}
	return s.scroll.Window(p, h)
}

// padded makes the keys of all sections equally wide.
func padded(list []key.Binding) []key.Binding {
	const column = 19
	out := make([]key.Binding, len(list))
	for i, b := range list {
		h := b.Help()
		out[i] = keys.Written(b, h.Key+strings.Repeat(" ", max(0, column-len([]rune(h.Key)))), h.Desc)
	}
	return out
}
