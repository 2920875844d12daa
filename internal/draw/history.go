package draw

import (
	"fmt"
	"strings"
	"time"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/lookback"
	"dorvik.dev/dorvik/internal/words"
)

const (
	columnWide = 15.0 // distance between two lines
	mostWide   = 14   // most columns
)

// HistoryOf is the content of a drawn history.
type HistoryOf struct {
	Title, Text string
	Entries     []lookback.Entry
	More        bool // there are older commits
	Short       func(object.ID) string
	Me          string // e-mail of the person at the keyboard
}

// signs maps a commit's side to its sign.
var signs = map[lookback.Side]SignKind{lookback.SideBase: SignBase, lookback.SideYours: SignYours,
	lookback.SideTheirs: SignTheirs, lookback.SideJoined: SignJoined, lookback.SideBehind: SignBehind}

var hueOfSign = map[SignKind]Hue{SignBase: Base, SignYours: Yours, SignTheirs: Theirs, SignJoined: Base,
	SignBehind: Faint}

// historyDrawing is the layout of a history's rows.
type historyDrawing struct {
	*sheet
	of      HistoryOf
	columns int
	kinds   map[int]SignKind // by line: sign of the last commit drawn on it
}

// History draws commits with their lines, and shows which were joined, replayed or picked.
func History(of HistoryOf, opt Options) *Drawing {
	h := &historyDrawing{sheet: newSheet(of.Title, opt), of: of, kinds: map[int]SignKind{}}
	h.title(of.Title, of.Text)
	used := map[SignKind]bool{}
	for i := range of.Entries {
		e := &of.Entries[i]
		h.columns = max(h.columns, min(mostWide, e.Width()))
		used[signs[e.Side()]] = true
	}
	var kinds []SignKind
	for _, k := range []SignKind{SignYours, SignTheirs, SignJoined, SignBase, SignBehind} {
		if used[k] {
			kinds = append(kinds, k)
		}
	}
	h.legend(kinds...)
	h.y += 6
	for i := range of.Entries {
		h.row(&of.Entries[i], i == len(of.Entries)-1)
	}
	if of.More {
		h.say(float64(h.columns)*columnWide+6, sans, 8, Dim, "and older ones")
	}
	return h.finish()
}

// x returns the middle of a column.
func (h *historyDrawing) x(column int) float64 {
	return margin + 6 + float64(min(column, mostWide-1))*columnWide
}

// row draws a commit: its text and the lines beside it.
func (h *historyDrawing) row(e *lookback.Entry, last bool) {
	left := margin + float64(h.columns)*columnWide + 8
	w := h.d.W - margin - left
	subject := e.Subject()
	if subject == "" {
		subject = "(no message)"
	}
	head := wrapped(bold, 9.5, subject, w)
	facts := wrapped(sans, 8, h.facts(e), w)
	said := e.Said(h.of.Short)
	for _, n := range e.Names {
		said = append([]string{"‹" + n.Name + "›"}, said...)
	}
	notes := []string(nil)
	if len(said) > 0 {
		notes = wrapped(sans, 8, strings.Join(said, " · "), w)
	}
	height := 9.5*lineHigh*float64(len(head)) + 8*lineHigh*float64(len(facts)+len(notes)) + 9
	h.room(height)
	top, bottom := h.y, h.y+height
	at := top + 8.5
	h.lines(e, top, at, bottom, last)
	y := h.write(left, top, bold, 9.5, Ink, head)
	y = h.write(left, y, sans, 8, Dim, facts)
	kind := signs[e.Side()]
	h.write(left, y, sans, 8, map[SignKind]Hue{SignYours: Yours, SignTheirs: Theirs, SignJoined: Joined, SignBase: Base,
		SignBehind: Dim}[kind], notes)
	h.put(Sign{h.x(e.Column), at, 4.6, kind})
	h.y = bottom
}

// facts returns a commit's id, author and date.
func (h *historyDrawing) facts(e *lookback.Entry) string {
	who := e.Author()
	return fmt.Sprintf("%s · %s · %s", h.of.Short(e.ID), who.Name, who.Time().Format("2 Jan 2006 15:04"))
}

// lines draws the lines that pass a row, and those that end and begin in its commit.
func (h *historyDrawing) lines(e *lookback.Entry, top, at, bottom float64, last bool) {
	line := func(number int, points ...[2]float64) {
		kind := h.kinds[number]
		h.put(Line{Points: points, Width: 1.9, Smooth: true, Hue: hueOfSign[kind],
			Dashed: kind == SignTheirs || kind == SignBehind})
	}
	own := h.x(e.Column)
	for _, l := range e.Past {
		line(l.Line, [2]float64{h.x(l.Column), top}, [2]float64{h.x(l.Column), bottom})
	}
	if e.Above {
		line(e.Own, [2]float64{own, top}, [2]float64{own, at})
	}
	h.kinds[e.Own] = signs[e.Side()]
	for _, l := range e.Begins {
		h.kinds[l.Line] = signs[e.Side()]
	}
	if e.Below && (!last || h.of.More) {
		line(e.Own, [2]float64{own, at}, [2]float64{own, bottom})
	}
	for _, l := range e.Ends {
		line(l.Line, [2]float64{h.x(l.Column), top}, [2]float64{own, at})
	}
	for _, of := range [][]history.Lane{e.Begins, e.Joins} {
		for _, l := range of {
			line(l.Line, [2]float64{own, at}, [2]float64{h.x(l.Column), bottom})
		}
	}
}

// date formats a day.
func date(t time.Time) string { return t.Format("2 Jan 2006") }

// plural formats a number with its noun.
func plural(n int, one string) string { return words.Count(n, one, one+"s") }
