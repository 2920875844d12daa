package history

import (
	"cmp"
	"slices"

	"dorvik.dev/dorvik/internal/core/object"
)

// Row is a commit's row in a drawn history: its column and the lines that pass there. Column 0 is the leftmost. A line
// changes its column only along the row of a commit.
type Row struct {
	Listed
	Column int
	Above  bool   // a line reaches the commit from above
	Below  bool   // the commit's line goes on below
	Past   []Lane // lines that pass the commit
	Ends   []Lane // lines from above that end in it: the commit's other children
	Begins []Lane // lines that begin in it: to other parents
	Joins  []Lane // lines that pass the commit and also lead to one of its parents
	Own    int    // the line the commit is on
	Later  bool   // wrong clocks put a child below the commit, so a line is missing
}

// Lane is a line at a row.
type Lane struct {
	Column int
	Line   int // the number of the line, from 0 in order of beginning
}

// line is a run of commits, each the child of the next, that is drawn in one column.
type line struct {
	number int
	column int
	target object.ID // the parent it leads to
	begins int       // first row
	ends   int       // last row, or far
	gap    bool      // the line ended in a commit, so no line may begin right below
}

const far = int(^uint(0) >> 1)

// Lanes lays out a history while its commits arrive, in pieces. Within a piece it chooses columns so that few lines
// cross, without moving earlier pieces. Small pieces get the minimum; in large ones a bound on the search stops at a
// good result.
type Lanes struct {
	rows   int
	lines  int
	open   []*line
	recent []*line // lines that ended in the row above
	placed map[object.ID]bool
}

// NewLanes returns an empty drawing.
func NewLanes() *Lanes { return &Lanes{placed: map[object.ID]bool{}} }

// bend is a stretch of a commit's row that leads from line to line.
type bend struct {
	row      int
	from, to *line
}

// piece is the rows that are laid out together.
type piece struct {
	rows  []Row
	bends []bend
	all   []*line // lines open above, and lines that begin here
	fresh []*line
}

// Add lays out the next commits.
func (ls *Lanes) Add(commits []Listed) []Row {
	p := &piece{all: append(slices.Clone(ls.open), ls.recent...)}
	links := make([]links, len(commits))
	for i, c := range commits {
		links[i] = ls.follow(p, ls.rows+i, c)
	}
	newSearch(p).run()
	for i, c := range commits {
		p.rows = append(p.rows, p.row(ls.rows+i, c, links[i]))
	}
	ls.rows += len(commits)
	ls.recent = nil
	for _, l := range p.all {
		if l.ends == ls.rows-1 {
			ls.recent = append(ls.recent, l)
		}
	}
	return p.rows
}

// links is what a commit's row shows.
type links struct {
	own                 *line
	above, below, later bool
	ends, begins, joins []*line
}

// follow moves the lines past a commit: it returns those that lead to it and where they continue.
func (ls *Lanes) follow(p *piece, row int, c Listed) links {
	var k links
	begin := func(target object.ID) *line {
		l := &line{number: ls.lines, column: -1, target: target, begins: row, ends: far}
		ls.lines++
		ls.open, p.all, p.fresh = append(ls.open, l), append(p.all, l), append(p.fresh, l)
		return l
	}
	for _, l := range ls.open {
		switch {
		case l.target != c.ID:
		case k.own == nil:
			k.own, k.above = l, true
		default:
			l.ends = row
			k.ends = append(k.ends, l)
		}
	}
	if k.own == nil {
		k.own = begin(c.ID)
	}
	ls.open = slices.DeleteFunc(ls.open, func(l *line) bool { return l.ends == row })
	ls.placed[c.ID] = true
	for i, parent := range c.Parents {
		switch at := slices.IndexFunc(ls.open, func(l *line) bool { return l.target == parent }); {
		case slices.Contains(c.Parents[:i], parent):
		case ls.placed[parent]:
			k.later = true
		case !k.below && (i == 0 || at < 0):
			k.own.target, k.below = parent, true
		case at >= 0:
			k.joins = append(k.joins, ls.open[at])
		default:
			k.begins = append(k.begins, begin(parent))
		}
	}
	if !k.below {
		k.own.ends, k.own.gap = row, true
		ls.open = slices.DeleteFunc(ls.open, func(l *line) bool { return l == k.own })
	}
	for _, l := range slices.Concat(k.ends, k.begins, k.joins) {
		p.bends = append(p.bends, bend{row, k.own, l})
	}
	return k
}

func (p *piece) row(at int, c Listed, k links) Row {
	r := Row{Listed: c, Column: k.own.column, Own: k.own.number, Above: k.above, Below: k.below, Later: k.later}
	lanes := func(of []*line) (out []Lane) {
		for _, l := range of {
			out = append(out, Lane{l.column, l.number})
		}
		slices.SortFunc(out, func(a, b Lane) int { return cmp.Compare(a.Column, b.Column) })
		return out
	}
	r.Ends, r.Begins, r.Joins = lanes(k.ends), lanes(k.begins), lanes(k.joins)
	var past []*line
	for _, l := range p.all {
		if l != k.own && l.begins < at && l.ends > at {
			past = append(past, l)
		}
	}
	r.Past = lanes(past)
	return r
}

// Width returns the number of columns of the row.
func (r *Row) Width() int {
	w := r.Column + 1
	for _, of := range [][]Lane{r.Past, r.Ends, r.Begins, r.Joins} {
		for _, l := range of {
			w = max(w, l.Column+1)
		}
	}
	return w
}
