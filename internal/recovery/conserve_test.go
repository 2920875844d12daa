package recovery

import (
	"context"
	"fmt"
	"maps"
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
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/plan"
)

// plot is a history small enough to be taken apart: files, and on each side commits of
// edits, each edit the seed of what it does.
type plot struct {
	base     files
	sides    [2][][]uint64
	route    plan.Route
	decides  uint64
	requests []replay.Request // of the commits of yours, in order
	// recorded has what files are recorded to be copies of, as in Mercurial; here of any others.
	recorded map[string][]string
}

func newPlot(r *rand.Rand, n int) *plot {
	p := &plot{base: files{}, route: []plan.Route{plan.Merge, plan.Rebase, plan.Pick}[r.IntN(3)], decides: r.Uint64()}
	s := &story{Rand: r}
	for range 1 + r.IntN(5) {
		path := names[r.IntN(len(names))]
		p.base.put(path, file{"100644", s.lines(path, r.IntN(20))})
	}
	for side := range p.sides {
		for range 1 + r.IntN(2) + n%2 {
			var edits []uint64
			for range 1 + r.IntN(3) {
				edits = append(edits, r.Uint64())
			}
			p.sides[side] = append(p.sides[side], edits)
		}
	}
	for range p.sides[0] {
		p.requests = append(p.requests, replay.Request{Leave: r.IntN(3) == 0, Into: r.IntN(3) == 0,
			Keep: r.IntN(2) == 0})
	}
	if n%4 == 3 {
		p.recorded = map[string][]string{}
		r := rand.New(rand.NewPCG(p.decides, 0))
		for _, name := range names {
			p.recorded[name] = []string{names[r.IntN(len(names))]}
		}
	}
	return p
}

// memory is a workspace without a repository.
func memory() *Workspace {
	store := object.NewOverlay(object.SHA1, nil)
	return &Workspace{Planner: plan.New(store, nil)}
}

var modes = map[string]object.Mode{"100644": object.ModeFile, "100755": object.ModeExec, "120000": object.ModeLink,
	"160000": object.ModeSubmodule}

func (f files) tree(t *testing.T, o *object.Overlay) object.ID {
	set := map[string]object.Entry{}
	for path, to := range f {
		e := object.Entry{Mode: modes[to.mode]}
		if to.mode == "160000" {
			var err error
			e.ID, err = object.ParseID(to.text)
			require.NoError(t, err)
		} else {
			e.ID = o.Put(object.KindBlob, []byte(to.text))
		}
		set[path] = e
	}
	id, err := o.Edit(t.Context(), o.EmptyTree(), set)
	require.NoError(t, err)
	if id.IsZero() {
		id = o.EmptyTree()
	}
	return id
}

// outcome of a plot: the position, the join with all settled, and the account of it.
type outcome struct {
	w       *Workspace
	p       *plan.Position
	j       *plan.Join
	left    []plan.LeftOut
	base    files
	tips    [2]files
	decided []string
	on      [2]map[string]bool // what any commit of a side has: that is the side's to undo
	woven   bool
}

func (pl *plot) play(t *testing.T) *outcome {
	w := memory()
	if pl.recorded != nil {
		w.Planner.Engine.Recorded = func(path string) []string { return pl.recorded[path] }
	}
	out := &outcome{w: w, base: pl.base, on: [2]map[string]bool{{}, {}}}
	who := object.Signature{Name: "Ada", Email: "ada@skerry.example", When: 1767000000, Zone: "+0000"}
	commit := func(f files, parents ...object.ID) object.ID {
		who.When++
		return w.Planner.Store.PutCommit(&object.Commit{Tree: f.tree(t, w.Planner.Store), Parents: parents,
			AuthorLine: who.String(),
			Committer:  who, Message: "x\n"})
	}
	root := commit(pl.base)
	tips := [2]object.ID{root, root}
	var lines [2][]object.ID
	for side, commits := range pl.sides {
		f := maps.Clone(pl.base)
		for _, edits := range commits {
			for _, seed := range edits {
				s := &story{Rand: rand.New(rand.NewPCG(seed, uint64(side)))}
				s.edit(f)
			}
			tips[side] = commit(f, tips[side])
			lines[side] = append(lines[side], tips[side])
			for line := range f.lines() {
				out.on[side][line] = true
			}
			for path, to := range f {
				out.on[side]["name "+path], out.on[side]["mode "+path+to.mode] = true, true
			}
			for path := range pl.base {
				if _, has := f[path]; !has {
					out.on[side]["gone "+path] = true
				}
			}
		}
		out.tips[side] = f
	}
	var err error
	if out.p = (&plan.Position{Yours: tips[0], Theirs: tips[1]}); pl.route == plan.Pick {
		out.p, err = w.Planner.Picking(t.Context(), plan.Alone(out.p.Branch, tips[0]), lines[1], 0)
	} else {
		out.p.Divergence, err = history.Diverge(t.Context(), w.Planner.Store, tips[0], tips[1])
	}
	require.NoError(t, err)
	if out.p.Requests = (replay.Requests{}); pl.route == plan.Rebase {
		for i, id := range lines[0] {
			out.p.Requests[id] = pl.requests[i]
		}
	}
	r := rand.New(rand.NewPCG(pl.decides, 0))
	decisions := &settle.Decisions{}
	for {
		out.j, err = w.Planner.Join(context.Background(), out.p, pl.route, decisions, plan.Amends{}, nil)
		require.NoError(t, err)
		c := firstWithout(out.j, decisions)
		if c == nil {
			break
		}
		d := settle.Decision{Key: c.Key, Way: c.Ways[r.IntN(len(c.Ways))].Way}
		if !c.Whole() && r.IntN(8) == 0 {
			d.Way, d.Text = settle.Written, "by hand\n"
		}
		decisions.Decide(d)
		out.woven = out.woven || d.Way == settle.Weave
		out.decided = append(out.decided, fmt.Sprintf("%s %s %s (%T %+v)", c.Path, c.Kind, d.Way, c.Subject, c.Subject))
	}
	out.left, err = w.Planner.Accounts.LeftOut(t.Context(), out.p, out.j, decisions)
	require.NoError(t, err)
	return out
}

