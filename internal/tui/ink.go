package tui

import (
	"os"
	"strings"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"dorvik.dev/dorvik/internal/visible"
)

// hue is a colour by what it stands for.
type hue uint8

const (
	plain  hue = iota
	dim        // what may be passed over
	faint      // line numbers, rules
	bright     // what the eye should meet
	yours
	theirs
	base
	joined
	trouble
	codeWord // of a language; none of these is near the colour of a side
	codeString
	codeNumber
	codeComment
	codeName
	hues
)

// mark is a sign with its hue: nothing is told by colour alone.
type mark struct {
	sign string
	hue  hue
}

// The signs. Two halves make a whole: yours and theirs, joined.
var (
	markYours   = mark{"◐", yours}
	markTheirs  = mark{"◑", theirs}
	markBase    = mark{"○", base}
	markJoined  = mark{"●", joined}
	markOpen    = mark{"≠", trouble}
	markSettled = mark{"✓", joined}
	markFailed  = mark{"✗", trouble}
	markWarning = mark{"▲", trouble}
	markBehind  = mark{"◌", dim} // left behind, or not needed
	markNone    = mark{" ", dim}
)

// ground is a background by what it stands for.
type ground uint8

const (
	noGround ground = iota
	onRow           // the row the person is on
	onYours
	onTheirs
	onJoined
	onTrouble
	grounds
)

// theme is one set of colours, and the codes before and after a text for the inks used so far.
type theme struct {
	fg     [hues]string
	bg     [grounds]string
	paper  string
	colour bool
	codes  map[ink][2]string
}

var dark = theme{
	fg: [hues]string{plain: "#d7dae3", dim: "#8b90a3", faint: "#5a5f72", bright: "#ffffff", yours: "#e8a33d",
		theirs: "#b48cf2", base: "#9aa0b5", joined: "#5fd0a0", trouble: "#f06a66", codeWord: "#82aee6",
		codeString: "#93c4d6", codeNumber: "#93c4d6", codeComment: "#7c8194", codeName: "#eef1f8"},
	bg: [grounds]string{onRow: "#242838", onYours: "#3a2a12", onTheirs: "#2c1d45", onJoined: "#12302a",
		onTrouble: "#3d1b1f"},
	paper: "#11131a", colour: true,
}

var light = theme{
	fg: [hues]string{plain: "#262a35", dim: "#5d6272", faint: "#9498a6", bright: "#000000", yours: "#8f5400",
		theirs: "#6336ad", base: "#4f5567", joined: "#076b47", trouble: "#b3261e", codeWord: "#1f4f9c",
		codeString: "#1d6378", codeNumber: "#1d6378", codeComment: "#6d7283", codeName: "#10131b"},
	bg: [grounds]string{onRow: "#e3e6ef", onYours: "#fbe6c2", onTheirs: "#e8dcfa", onJoined: "#d5f0e3",
		onTrouble: "#fbdcda"},
	paper: "#fbfaf7", colour: true,
}

// themeOf gives the theme of a name; NO_COLOR takes the colours away.
func themeOf(name string) *theme {
	t := dark
	if name == "light" {
		t = light
	}
	if os.Getenv("NO_COLOR") != "" {
		t.colour = false
	}
	t.codes = map[ink][2]string{}
	return &t
}

// ink is how a span is drawn.
type ink struct {
	hue    hue
	ground ground
	bold   bool
	strike bool
	under  bool
	invert bool
}

// span is a piece of text of one ink.
type span struct {
	text  string // fit to be shown: put sees to that
	ink   ink
	drawn bool    // text has its own codes: it comes from a component, not from outside
	click tea.Msg // what a click on it means to the screen
}

// with is a span of other text.
func (s span) with(text string) span {
	s.text = text
	return s
}

// line is one row of the screen. It stays a value until the frame renders it: so text from
// outside is cleaned where it enters, a row can be given a ground when all else is known,
// and a click finds the span that it fell on.
type line []span

// txt makes a line of one span. All text of the screen comes in by txt or put,
// which clean it.
func txt(h hue, s string) line { return line{}.put(ink{hue: h}, s) }

func heading(s string) line { return line{}.put(ink{hue: dim, bold: true}, s) }

func warning(s string) line { return line{}.mark(markWarning).add(plain, s) }

