package tui

import (
	"context"
	"fmt"
	"strings"

	"charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/lookback"
	"dorvik.dev/dorvik/internal/words"
)

// pairScreen shows the two commits that collide side by side: who made each, why, and what it changed of the files that
// the collision is about.
type pairScreen struct {
	*checkScreen
	reads  besides
	sides  [2]pairSide
	read   bool
	scroll scroll
}

// pairSide is one of the two.
type pairSide struct {
	side  merge.Side
	mark  mark
	node  history.Node
	edits lookback.Edited
}

// openPair looks at the two that collide.
func (s *checkScreen) openPair() tea.Cmd {
	o := &pairScreen{checkScreen: s, reads: s.newBeside(), sides: [2]pairSide{
		{side: merge.Yours, mark: markYours, node: s.pair.Yours}, {side: merge.Theirs, mark: markTheirs,
			node: s.pair.Theirs}}}
	var about []string
	for i := range s.unfit {
		about = append(about, s.unfit[i].Changed.Path, s.unfit[i].Used.Path)
	}
	for _, at := range s.places {
		about = append(about, at.Path)
	}
	s.open(o)
	sides := o.sides
	return o.reads.start(func(ctx context.Context) (then, error) {
		for i := range sides {
			var err error
			if sides[i].edits, err = s.s.History.EditedBy(ctx, sides[i].node, about); err != nil {
				return nil, err
			}
		}
		return func() tea.Cmd { o.sides, o.read = sides, true; return nil }, nil
	})
}

func (o *pairScreen) actions() []action {
	look := func(n history.Node) func() tea.Cmd { return func() tea.Cmd { return o.showCommit(n, nil) } }
	out := []action{act(keys.yourCommit, "", look(o.pair.Yours)), also(keys.theirCommit, look(o.pair.Theirs)),
		act(keys.colleague, "write to whose the other is", o.tellColleague),
		act(keys.back, "", quietly(func() { o.reads.stop(); o.close() }))}
	return append(out, o.scroll.actions()...)
}

func (o *pairScreen) update(msg tea.Msg) tea.Cmd {
	o.scroll.update(msg)
	return o.checkScreen.update(msg)
}

func (o *pairScreen) status() line { return txt(dim, "the two that collide") }

func (o *pairScreen) remark() line { return txt(dim, "You are only looking. Nothing changes here.") }

func (o *pairScreen) view(w, h int) page {
	p := page{txt(plain, "  ").then(heading("THE TWO THAT COLLIDE")).add(dim,
		"   each works without the other; together they do not").cut(w), nil}
	if w < wide {
		all := append(append(o.sideRows(0, w-2), nil), o.sideRows(1, w-2)...)
		return append(p, o.scroll.window(indent(all, 1), h-len(p))...)
	}
	left := w / 2
	yours, theirs := indent(o.sideRows(0, left-3), 1), o.sideRows(1, w-left-4)
	return append(p, o.scroll.window(beside(yours, theirs, left-1, w, h-len(p)), h-len(p))...)
}

// sideRows is one of the two, from its commit down to its edits.
func (o *pairScreen) sideRows(i, w int) (p page) {
	s := &o.sides[i]
	p.row(line{}.mark(s.mark).add(s.mark.hue, o.s.Planner.Short(s.node.ID)+"  ").bold(bright, s.node.Subject()).cut(w))
	p.row(txt(plain, "  "+o.first(s.node, s.side)).add(dim, "   "+s.node.Author().Time().Format("2 Jan 2006 "+
		"15:04")).cut(w))
	_, body, _ := strings.Cut(s.node.Text(), "\n")
	for row := range strings.Lines(strings.TrimSpace(body)) {
		p.rows(indent(wrap(txt(dim, strings.TrimSpace(row)), w-2), 2))
	}
	if !o.read {
		p.row(txt(dim, "  Reading what it changed…"))
		return p
	}
	for k, f := range s.edits.Files {
		p.blank()
		p.row(txt(plain, "  ").bold(bright, cutPath(f.Path, w-30)).add(dim, words.If(f.From == "", "",
			"   was "+f.From)).cut(w))
		lines := s.edits.Lines[k]
		if len(lines) == 0 {
			p.row(txt(dim, "  "+words.If(f.New.Absent(), "deleted", "no line of it is another")))
		}
		for _, l := range lines {
			p.rows(briefLine(l, w))
		}
	}
	if n := s.edits.More; n > 0 {
		p.blank()
		p.row(txt(dim, "  and "+words.Count(n, "file", "files")+" that this is not about").cut(w))
	}
	return p
}

// briefLine is a line of a change where there is little room: with one number. What changed is shown to its end.
func briefLine(l lookback.ChangeLine, w int) page {
	const margin = 9
	text := strings.TrimRight(l.Text, "\r\n")
	var head line
	as := bright
	switch l.Kind {
	case lookback.LinesFolded:
		return page{txt(faint, "       ┊ "+words.Count(l.Count, "line", "lines"))}
	case lookback.LineGone:
		head, as = txt(faint, fmt.Sprintf("%6d ", l.Old)).bold(trouble, "− "), plain
	case lookback.LineNew:
		head = txt(faint, fmt.Sprintf("%6d ", l.New)).bold(joined, "+ ")
	default:
		return page{txt(faint, fmt.Sprintf("%6d   ", l.New)).add(dim, text).cut(w)}
	}
	rows := wrap(txt(as, text), max(20, w-margin))
	for i := range rows {
		if i > 0 {
			head = txt(plain, strings.Repeat(" ", margin+2))
		}
		rows[i] = head.then(rows[i])
	}
	return rows
}