func firstWithout(j *plan.Join, decisions *settle.Decisions) *settle.Question {
	for _, s := range j.Stops {
		for _, f := range s.Files {
			for _, c := range f.Questions {
				if _, _, ok := decisions.For(c); !ok {
					return c
				}
			}
		}
	}
	return nil
}

// result is what the joined tree holds.
func (o *outcome) result(t *testing.T) files {
	result := files{}
	changes, err := o.w.Planner.Store.Changes(t.Context(), object.ID{}, o.j.Tree)
	require.NoError(t, err)
	for _, c := range changes {
		to := file{mode: fmt.Sprintf("%06o", c.New.Mode), text: c.New.ID.String()}
		if c.New.Mode != object.ModeSubmodule {
			data, err := o.w.Planner.Store.Blob(t.Context(), c.New.ID)
			require.NoError(t, err)
			to.text = string(data)
		}
		result[c.Path] = to
	}
	return result
}

// lost names what a side made that is neither in the result nor in the account: a line
// or a content, a name, a mode, or a deletion that does not hold.
func (o *outcome) lost(t *testing.T) string {
	result := o.result(t)
	told := func(side merge.Side, paths []string, what ...account.Kind) bool {
		return slices.ContainsFunc(o.left, func(l plan.LeftOut) bool {
			return l.Side == side && slices.Contains(what, l.What) && (len(paths) == 0 || slices.ContainsFunc(paths,
				func(p string) bool {
					return p == l.Path || strings.HasPrefix(p, l.Path+"/")
				}))
		})
	}
	before, after := o.base.lines(), result.lines()
	for i, side := range []merge.Side{merge.Yours, merge.Theirs} {
		tip := o.tips[i]
		for _, path := range slices.Sorted(maps.Keys(tip)) {
			has, was := tip[path], o.base[path]
			if has == was {
				continue
			}
			for line, n := range (files{path: has}).lines() {
				if after[line] >= n-before[line] || o.fileTold(i, side, path) || o.on[1-i][line] || o.woven &&
					o.held(after, before, line) {
					continue // a line that the other side had, too, is also its to take out
				}
				if !slices.ContainsFunc(o.left, func(l plan.LeftOut) bool {
					return l.What == account.Line && strings.TrimSpace(line) == l.Text
				}) {
					return fmt.Sprintf("%s: %q of %s", side, line, path)
				}
			}
			if _, stands := result[path]; !stands && was.mode == "" && !o.on[1-i]["name "+path] &&
				!told(side, []string{path}, account.Name, account.File) {
				return fmt.Sprintf("%s: the name %s", side, path)
			}
			if was.mode != "" && has.mode != was.mode && result[path].mode == was.mode &&
				result[path].text == has.text && !o.on[1-i]["mode "+path+has.mode] && !told(side, []string{path},
				account.Mode, account.File, account.Name) {
				return fmt.Sprintf("%s: the mode of %s", side, path)
			}
		}
		for _, path := range slices.Sorted(maps.Keys(o.base)) {
			_, has := tip[path]
			is, stands := result[path]
			renamed := slices.ContainsFunc(slices.Collect(maps.Keys(tip)), func(p string) bool {
				_,
					old := o.base[p]
				return !old
			})
			if !has && stands && is.mode == "100644" && is.text != "" && o.tips[1-i][path] == is && !renamed &&
				!o.on[1-i]["gone "+path] && !told(side, nil, account.Deletion, account.Name) {
				return fmt.Sprintf("%s: the deletion of %s", side, path)
			}
		}
	}
	return ""
}

