package history

// Cell is one of the places a row's drawing is made of: one for each column, and one between
// each two.
type Cell struct {
	Up, Down, Left, Right bool
	Commit                bool
	Line                  int // whose stroke it is; the commit's own along the row
}

// strokes is the box-drawing character for each set of directions: up, down, left, right as bits.
var strokes = [16]rune{' ', '╵', '╷', '│', '╴', '╯', '╮', '┤', '╶', '╰', '╭', '├', '─', '┴', '┬', '┼'}

// Rune returns the character that draws the cell, a blank for a commit.
func (c Cell) Rune() rune {
	if c.Commit {
		return ' '
	}
	n := 0
	for bit, set := range []bool{c.Up, c.Down, c.Left, c.Right} {
		if set {
			n |= 1 << bit
		}
	}
	return strokes[n]
}

// Cells draws the row in characters: column n is cell 2n. Where the row's stroke meets a line
// that only passes, that line is seen and the stroke goes on behind it.
func (r *Row) Cells() []Cell {
	cells := make([]Cell, 2*r.Width()-1)
	for i := range cells {
		cells[i].Line = r.Own
	}
	passed := map[int]bool{}
	for _, l := range r.Past {
		joined := false
		for _, j := range r.Joins {
			joined = joined || j.Line == l.Line
		}
		passed[2*l.Column] = !joined
		cells[2*l.Column] = Cell{Up: true, Down: true, Line: l.Line}
	}
	at := 2 * r.Column
	reach := func(l Lane, up, down bool) {
		to := 2 * l.Column
		step := 1
		if to < at {
			step = -1
		}
		for i := at + step; i != to; i += step {
			if !passed[i] {
				cells[i].Left, cells[i].Right = true, true
			}
		}
		c := &cells[to]
		c.Line = l.Line
		c.Up, c.Down = c.Up || up, c.Down || down
		if step > 0 {
			c.Left = true
		} else {
			c.Right = true
		}
	}
	for _, l := range r.Ends {
		reach(l, true, false)
	}
	for _, l := range r.Begins {
		reach(l, false, true)
	}
	for _, l := range r.Joins {
		reach(l, true, true)
	}
	cells[at] = Cell{Up: r.Above, Down: r.Below, Commit: true, Line: r.Own}
	return cells
}
