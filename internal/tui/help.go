package tui

import (
	"strings"

	tea "charm.land/bubbletea/v2"

	"charm.land/bubbles/v2/key"
)

// helpScreen lists every key, and what the signs mean.
type helpScreen struct {
	f      *frame
	scroll scroll
}

func newHelp(f *frame) *helpScreen { return &helpScreen{f: f} }

func (s *helpScreen) actions() []action {
	close := quietly(s.f.close)
	return append([]action{act(keys.back, "", close), also(keys.help, close)}, s.scroll.actions()...)
}

func (s *helpScreen) update(msg tea.Msg) tea.Cmd {
	s.scroll.update(msg)
	return nil
}

func (s *helpScreen) status() line { return txt(dim, "all keys") }

func (s *helpScreen) remark() line {
	return txt(dim, "Quitting is safe: decisions are kept, and nothing changes until you accept.")
}

// legend is what the signs mean.
func legend() page {
	say := func(m mark, name, what string) line {
		return txt(plain, "  ").mark(m).bold(m.hue, name).add(plain, what)
	}
	return page{
		say(markYours, "yours", ": what you have and the remote has not   ").
			then(say(markTheirs, "theirs", ": what others pushed")[1:]),
		say(markBase, "base", ": what both started from   ").
			then(say(markJoined, "joined", ": yours and theirs, the two halves, brought together")[1:]),
		say(markOpen, "a conflict", " that wants a decision   ").then(say(markSettled, "settled", ", or well")[1:]).
			add(plain, "   ").mark(markFailed).add(plain, "failed   ").mark(markWarning).add(plain, "look at this"),
		say(markBehind, "left behind", " by a rebase, or not needed; a waypoint keeps it"),
		txt(dim, "  Yours and theirs mean the same on both routes; they never swap."),
	}
}

func (s *helpScreen) view(w, h int) page {
	p := append(page{nil}, legend()...)
	p.blank()
	show := func(right, all bool) (out page) {
		for _, sec := range KeySections() {
			if sec.right != right && !all {
				continue
			}
			out.row(txt(plain, "  ").then(heading(strings.ToUpper(sec.Name))))
			for _, b := range padded(sec.Keys) {
				out.row(txt(plain, "    ").then(drawn(s.f.keys.FullHelpView([][]key.Binding{{b}}))))
			}
			out.blank()
		}
		return out
	}
	if w < wide {
		p.rows(show(false, true))
	} else {
		p.rows(beside(show(false, false), show(true, false), w/2-2, w, 0))
	}
	return s.scroll.window(p, h)
}

// padded has the keys be as wide as each other, whatever the section.
func padded(list []key.Binding) []key.Binding {
	const column = 19
	out := make([]key.Binding, len(list))
	for i, b := range list {
		h := b.Help()
		out[i] = written(b, h.Key+strings.Repeat(" ", max(0, column-len([]rune(h.Key)))), h.Desc)
	}
	return out
}
