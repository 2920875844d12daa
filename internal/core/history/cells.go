package history

// Cell is one place of a drawn row. A row has one cell per column and one between each two.
type Cell struct {
	Up, Down, Left, Right bool
	Commit                bool
	Line                  int // whose stroke it is; the commit's own along the row
}

// strokes maps directions (up, down, left and right as bits) to box-drawing characters.
var strokes = [16]rune{' ', '╵', '╷', '│', '╴', '╯', '╮', '┤', '╶', '╰', '╭', '├', '─', '┴', '┬', '┼'}

// Rune returns the character that draws the cell, or a blank for a commit.
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

// Cells returns the row as characters; column n is cell 2n. A line that only passes is drawn in front of the row's
// stroke.
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
