package tui

import (
	"image/color"
	"os"
	"strings"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"dorvik/internal/visible"
)

// hue is a colour by what it stands for. Each side's hue goes with its sign, so
// that nothing is told by colour alone.
type hue uint8

const (
	plain   hue = iota
	dim         // what may be passed over
	faint       // line numbers, rules
	bright      // what the eye should meet
	yours       // ●
	theirs      // ■
	base        // ◆
	joined      // ✦
	trouble     // ╳ ✗ ▲
	hues
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

// theme is one set of colours.
type theme struct {
	fg     [hues]string
	bg     [grounds]string
	paper  string
	colour bool
}

var dark = theme{
	fg: [hues]string{plain: "#d7dae3", dim: "#8b90a3", faint: "#5a5f72", bright: "#ffffff", yours: "#e8a33d",
		theirs: "#b48cf2", base: "#9aa0b5", joined: "#5fd0a0", trouble: "#f06a66"},
	bg:    [grounds]string{onRow: "#242838", onYours: "#3a2a12", onTheirs: "#2c1d45", onJoined: "#12302a", onTrouble: "#3d1b1f"},
	paper: "#11131a", colour: true,
}

var light = theme{
	fg: [hues]string{plain: "#262a35", dim: "#5d6272", faint: "#9498a6", bright: "#000000", yours: "#8f5400",
		theirs: "#6336ad", base: "#4f5567", joined: "#076b47", trouble: "#b3261e"},
	bg:    [grounds]string{onRow: "#e3e6ef", onYours: "#fbe6c2", onTheirs: "#e8dcfa", onJoined: "#d5f0e3", onTrouble: "#fbdcda"},
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
	return &t
}

func (t *theme) paperColor() color.Color {
	if !t.colour {
		return nil
	}
	return lipgloss.Color(t.paper)
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

// span is a piece of text of one ink. Its text is fit to be shown: newSpan sees
// to that.
type span struct {
	text string
	ink  ink
}

// line is one row of the screen.
type line []span

// txt makes a line of one span. All text of the screen comes in by txt or put,
// which clean it.
func txt(h hue, s string) line { return line{}.put(ink{hue: h}, s) }

func heading(s string) line { return line{}.put(ink{hue: dim, bold: true}, s) }

func (l line) put(k ink, s string) line {
	if s == "" {
		return l
	}
	return append(l, span{visible.Line(s), k})
}

func (l line) add(h hue, s string) line  { return l.put(ink{hue: h}, s) }
func (l line) bold(h hue, s string) line { return l.put(ink{hue: h, bold: true}, s) }
func (l line) then(more line) line       { return append(l[:len(l):len(l)], more...) }

func (l line) width() (n int) {
	for _, s := range l {
		n += ansi.StringWidth(s.text)
	}
	return n
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
		w := ansi.StringWidth(s.text)
		if w > left {
			s.text = ansi.Truncate(s.text, left, "")
			out = append(out, s, span{"…", s.ink})
			return out
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
		l = l.then(line{span{strings.Repeat(" ", n), ink{}}})
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

// render writes a line with the codes of its inks.
func (t *theme) render(l line) string {
	var b strings.Builder
	for _, s := range l {
		var st ansi.Style
		if t.colour {
			if c := t.fg[s.ink.hue]; c != "" {
				st = st.ForegroundColor(lipgloss.Color(c))
			}
			if c := t.bg[s.ink.ground]; c != "" {
				st = st.BackgroundColor(lipgloss.Color(c))
			}
		}
		if s.ink.bold {
			st = st.Bold()
		}
		if s.ink.strike {
			st = st.Strikethrough(true)
		}
		if s.ink.under {
			st = st.Underline(true)
		}
		if s.ink.invert {
			st = st.Reverse(true)
		}
		if len(st) == 0 {
			b.WriteString(s.text)
			continue
		}
		b.WriteString(st.String())
		b.WriteString(s.text)
		b.WriteString(ansi.ResetStyle)
	}
	return b.String()
}
