package tui

import (
	"context"
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/lookback"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// pairScreen shows the two colliding commits side by side: authors, reasons, and their changes of the files concerned.
type pairScreen struct {
	*checkScreen
	reads  besides
	sides  [2]pairSide
	read   bool
	scroll term.Scroll
}

// pairSide is one of the two.
type pairSide struct {
	side  merge.Side
	mark  term.Mark
	node  history.Node
	edits lookback.Edited
}

// openPair shows the two commits.
func (s pairing) openPair() tea.Cmd {
	o := &pairScreen{checkScreen: s.checkScreen, reads: s.job.newBeside(), sides: [2]pairSide{
		{side: merge.Yours, mark: term.MarkYours, node: s.pair.Yours}, {side: merge.Theirs, mark: term.MarkTheirs,
			node: s.pair.Theirs}}}
	var about []string
	for i := range s.unfit {
		about = append(about, s.unfit[i].Changed.Path, s.unfit[i].Used.Path)
	}
	for _, at := range s.places {
		about = append(about, at.Path)
	}
	s.job.open(o)
	sides := o.sides
	return o.reads.start(func(ctx context.Context) (then, error) {
		for i := range sides {
			var err error
			if sides[i].edits, err = s.job.s.History.EditedBy(ctx, sides[i].node, about); err != nil {
				return nil, err
			}
		}
		return func() tea.Cmd { o.sides, o.read = sides, true; return nil }, nil
	})
}

func (o *pairScreen) actions() []action {
	look := func(n history.Node) func() tea.Cmd { return func() tea.Cmd { return showCommit(o.job, n, nil) } }
	out := []action{act(keys.YourCommit, "", look(o.pair.Yours)), also(keys.TheirCommit, look(o.pair.Theirs)),
		act(keys.Colleague, "write to whose the other is", o.pairing().tellColleague),
		act(keys.Back, "", quietly(func() { o.reads.stop(); o.job.close() }))}
	return append(out, scrollKeys(&o.scroll)...)
}

func (o *pairScreen) update(msg tea.Msg) tea.Cmd {
	o.scroll.Update(msg)
	return o.checkScreen.update(msg)
}

func (o *pairScreen) status() term.Line { return term.Text(term.Dim, "the two that collide") }

func (o *pairScreen) remark() term.Line {
	return term.Text(term.Dim, "You are only looking. Nothing changes here.")
}

func (o *pairScreen) view(w, h int) term.Page {
	p := term.Page{term.Text(term.Plain, "  ").Then(term.Heading("THE TWO THAT COLLIDE")).Add(term.Dim,
		"   each works without the other; together they do not").Cut(w), nil}
	if w < wide {
		all := append(append(o.sideRows(0, w-2), nil), o.sideRows(1, w-2)...)
		return append(p, o.scroll.Window(term.Indent(all, 1), h-len(p))...)
	}
	left := w / 2
	yours, theirs := term.Indent(o.sideRows(0, left-3), 1), o.sideRows(1, w-left-4)
	return append(p, o.scroll.Window(term.Beside(yours, theirs, left-1, w, h-len(p)), h-len(p))...)
}

// sideRows draws one of the two, from its commit down to its edits.
func (o *pairScreen) sideRows(i, w int) (p term.Page) {
	s := &o.sides[i]
	p.Row(term.Line{}.Mark(s.mark).Add(s.mark.Hue, o.job.s.Planner.Short(s.node.ID)+"  ").Bold(term.Bright,
		s.node.Subject()).Cut(w))
	p.Row(term.Text(term.Plain, "  "+o.job.first(s.node, s.side)).Add(term.Dim,
		"   "+s.node.Author().Time().Format("2 Jan 2006 "+
			"15:04")).Cut(w))
	_, body, _ := strings.Cut(s.node.Text(), "\n")
	for row := range strings.Lines(strings.TrimSpace(body)) {
		p.Rows(term.Indent(term.Wrap(term.Text(term.Dim, strings.TrimSpace(row)), w-2), 2))
	}
	if !o.read {
		p.Row(term.Text(term.Dim, "  Reading what it changed…"))
		return p
	}
	for k, f := range s.edits.Files {
		p.Blank()
		p.Row(term.Text(term.Plain, "  ").Bold(term.Bright, term.CutPath(f.Path, w-30)).Add(term.Dim,
			words.If(f.From == "", "",
				"   was "+f.From)).Cut(w))
		lines := s.edits.Lines[k]
		if len(lines) == 0 {
			p.Row(term.Text(term.Dim, "  "+words.If(f.New.Absent(), "deleted", "no line changed")))
		}
		for _, l := range lines {
			p.Rows(briefLine(l, w))
		}
	}
	if n := s.edits.More; n > 0 {
		p.Blank()
		p.Row(term.Text(term.Dim, "  and "+words.Count(n, "file", "files")+" that this is not about").Cut(w))
	}
	return p
}

// briefLine draws a line of a change in a narrow column, with one number and the changed part in view.
func briefLine(l lookback.ChangeLine, w int) term.Page {
	const margin = 9
	text := strings.TrimRight(l.Text, "\r\n")
	var head term.Line
	as := term.Bright
	switch l.Kind {
	case lookback.LinesFolded:
		return term.Page{term.Text(term.Faint, "       ┊ "+words.Count(l.Count, "line", "lines"))}
	case lookback.LineGone:
		head, as = term.Text(term.Faint, fmt.Sprintf("%6d ", l.Old)).Bold(term.Trouble, "− "), term.Plain
	case lookback.LineNew:
		head = term.Text(term.Faint, fmt.Sprintf("%6d ", l.New)).Bold(term.Joined, "+ ")
	default:
		return term.Page{term.Text(term.Faint, fmt.Sprintf("%6d   ", l.New)).Add(term.Dim, text).Cut(w)}
	}
	rows := term.Wrap(term.Text(as, text), max(20, w-margin))
	for i := range rows {
		if i > 0 {
			head = term.Text(term.Plain, strings.Repeat(" ", margin+2))
		}
		rows[i] = head.Then(rows[i])
	}
	return rows
}
