package term

import (
	"os"
	"regexp"
	"strings"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"dorvik.dev/dorvik/internal/visible"
)

// Hue is a foreground colour, named by its meaning.
type Hue uint8

// The colours of text. Those of the sides are used for nothing else.
const (
	Plain  Hue = iota
	Dim        // less important text
	Faint      // line numbers, rules
	Bright     // most important text
	Yours
	Theirs
	Base
	Joined
	Trouble
	codeWord // words of a language; no code colour is near that of a side
	codeString
	codeNumber
	codeComment
	codeName
	hues
)

// Mark is a sign with its colour. Nothing is told by colour alone.
type Mark struct {
	Sign string
	Hue  Hue
}

// The signs. Two halves make a whole: yours and theirs, joined.
var (
	MarkYours   = Mark{"◐", Yours}
	MarkTheirs  = Mark{"◑", Theirs}
	MarkBase    = Mark{"○", Base}
	MarkJoined  = Mark{"●", Joined}
	MarkOpen    = Mark{"≠", Trouble}
	MarkSettled = Mark{"✓", Joined}
	MarkFailed  = Mark{"✗", Trouble}
	MarkWarning = Mark{"▲", Trouble}
	MarkBehind  = Mark{"◌", Dim} // left behind, or not needed
	MarkNone    = Mark{" ", Dim}
)

// Ground is a background colour, named by its meaning.
type Ground uint8

// The backgrounds: none, the row the person is on, and one for each kind of changed text.
const (
	NoGround Ground = iota
	OnRow           // background of the marked row
	OnYours
	OnTheirs
	OnJoined
	OnTrouble
	grounds
)

// Theme is a set of colours. It caches the escape codes of the inks it has drawn.
type Theme struct {
	Fg     [hues]string
	bg     [grounds]string
	Paper  string
	Colour bool
	codes  map[Ink][2]string
}

var dark = Theme{
	Fg: [hues]string{Plain: "#d7dae3", Dim: "#8b90a3", Faint: "#5a5f72", Bright: "#ffffff", Yours: "#e8a33d",
		Theirs: "#b48cf2", Base: "#9aa0b5", Joined: "#5fd0a0", Trouble: "#f06a66", codeWord: "#82aee6",
		codeString: "#93c4d6", codeNumber: "#93c4d6", codeComment: "#7c8194", codeName: "#eef1f8"},
	bg: [grounds]string{OnRow: "#242838", OnYours: "#3a2a12", OnTheirs: "#2c1d45", OnJoined: "#12302a",
		OnTrouble: "#3d1b1f"},
	Paper: "#11131a", Colour: true,
}

var light = Theme{
	Fg: [hues]string{Plain: "#262a35", Dim: "#5d6272", Faint: "#9498a6", Bright: "#000000", Yours: "#8f5400",
		Theirs: "#6336ad", Base: "#4f5567", Joined: "#076b47", Trouble: "#b3261e", codeWord: "#1f4f9c",
		codeString: "#1d6378", codeNumber: "#1d6378", codeComment: "#6d7283", codeName: "#10131b"},
	bg: [grounds]string{OnRow: "#e3e6ef", OnYours: "#fbe6c2", OnTheirs: "#e8dcfa", OnJoined: "#d5f0e3",
		OnTrouble: "#fbdcda"},
	Paper: "#fbfaf7", Colour: true,
}

// ThemeOf returns the dark theme, or the light one for "light". NO_COLOR removes the colours.
func ThemeOf(name string) *Theme {
	t := dark
	if name == "light" {
		t = light
	}
	if os.Getenv("NO_COLOR") != "" {
		t.Colour = false
	}
	t.codes = map[Ink][2]string{}
	return &t
}

// WithoutColour returns a copy of the theme that draws with weight and underlining alone.
func (t *Theme) WithoutColour() *Theme {
	plain := *t
	plain.Colour, plain.codes = false, map[Ink][2]string{}
	return &plain
}

// Ink is the style of a span.
type Ink struct {
	Hue    Hue
	Ground Ground
	Bold   bool
	Strike bool
	Under  bool
	Invert bool
	Link   string // address that the terminal opens on a click; empty if none
}

// Span is a piece of text in one ink.
type Span struct {
	Text  string // cleaned text: see put
	Ink   Ink
	Drawn bool    // the text has its own codes and comes from a component, not from outside
	click tea.Msg // message for a click on it
}

// with returns the span with another text.
func (s Span) with(text string) Span {
	s.Text = text
	return s
}

// Line is a row of the screen. It stays a value until the frame renders it, so text from outside is cleaned in one
// place, a row can get a background late, and a click finds its span.
type Line []Span

// Text returns a line of one span. Text and Line.Put are the only ways for text onto the screen, and both clean it.
func Text(h Hue, s string) Line { return Line{}.Put(Ink{Hue: h}, s) }

// Heading returns a line in the style of a heading.
func Heading(s string) Line { return Line{}.Put(Ink{Hue: Dim, Bold: true}, s) }

// Warning returns a line with the sign of a warning.
func Warning(s string) Line { return Line{}.Mark(MarkWarning).Add(Plain, s) }

// Done returns a line with the sign of success.
func Done(s string) Line { return Line{}.Mark(MarkSettled).Add(Plain, s) }

// Drawn returns a line of text that a component has rendered, with its own escape codes. Text from outside must not
// come in by it.
func Drawn(s string) Line { return Line{{Text: s, Drawn: true}} }

