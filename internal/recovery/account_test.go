package recovery

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/core/account"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/plan"
)

// lineage is a history with merges of one's own: of a side line, and of what theirs had before, each decided at random
// and mended. Each line of its text is written once, and ends with the number of its place.
type lineage struct {
	*rand.Rand
	w    *Workspace
	t    *testing.T
	when int64
	made int // lines so far
}

func (l *lineage) commit(text string, parents ...object.ID) object.ID {
	l.when++
	who := object.Signature{Name: "Ada", Email: "ada@skerry.example", When: 1767000000 + l.when, Zone: "+0000"}
	tree := files{"f": {"100644", text}}.tree(l.t, l.w.Planner.Store)
	return l.w.Planner.Store.PutCommit(&object.Commit{Tree: tree, Parents: parents, AuthorLine: who.String(),
		Committer: who,
		Message:   "x\n"})
}

func (l *lineage) text(id object.ID) string {
	tree, err := l.w.Planner.Tree(context.Background(), id)
	require.NoError(l.t, err)
	text, _, err := l.w.Planner.TextAt(context.Background(), tree, "f")
	require.NoError(l.t, err)
	return text
}

// edit replaces, takes out or adds lines of a text.
func (l *lineage) edit(text, who string, n int) string {
	lines := strings.SplitAfter(strings.TrimSuffix(text, "\n"), "\n")
	lines[len(lines)-1] += "\n"
	for range n {
		i := l.IntN(len(lines))
		place := lines[i][strings.LastIndexByte(strings.TrimSpace(lines[i]), ' ')+1:]
		l.made++
		new := fmt.Sprintf("%s%d %s", who, l.made, place)
		switch l.IntN(5) {
		case 0:
			if len(lines) > 4 {
				lines = slices.Delete(lines, i, i+1)
			}
		case 1:
			lines = slices.Insert(lines, i, new)
		default:
			lines[i] = new
		}
	}
	return strings.Join(lines, "")
}

// join merges two commits, decides at random, and perhaps mends a line besides.
func (l *lineage) join(a, b object.ID) object.ID {
	r, err := l.w.Planner.Joined(l.t.Context(), a, b)
	require.NoError(l.t, err)
	decisions := &settle.Decisions{}
	for i := range r.Conflicts {
		for _, q := range l.w.Planner.Files.Open(context.Background(), &r.Conflicts[i]).Questions {
			d := settle.Decision{Key: q.Key, Way: []settle.Way{settle.Yours, settle.Theirs, settle.Written}[l.IntN(3)]}
			if d.Way == settle.Written {
				l.made++
				d.Text = fmt.Sprintf("both%d 0\n", l.made)
			}
			decisions.Decide(d)
		}
	}
	decided, _, err := l.w.Planner.Files.Resolve(l.t.Context(), r, decisions)
	require.NoError(l.t, err)
	tree, err := r.Tree(context.Background(), decided)
	require.NoError(l.t, err)
	text, _, err := l.w.Planner.TextAt(context.Background(), tree, "f")
	require.NoError(l.t, err)
	if l.IntN(2) == 0 {
		text = l.edit(text, "mend", 1)
	}
	return l.commit(text, a, b)
}