// held reports whether every word of a line that the base has not is in one line of the result
// or another, or of the account: woven, it may have been left out at a later stop.
func (o *outcome) held(text, base map[string]int, line string) bool {
	all := strings.Join(slices.Collect(maps.Keys(text)), " ") + " " + strings.Join(slices.Collect(maps.Keys(base)), " ")
	for _, l := range o.left {
		all += " " + l.Text
	}
	return !slices.ContainsFunc(strings.Fields(line), func(w string) bool { return !strings.Contains(all, w) })
}

// fileTold reports whether the account has a version of the file that a side has at a
// path. A conflict can name it as the other side, or a commit before, named it.
func (o *outcome) fileTold(i int, side merge.Side, path string) bool {
	return slices.ContainsFunc(o.left, func(l plan.LeftOut) bool {
		_, has := o.tips[i][l.Path]
		return l.Side == side && l.What == account.File && (l.Path == path || !has || o.j.Merge == nil)
	})
}

// lines counts the lines of all texts; of what is no text, the content.
func (f files) lines() map[string]int {
	out := map[string]int{}
	for _, to := range f {
		if strings.HasPrefix(to.mode, "100") && !strings.Contains(to.text, "\x00") {
			for line := range strings.SplitSeq(to.text, "\n") {
				if strings.TrimSpace(line) != "" {
					out[line]++
				}
			}
		} else {
			out[to.mode[:3]+to.text]++
		}
	}
	return out
}

// smaller are the plots with one thing less.
func (pl *plot) smaller() (out []*plot) {
	for _, path := range slices.Sorted(maps.Keys(pl.base)) {
		less := *pl
		less.base = maps.Clone(pl.base)
		delete(less.base, path)
		out = append(out, &less)
	}
	for side, commits := range pl.sides {
		for c, edits := range commits {
			if len(commits) > 1 {
				less := *pl
				less.sides[side] = slices.Delete(slices.Clone(commits), c, c+1)
				if side == 0 {
					less.requests = slices.Delete(slices.Clone(pl.requests), c, c+1)
				}
				out = append(out, &less)
			}
			for e := range edits {
				less := *pl
				less.sides[side] = slices.Clone(commits)
				less.sides[side][c] = slices.Delete(slices.Clone(edits), e, e+1)
				out = append(out, &less)
			}
		}
	}
	return out
}

// shrink takes away what a plot loses work without.
func (pl *plot) shrink(t *testing.T) *plot {
	for {
		i := slices.IndexFunc(pl.smaller(), func(p *plot) bool { return p.play(t).lost(t) != "" })
		if i < 0 {
			return pl
		}
		pl = pl.smaller()[i]
	}
}

// TestNothingIsLostUntold is the law of conservation: whatever is decided, on either route
// and for picks, all that a side made is in the result or in the account of what is left out.
func TestNothingIsLostUntold(t *testing.T) {
	t.Parallel()
	count, seed := 2000, uint64(8)
	if v, err := strconv.Atoi(os.Getenv("DORVIK_HISTORIES")); err == nil {
		count = v
	}
	if v, err := strconv.ParseUint(os.Getenv("DORVIK_SEED"), 10, 64); err == nil {
		seed = v
	}
	failures := 0
	asked := map[merge.ConflictKind]int{}
	for n := range count {
		pl := newPlot(rand.New(rand.NewPCG(seed, uint64(n))), n)
		out := pl.play(t)
		for _, s := range out.j.Stops {
			for _, c := range s.Result.Conflicts {
				asked[c.Kind]++
			}
		}
		if out.lost(t) == "" {
			continue
		}
		pl = pl.shrink(t)
		out = pl.play(t)
		var tips []string
		for _, f := range []files{out.base, out.tips[0], out.tips[1], out.result(t)} {
			tips = append(tips, fmt.Sprintf("%q", map[string]file(f)))
		}
		t.Errorf("history %d, by %s: lost %s\nbase %s\nyours %s\ntheirs %s\nresult %s\n%s\naccount %+v", n, pl.route,
			out.lost(t), tips[0], tips[1], tips[2], tips[3], strings.Join(out.decided, "\n"), out.left)
		if failures++; failures == 5 {
			break
		}
	}
	for _, kind := range []merge.ConflictKind{merge.Content, merge.AddAdd, merge.ModifyDelete, merge.RenameRename,
		merge.RenameAdd, merge.RenameDelete, merge.FileDirectory, merge.DirectoryRename, merge.Type, merge.Binary} {
		assert.NotZero(t, asked[kind], "the histories hold conflicts of the kind %s", kind)
	}
}