// done says that something went well.
func done(s string) line { return line{}.mark(markSettled).add(plain, s) }

// drawn makes a line of what a component has drawn.
func drawn(s string) line { return line{{text: s, drawn: true}} }

func (l line) put(k ink, s string) line {
	if s == "" {
		return l
	}
	return append(l, span{text: visible.Line(s), ink: k})
}

func (l line) add(h hue, s string) line  { return l.put(ink{hue: h}, s) }
func (l line) bold(h hue, s string) line { return l.put(ink{hue: h, bold: true}, s) }
func (l line) then(more line) line       { return append(l[:len(l):len(l)], more...) }

// mark adds a sign and a blank.
func (l line) mark(m mark) line { return l.add(m.hue, m.sign+" ") }

// clicks has a click on any of the line mean something.
func (l line) clicks(msg tea.Msg) line {
	out := make(line, len(l))
	for i, s := range l {
		s.click = msg
		out[i] = s
	}
	return out
}

// clicked is what a click on a column means; nil for nothing.
func (l line) clicked(x int) tea.Msg {
	for _, s := range l {
		if x -= cells(s.text); x < 0 {
			return s.click
		}
	}
	return nil
}

func (l line) width() (n int) {
	for _, s := range l {
		n += cells(s.text)
	}
	return n
}

// cells is how wide a text is. Most are plain ASCII, and their width need not be worked out.
func cells(s string) int {
	for i := range len(s) {
		if s[i] < ' ' || s[i] >= 0x7f {
			return ansi.StringWidth(s)
		}
	}
	return len(s)
}

// cut shortens a line to a width in cells, with … where something is lost.
func (l line) cut(width int) line {
	if l.width() <= width {
		return l
	}
	if width <= 0 {
		return nil
	}
	var out line
	left := width - 1
	for _, s := range l {
		w := cells(s.text)
		if w > left {
			return append(out, s.with(ansi.Truncate(s.text, left, "")), s.with("…"))
		}
		left -= w
		out = append(out, s)
	}
	return out
}

// fit makes a line exactly as wide as asked, by cutting or by blanks.
func (l line) fit(width int) line {
	l = l.cut(width)
	if n := width - l.width(); n > 0 {
		blanks := span{text: strings.Repeat(" ", n)}
		if len(l) > 0 {
			blanks.click = l[len(l)-1].click
		}
		l = l.then(line{blanks})
	}
	return l
}

// on gives a line a background where it has none.
func (l line) on(g ground) line {
	out := make(line, len(l))
	for i, s := range l {
		if s.ink.ground == noGround {
			s.ink.ground = g
		}
		out[i] = s
	}
	return out
}

// flush puts right at the right end of a row whose left is l.
func (l line) flush(right line, width int) line {
	room := width - right.width()
	if room < 1 {
		return l.fit(width)
	}
	return l.cut(room - 1).fit(room).then(right)
}

// style is the style of an ink.
func (t *theme) style(k ink) lipgloss.Style {
	st := lipgloss.NewStyle().Bold(k.bold).Strikethrough(k.strike).Underline(k.under).Reverse(k.invert)
	if t.colour {
		if c := t.fg[k.hue]; c != "" {
			st = st.Foreground(lipgloss.Color(c))
		}
		if c := t.bg[k.ground]; c != "" {
			st = st.Background(lipgloss.Color(c))
		}
	}
	return st
}

// sample stands for any text. It is one character: some styles are put around each.
const sample = "_"

// around gives the codes that an ink has before and after a text.
func (t *theme) around(k ink) [2]string {
	codes, ok := t.codes[k]
	if !ok {
		if k != (ink{}) || t.colour { // else it is as the terminal has it
			codes[0], codes[1], _ = strings.Cut(t.style(k).Render(sample), sample)
		}
		t.codes[k] = codes
	}
	return codes
}

// render writes a line with the codes of its inks.
func (t *theme) render(l line) string {
	var b strings.Builder
	for i := 0; i < len(l); {
		s := l[i]
		if s.drawn {
			b.WriteString(s.text)
			i++
			continue
		}
		codes := t.around(s.ink)
		b.WriteString(codes[0])
		for ; i < len(l) && l[i].ink == s.ink && !l[i].drawn; i++ {
			b.WriteString(l[i].text)
		}
		b.WriteString(codes[1])
	}
	return b.String()
}