// TestAccountOfMerges: in rebases, and merges, of histories that hold merges of one's own, every line of either side is in
// the result or in the account, and so is every line that a side took out and that stands again.
func TestAccountOfMerges(t *testing.T) {
	t.Parallel()
	count, seed := 600, uint64(8)
	if v, err := strconv.Atoi(os.Getenv("DORVIK_HISTORIES")); err == nil {
		count = v / 5
	}
	if v, err := strconv.ParseUint(os.Getenv("DORVIK_SEED"), 10, 64); err == nil {
		seed = v
	}
	merges, stops := 0, 0
	for n := range count {
		l := &lineage{Rand: rand.New(rand.NewPCG(seed, uint64(n))), w: memory(), t: t}
		base := ""
		for i := 1; i <= 12; i++ {
			base += fmt.Sprintf("base%d %d\n", i, i)
		}
		root := l.commit(base)
		theirs := l.commit(l.edit(base, "t", 1+l.IntN(3)), root)
		mine := l.commit(l.edit(base, "m", 1+l.IntN(3)), root)
		for range 1 + l.IntN(3) {
			switch l.IntN(3) {
			case 0: // a line of one's own comes in
				side := l.commit(l.edit(l.text(root), "s", 1+l.IntN(2)), root)
				mine = l.join(mine, side)
				merges++
			case 1: // theirs comes in
				mine = l.join(mine, theirs)
				merges++
				theirs = l.commit(l.edit(l.text(theirs), "t", 1+l.IntN(2)), theirs)
			default:
				mine = l.commit(l.edit(l.text(mine), "m", 1), mine)
			}
		}
		theirs = l.commit(l.edit(l.text(theirs), "t", 1), theirs)
		p := &plan.Position{Yours: mine, Theirs: theirs}
		var err error
		p.Divergence, err = history.Diverge(t.Context(), l.w.Planner.Store, mine, theirs)
		require.NoError(t, err)
		decisions := &settle.Decisions{}
		route := []plan.Route{plan.Rebase, plan.Rebase, plan.Merge}[l.IntN(3)]
		var j *plan.Join
		for {
			j, err = l.w.Planner.Join(t.Context(), p, route, decisions, plan.Amends{}, nil)
			require.NoError(t, err)
			c := firstWithout(j, decisions)
			if c == nil {
				break
			}
			stops++
			way := []settle.Way{settle.Yours, settle.Theirs, settle.TheirsYours}[l.IntN(3)]
			if _, ok := c.Option(way); !ok {
				way = settle.Yours
			}
			decisions.Decide(settle.Decision{Key: c.Key, Way: way})
		}
		left, err := l.w.Planner.Accounts.LeftOut(t.Context(), p, j, decisions)
		require.NoError(t, err)
		result, _, err := l.w.Planner.TextAt(t.Context(), j.Tree, "f")
		require.NoError(t, err)
		ancestor := l.text(p.Divergence.Bases[0])
		if len(p.Divergence.Bases) > 1 {
			continue // what all started from is no text that anybody wrote
		}
		for i, side := range []merge.Side{merge.Yours, merge.Theirs} {
			if lost := untold(ancestor, l.text([]object.ID{mine, theirs}[i]), result, side, left); lost != "" {
				t.Fatalf("history %d by %s: %s\nbase %q\nyours %q\ntheirs %q\nresult %q\naccount %+v", n, route, lost,
					ancestor,
					l.text(mine), l.text(theirs), result, left)
			}
		}
	}
	assert.Greater(t, merges, count/2)
	assert.Greater(t, stops, count/2)
}

// untold names a line that a side made, or took out, that the result does not hold and the account does not tell.
func untold(base, side, result string, of merge.Side, left []plan.LeftOut) string {
	was, has, is := set(base), set(side), set(result)
	told := func(is func(l plan.LeftOut) bool) bool {
		return slices.ContainsFunc(left, func(l plan.LeftOut) bool { return l.Side == of && is(l) })
	}
	for line := range has {
		if !was[line] && !is[line] && !told(func(l plan.LeftOut) bool {
			return l.What == account.Line &&
				l.Text == line
		}) {
			return fmt.Sprintf("%s: %q is neither there nor told", of, line)
		}
	}
	for line := range was {
		if has[line] || !is[line] {
			continue
		}
		// A line that the side put in its place and that is told says that it stands.
		if !told(func(l plan.LeftOut) bool { return l.Kept == line || l.What == account.Line }) {
			return fmt.Sprintf("%s: %q was taken out, stands again, and is not told", of, line)
		}
	}
	return ""
}

func set(text string) map[string]bool {
	out := map[string]bool{}
	for l := range strings.SplitSeq(strings.TrimSpace(text), "\n") {
		out[l] = true
	}
	return out
}
