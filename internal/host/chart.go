package host

import "fmt"

// chart is the drawing beside the rows of a page: the branch as a line that grows upward, and each proposal as a line
// that leaves it where it began and comes back, or does not. Lengths are in pixels.
type chart struct {
	W, H  int
	Spurs []spur
	Main  string // path of the branch,
	Grows string // and of where it grows if proposals are joined
	Dots  []dot  // its commits
}

// spur is the line of a proposal.
type spur struct {
	Path, Back string // from the branch to its sign, and from there to the branch's end; empty if it does not join
	X, Y       int
	Sign       string
	Joins      bool
}

type dot struct{ X, Y int }

// heights of the rows, and the distance of the lines.
const (
	proposalRow = 98
	commitRow   = 40
	widest      = 24
	lanes       = 132 // for all of them, if there are many
	edge        = 20
)

// draw lays the chart out: a row for each proposal, newest on top, then one for each commit.
func (p *shown) draw() chart {
	n := len(p.Waiting)
	lane := max(6, min(widest, lanes/max(1, n)))
	top := n * proposalRow
	c := chart{W: edge*2 + lane*n, H: top + len(p.Commits)*commitRow}
	at := func(row int) int { return top + row*commitRow + commitRow/2 }
	for i := range p.Commits {
		c.Dots = append(c.Dots, dot{edge, at(i)})
	}
	if len(p.Commits) > 0 {
		c.Main = fmt.Sprintf("M %d %d L %d %d", edge, at(0), edge, at(len(p.Commits)-1))
		c.Grows = fmt.Sprintf("M %d %d L %d %d", edge, at(0), edge, 16)
	}
	for i, w := range p.Waiting {
		x, y := edge+lane*(n-i), i*proposalRow+26
		from := len(p.Commits) - 1 // older than what is shown
		for k := range p.Commits {
			if p.Commits[k].id == w.base {
				from = k
			}
		}
		if from < 0 {
			continue
		}
		s := spur{X: x, Y: y, Joins: w.Joins, Sign: "≠",
			Path: fmt.Sprintf("M %d %d C %d %d %d %d %d %d L %d %d", edge, at(from), edge, at(from)-commitRow/2, x,
				at(from), x, at(from)-commitRow, x, y)}
		if w.Joins {
			s.Sign = "●"
			s.Back = fmt.Sprintf("M %d %d C %d %d %d %d %d %d", x, y, x, y-16, edge, y-16, edge, y+18)
		}
		c.Spurs = append(c.Spurs, s)
	}
	return c
}
