package history

import (
	"context"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"

	"dorvik.dev/dorvik/internal/core/object"
)

var update = flag.Bool("update", false, "write what is drawn into the test data")

// drawn is a history as characters, with the names of its commits.
func (g *graph) drawn(rows []Row) string {
	var b strings.Builder
	for _, r := range rows {
		var l strings.Builder
		for _, c := range r.Cells() {
			if c.Commit {
				l.WriteByte('o')
			} else {
				l.WriteRune(c.Rune())
			}
		}
		later := ""
		if r.Later {
			later = " later"
		}
		fmt.Fprintf(&b, "%-28s%s%s\n", l.String(), g.names([]object.ID{r.ID}), later)
	}
	return b.String()
}

// drawing is drawn where a test fails.
type drawing struct {
	*graph
	rows []Row
}

func (d drawing) String() string { return d.drawn(d.rows) }

// listed gives commits that nobody is a parent of, and all they lead to.
func (g *graph) listed(tips ...object.ID) []Listed {
	log, err := NewLog(context.Background(), g.o, nil, tips...)
	require.NoError(g.t, err)
	all, err := log.Next(g.t.Context(), 1000)
	require.NoError(g.t, err)
	return all
}

// TestLanes draws the histories of a file, which holds each with its drawing.
func TestLanes(t *testing.T) {
	const file = "testdata/lanes.txtar"
	a, err := txtar.ParseFile(file)
	require.NoError(t, err)
	for i, f := range a.Files {
		text, want, _ := strings.Cut(strings.TrimLeft(string(f.Data), "\n"), "\n\n")
		want = strings.TrimLeft(want, "\n")
		g := newGraph(t)
		lines := strings.Split(strings.TrimSpace(text), "\n")
		child := map[string]bool{}
		for n, l := range slices.Backward(lines) {
			name, parents, _ := strings.Cut(l, ":")
			for _, p := range strings.Fields(parents) {
				child[p] = true
			}
			g.commit(name, int64(1000-n), strings.Fields(parents)...)
		}
		var tips []object.ID
		for _, l := range lines {
			if name, _, _ := strings.Cut(l, ":"); !child[name] {
				tips = append(tips, g.ids[name])
			}
		}
		rows := NewLanes().Add(g.listed(tips...))
		got := g.drawn(rows)
		if *update {
			a.Files[i].Data = []byte(strings.TrimSpace(text) + "\n\n" + got)
			continue
		}
		assert.Equal(t, want, got, f.Name)
		assert.Equal(t, fewest(rows), crossings(rows, nil), "%s: lines cross more than they need", f.Name)
	}
	if *update { // by hand, after looking at it
		require.NoError(t, os.WriteFile(file, txtar.Format(a), 0o644))
	}
}

// random makes a history of n commits, of which some join lines, and gives its tips.
func random(t *testing.T, r *rand.Rand, n, lines int, skewed int64) (*graph, []object.ID) {
	g := newGraph(t)
	child := map[string]bool{}
	for i := range n {
		var parents []string
		for range min(i, 1+max(0, r.IntN(5)-2)) {
			if p := fmt.Sprint("c", max(0, i-1-r.IntN(lines))); !slices.Contains(parents, p) {
				parents, child[p] = append(parents, p), true
			}
		}
		when := int64(100000 + i*10)
		if skewed > 0 {
			when += r.Int64N(skewed) - skewed/2
		}
		g.commit(fmt.Sprint("c", i), when, parents...)
	}
	var tips []object.ID
	for name, id := range g.ids {
		if !child[name] {
			tips = append(tips, id)
		}
	}
	slices.SortFunc(tips, func(a, b object.ID) int { return strings.Compare(a.String(), b.String()) })
	return g, tips
}