// Put appends text in an ink.
func (l Line) Put(k Ink, s string) Line {
	if s == "" {
		return l
	}
	return append(l, Span{Text: visible.Line(s), Ink: k})
}

// Add appends text in a colour.
func (l Line) Add(h Hue, s string) Line { return l.Put(Ink{Hue: h}, s) }

// address is a web address in a text, of visible ASCII characters alone.
var address = regexp.MustCompile(`https?://[!-~]+`)

// Linked appends text in a colour, with its web addresses underlined and as links.
func (l Line) Linked(h Hue, s string) Line {
	for s != "" {
		at := address.FindStringIndex(s)
		if at == nil {
			return l.Add(h, s)
		}
		link := strings.TrimRight(s[at[0]:at[1]], ".,;:!?'\")>]}")
		l = l.Add(h, s[:at[0]]).Put(Ink{Hue: h, Under: true, Link: link}, link)
		s = s[at[0]+len(link):]
	}
	return l
}

// Bold appends bold text in a colour.
func (l Line) Bold(h Hue, s string) Line { return l.Put(Ink{Hue: h, Bold: true}, s) }

// Then appends another line. It does not change l.
func (l Line) Then(more Line) Line { return append(l[:len(l):len(l)], more...) }

// Mark appends a sign and a space.
func (l Line) Mark(m Mark) Line { return l.Add(m.Hue, m.Sign+" ") }

// Clicks returns the line with msg sent for a click on any part of it.
func (l Line) Clicks(msg tea.Msg) Line {
	out := make(Line, len(l))
	for i, s := range l {
		s.click = msg
		out[i] = s
	}
	return out
}

// Clicked returns the message of a click on column x, or nil.
func (l Line) Clicked(x int) tea.Msg {
	for _, s := range l {
		if x -= Cells(s.Text); x < 0 {
			return s.click
		}
	}
	return nil
}

// Width returns the width in cells.
func (l Line) Width() (n int) {
	for _, s := range l {
		n += Cells(s.Text)
	}
	return n
}

// Cells returns the width of a text in cells. ASCII text, which most is, is measured fast.
func Cells(s string) int {
	for i := range len(s) {
		if s[i] < ' ' || s[i] >= 0x7f {
			return ansi.StringWidth(s)
		}
	}
	return len(s)
}

// Cut shortens a line to a width in cells and ends it with … if it was longer.
func (l Line) Cut(width int) Line {
	if l.Width() <= width {
		return l
	}
	if width <= 0 {
		return nil
	}
	var out Line
	left := width - 1
	for _, s := range l {
		w := Cells(s.Text)
		if w > left {
			return append(out, s.with(ansi.Truncate(s.Text, left, "")), s.with("…"))
		}
		left -= w
		out = append(out, s)
	}
	return out
}

// Fit cuts or pads a line to exactly a width in cells.
func (l Line) Fit(width int) Line {
	l = l.Cut(width)
	if n := width - l.Width(); n > 0 {
		blanks := Span{Text: strings.Repeat(" ", n)}
		if len(l) > 0 {
			blanks.click = l[len(l)-1].click
		}
		l = l.Then(Line{blanks})
	}
	return l
}

// On gives a background to the spans that have none.
func (l Line) On(g Ground) Line {
	out := make(Line, len(l))
	for i, s := range l {
		if s.Ink.Ground == NoGround {
			s.Ink.Ground = g
		}
		out[i] = s
	}
	return out
}

// Flush returns a row of l at the left and right at the right end. It cuts l where both do not fit.
func (l Line) Flush(right Line, width int) Line {
	room := width - right.Width()
	if room < 1 {
		return l.Fit(width)
	}
	return l.Cut(room - 1).Fit(room).Then(right)
}

// Style returns the Lip Gloss style of an ink.
func (t *Theme) Style(k Ink) lipgloss.Style {
	st := lipgloss.NewStyle().Bold(k.Bold).Strikethrough(k.Strike).Underline(k.Under).Reverse(k.Invert)
	if k.Link != "" {
		st = st.Hyperlink(k.Link)
	}
	if t.Colour {
		if c := t.Fg[k.Hue]; c != "" {
			st = st.Foreground(lipgloss.Color(c))
		}
		if c := t.bg[k.Ground]; c != "" {
			st = st.Background(lipgloss.Color(c))
		}
	}
	return st
}

// sample stands for any text. It has one character because some styles surround every character with codes.
const sample = "_"

// around returns the escape codes before and after a text in an ink.
func (t *Theme) around(k Ink) [2]string {
	codes, ok := t.codes[k]
	if !ok {
		if k != (Ink{}) || t.Colour { // otherwise keep the terminal's own colours
			codes[0], codes[1], _ = strings.Cut(t.Style(k).Render(sample), sample)
		}
		t.codes[k] = codes
	}
	return codes
}

// Render returns a line with its escape codes.
func (t *Theme) Render(l Line) string {
	var b strings.Builder
	for i := 0; i < len(l); {
		s := l[i]
		if s.Drawn {
			b.WriteString(s.Text)
			i++
			continue
		}
		codes := t.around(s.Ink)
		b.WriteString(codes[0])
		for ; i < len(l) && l[i].Ink == s.Ink && !l[i].Drawn; i++ {
			b.WriteString(l[i].Text)
		}
		b.WriteString(codes[1])
	}
	return b.String()
}