// TestLanesNeverOverlap: in histories of any shape, laid out in pieces of any size, no two
// lines share a column at a row, lines go on in their column, and every parent is led to.
func TestLanesNeverOverlap(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for n := range 300 {
		g, tips := random(t, r, 5+r.IntN(60), 1+r.IntN(14), []int64{0, 0, 300, 400000}[n%4])
		all := g.listed(tips...)
		lanes := NewLanes()
		var rows []Row
		for len(all) > 0 {
			k := min(len(all), 1+r.IntN(40))
			rows = append(rows, lanes.Add(all[:k])...)
			all = all[k:]
		}
		require.Len(t, rows, len(g.ids))
		column, target := map[int]int{}, map[int]object.ID{} // of the lines that go on
		later := 0
		for i, row := range rows {
			at := map[int]int{row.Column: row.Own}
			for _, of := range [][]Lane{row.Past, row.Ends, row.Begins} {
				for _, l := range of {
					other, taken := at[l.Column]
					require.False(t, taken, "row %d: lines %d and %d in one column\n%v", i, l.Line, other,
						drawing{g, rows})
					at[l.Column] = l.Line
				}
			}
			for _, l := range slices.Concat(row.Past, row.Ends) {
				require.Equal(t, column[l.Line], l.Column, "a line moved")
			}
			for _, l := range row.Ends {
				require.Equal(t, row.ID, target[l.Line])
				delete(column, l.Line)
			}
			if row.Above {
				require.Equal(t, row.ID, target[row.Own])
				require.Equal(t, column[row.Own], row.Column)
			}
			for _, l := range row.Joins {
				require.Contains(t, row.Past, l)
			}
			require.Len(t, at, 1+len(row.Past)+len(row.Ends)+len(row.Begins))
			require.Equal(t, len(column), len(row.Past)+btoi(row.Above), "row %d: a line was left\n%v", i,
				drawing{g, rows})
			// Its parents are those that its lines lead to.
			led := len(row.Begins) + len(row.Joins) + btoi(row.Below)
			if row.Later {
				later++
			} else {
				require.Equal(t, len(row.Parents), led)
			}
			delete(column, row.Own)
			var to []object.ID
			for _, p := range row.Parents {
				if !slices.ContainsFunc(row.Joins, func(l Lane) bool { return target[l.Line] == p }) {
					to = append(to, p)
				}
			}
			if !row.Later {
				for k, l := range append([]Lane{{row.Column, row.Own}}[:btoi(row.Below)], byNumber(row.Begins)...) {
					column[l.Line], target[l.Line] = l.Column, to[k]
				}
			} else {
				break // the rest of such a history is looked at by its columns alone, in the other sizes
			}
		}
		if n%4 < 3 {
			require.Zero(t, later, "clocks that are wrong by minutes do not matter")
		}
	}
}

func byNumber(lanes []Lane) []Lane {
	return slices.SortedFunc(slices.Values(lanes), func(a, b Lane) int { return a.Line - b.Line })
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

// crossings counts where the strokes of rows cross lines, with the columns that the lines have
// or, if given, with others.
func crossings(rows []Row, column map[int]int) (n int) {
	at := func(l Lane) int {
		if column == nil {
			return l.Column
		}
		return column[l.Line]
	}
	for _, r := range rows {
		for _, of := range [][]Lane{r.Ends, r.Begins, r.Joins} {
			for _, l := range of {
				a, b := at(Lane{r.Column, r.Own}), at(l)
				for _, p := range r.Past {
					if c := at(p); c > min(a, b) && c < max(a, b) {
						n++
					}
				}
			}
		}
	}
	return n
}

// fewest tries all columns of all lines, as many as there are lines.
func fewest(rows []Row) int {
	begins, ends, lines := map[int]int{}, map[int]int{}, 0
	for i, r := range rows {
		for _, l := range slices.Concat([]Lane{{r.Column, r.Own}}, r.Past, r.Ends, r.Begins) {
			if _, ok := begins[l.Line]; !ok {
				begins[l.Line] = i
			}
			ends[l.Line], lines = i, max(lines, l.Line+1)
			if l.Line == r.Own && !r.Below {
				ends[l.Line]++ // what begins right below a commit would seem to be its line
			}
		}
	}
	columns := map[int]int{}
	best := far
	var try func(l int)
	try = func(l int) {
		if l == lines {
			best = min(best, crossings(rows, columns))
			return
		}
		for c := range lines {
			free := l > 0 || c == 0 // the branch is leftmost
			for o := range l {
				free = free && (columns[o] != c || ends[o] < begins[l] || ends[l] < begins[o])
			}
			if free {
				columns[l] = c
				try(l + 1)
			}
		}
	}
	if lines > 6 {
		return crossings(rows, nil) // 8^8 ways are too many to try
	}
	try(0)
	return best
}

// TestLanesCrossAsLittleAsCanBe compares small histories with all ways to draw them.
func TestLanesCrossAsLittleAsCanBe(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	tried, crossed := 0, 0
	for tried < 300 {
		g, tips := random(t, r, 4+r.IntN(8), 1+r.IntN(6), 0)
		rows := NewLanes().Add(g.listed(tips...))
		lines := 0
		for _, row := range rows {
			for _, l := range slices.Concat([]Lane{{row.Column, row.Own}}, row.Begins) {
				lines = max(lines, l.Line+1)
			}
		}
		if lines > 6 {
			continue
		}
		tried++
		n := crossings(rows, nil)
		crossed += btoi(n > 0)
		require.Equal(t, fewest(rows), n, "\n%s", g.drawn(rows))
	}
	assert.Greater(t, crossed, 10, "some cannot do without")
}
