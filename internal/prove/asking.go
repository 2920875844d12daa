package prove

import (
	"context"
	"path"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/plan"
)

// asking finds the files that the person must look at before a command runs: executable or read as recipes, not in a
// tree that was agreed to, and changed by others since.
type asking struct {
	s *Asker

	on      on
	known   []object.ID               // trees on which it was agreed to, newest first
	filters []string                  // filter commands that git runs, too
	mine    func() map[object.ID]bool // the person's own commits, made here
	went    int                       // number of commits visited
}

// mostLooked limits the number of commits searched. Older changes count as those of others.
const mostLooked = 20_000

// about returns the files to ask about for a command.
func (a *asking) about(ctx context.Context, t *Terms) (out []Unagreed, err error) {
	changes, err := a.s.Planner.Store.Changes(ctx, a.known[0], a.on.tree)
	if err != nil { // the tree that was agreed to is gone: everything counts as new
		if changes, err = a.s.Planner.Store.Changes(ctx, object.ID{}, a.on.tree); err != nil {
			return nil, err
		}
	}
	only, narrow := check.Recipes(t.Command.Steps)
	var sources []object.Change // sources, which ask only if a recipe names them
	for _, c := range changes {
		e, name := c.New, c.Path
		if e.Absent() {
			e = c.Old
		}
		switch kind := fileKind(e, name); {
		case kind == check.Inert:
		case t.Filter != "", kind == check.Source && t.Makes == "":
			sources = append(sources, c)
		case narrow && e.Mode.IsRegular() && !only[path.Base(name)]:
			sources = append(sources, c)
		default:
			u, err := a.unagreed(ctx, c)
			if err != nil {
				return nil, err
			}
			if u != nil {
				out = append(out, *u)
			}
		}
	}
	if len(sources) > 0 {
		lines := a.filters
		if !narrow || t.Filter != "" {
			lines = append(lines, t.Command.Line())
		}
		named, err := a.named(ctx, strings.Join(lines, "\n"), narrow || t.Filter != "", sources)
		if err != nil {
			return nil, err
		}
		out = append(out, named...)
	}
	slices.SortFunc(out, func(x, y Unagreed) int { return strings.Compare(x.Path, y.Path) })
	for i := range out[:min(len(out), mostRead)] {
		a.read(ctx, &out[i])
	}
	return out, nil
}

// fileKind returns how a build uses a file. It does not follow links and submodules.
func fileKind(e object.Entry, name string) check.Kind {
	if !e.Mode.IsRegular() {
		return check.Recipe
	}
	return check.KindOf(name, e.Mode == object.ModeExec)
}

// unagreed returns the change that others made to a file since the last agreement, or nil. It skips people whom the
// person trusts.
func (a *asking) unagreed(ctx context.Context, c object.Change) (*Unagreed, error) {
	known := make([]object.Entry, 0, len(a.known))
	for _, tree := range a.known {
		e, err := a.s.Planner.Store.Find(ctx, tree, c.Path)
		if err != nil {
			continue // the file is gone
		}
		known = append(known, e)
	}
	is := func(e object.Entry) bool { return slices.ContainsFunc(known, e.Same) }
	if is(c.New) {
		return nil, nil
	}
	from := []object.ID{a.on.yours}
	yours, err := a.entry(ctx, a.on.yours, c.Path)
	if err != nil {
		return nil, err
	}
	if !yours.Same(c.New) {
		from = append(from, a.on.others...)
	}
	u := &Unagreed{Path: c.Path, Was: c.Old.ID, ID: c.New.ID}
	all, trusted := true, true
	for _, commit := range from {
		if commit.IsZero() {
			continue
		}
		by, told, err := a.hands(ctx, c.Path, commit, is)
		if err != nil {
			return nil, err
		}
		all = all && told
		for _, n := range by {
			if !a.mine()[n.ID] && !slices.ContainsFunc(u.By, func(o history.Node) bool { return o.ID == n.ID }) {
				u.By, trusted = append(u.By, n), trusted && a.s.Ledger.Trusts(n.Author().Key())
			}
		}
	}
	if all && trusted && !a.on.yours.IsZero() {
		return nil, nil
	}
	return u, nil
}

// mostRead limits the number of files whose texts are read.
const mostRead = 50

// read reads both texts of a file.
func (a *asking) read(ctx context.Context, u *Unagreed) {
	was, err := a.text(ctx, u.Was)
	is, ierr := a.text(ctx, u.ID)
	if err == nil && ierr == nil {
		u.Change.From, u.Change.To = was, is
	}
}

// shown returns the trees of others whose added lines all appear in the joined tree. Agreeing to the joined tree
// covers them.
func (a *asking) shown(ctx context.Context) (trees []object.ID, err error) {
	for _, commit := range a.on.others {
		if commit.IsZero() {
			continue
		}
		tree, err := a.s.Planner.Tree(ctx, commit)
		if err != nil {
			return nil, err
		}
		seen, err := a.seen(ctx, tree)
		if err != nil {
			return nil, err
		}
		if seen {
			trees = append(trees, tree)
		}
	}
	return trees, nil
}

// seen reports whether each new line of a tree appears in the joined tree.
func (a *asking) seen(ctx context.Context, tree object.ID) (bool, error) {
	changes, err := a.s.Planner.Store.Changes(ctx, a.on.tree, tree)
	if err != nil {
		return false, err
	}
	for _, c := range changes {
		if c.New.Absent() || fileKind(c.New, c.Path) == check.Inert {
			continue
		}
		if c.New.Mode.IsRegular() {
			if data, err := a.s.Planner.Store.Blob(ctx, c.New.ID); err != nil || len(data) > largestRecipe {
				return false, err // the person has not read that
			}
		}
		lines := map[string]bool{}
		for _, l := range a.lines(ctx, c.Old) {
			lines[l] = true
		}
		for _, known := range a.known {
			if e, err := a.s.Planner.Store.Find(ctx, known, c.Path); err == nil {
				for _, l := range a.lines(ctx, e) {
					lines[l] = true
				}
			}
		}
		for _, l := range a.lines(ctx, c.New) {
			if !lines[l] {
				return false, nil
			}
		}
	}
	return true, nil
}

// lines returns the mode and the lines of a file, or its id if it is none.
func (a *asking) lines(ctx context.Context, e object.Entry) []string {
	text, err := a.text(ctx, e.ID)
	if !e.Mode.IsRegular() || err != nil {
		text = e.ID.String()
	}
	return append([]string{e.Mode.Describe()}, diff.Lines(text)...)
}

// text returns the content of a file, or an empty string.
func (a *asking) text(ctx context.Context, id object.ID) (string, error) {
	if id.IsZero() {
		return "", nil
	}
	data, err := a.s.Planner.Store.Blob(ctx, id)
	return string(data), err
}

// entry returns a file in a commit.
func (a *asking) entry(ctx context.Context, commit object.ID, path string) (e object.Entry, err error) {
	if commit.IsZero() {
		return e, nil
	}
	tree, err := a.s.Planner.Tree(ctx, commit)
	if err != nil {
		return e, err
	}
	return a.s.Planner.Store.Find(ctx, tree, path)
}

// hands returns the commits that changed a file since it was agreed to, with git log's history simplification. all is
// false if the search was incomplete.
func (a *asking) hands(ctx context.Context, path string, from object.ID,
	known func(object.Entry) bool) (by []history.Node, all bool,
	err error) {
	all = true
	seen, queue := map[object.ID]bool{}, []object.ID{from}
	for len(queue) > 0 {
		id := queue[0]
		if queue = queue[1:]; seen[id] {
			continue
		}
		seen[id] = true
		if a.went++; a.went > mostLooked {
			return by, false, nil
		}
		if err := ctx.Err(); err != nil {
			return nil, false, err
		}
		e, err := a.entry(ctx, id, path)
		if err != nil {
			return nil, false, err
		}
		if known(e) {
			continue
		}
		c, err := a.s.Planner.Store.Commit(ctx, id)
		if err != nil {
			return nil, false, err
		}
		same, before, err := a.parentWith(ctx, c, path, e)
		switch {
		case err != nil: // a shallow clone ends here
			all = false
		case !same.IsZero():
			queue = append(queue, same)
		case len(c.Parents) > 0 || !e.Absent():
			by, queue = append(by, history.Node{ID: id, Commit: c}), append(queue, before...)
		}
	}
	return by, all, nil
}

// parentWith returns the first parent with the same file, or else all parents.
func (a *asking) parentWith(ctx context.Context, c *object.Commit, path string, e object.Entry) (same object.ID,
	all []object.ID,
	err error) {
	for _, p := range c.Parents {
		was, err := a.entry(ctx, p, path)
		if err != nil {
			return same, nil, err
		}
		if was.Same(e) {
			return p, nil, nil
		}
		all = append(all, p)
	}
	return same, all, nil
}

// bounds of what is read to see which sources recipes name.
const (
	largestRecipe = 1 << 20  // largest recipe that is read, in bytes
	mostOfRecipes = 64 << 20 // bytes of all recipes; above it every source counts as named
)

// named returns the changed files that the commands mention, directly or through recipes and scripts.
func (a *asking) named(ctx context.Context, lines string, only bool, files []object.Change) (out []Unagreed,
	err error) {
	asked := map[string]*Unagreed{}
	for _, c := range files {
		u, err := a.unagreed(ctx, c)
		if err != nil {
			return nil, err
		}
		if u != nil {
			asked[c.Path] = u
		}
	}
	if len(asked) == 0 || only && lines == "" {
		return nil, nil
	}
	ids := map[string]object.ID{} // sources that no recipe names yet
	var paths []string
	var todo []object.ID
	if err := a.s.Planner.Store.EachChange(ctx, object.ID{}, a.on.tree, func(f object.Change) {
		switch kind := fileKind(f.New, f.Path); {
		case kind == check.Inert || !f.New.Mode.IsRegular():
		case kind == check.Recipe && !only:
			todo = append(todo, f.New.ID)
		default:
			ids[f.Path] = f.New.ID
			paths = append(paths, f.Path)
		}
	}); err != nil {
		return nil, err
	}
	naming := check.NewNaming(paths)
	name := func(p string) {
		if id, ok := ids[p]; ok {
			delete(ids, p)
			todo = append(todo, id)
		}
	}
	naming.In(lines, name)
	for read := 0; len(todo) > 0 && read < mostOfRecipes; {
		id := todo[0]
		todo = todo[1:]
		data, err := a.s.Planner.Store.Blob(ctx, id)
		if err != nil {
			return nil, err
		}
		if read += len(data); len(data) <= largestRecipe {
			naming.In(string(data), name)
		}
	}
	for p, u := range asked {
		if _, unnamed := ids[p]; !unnamed && !u.ID.IsZero() || len(todo) > 0 {
			out = append(out, *u)
		}
	}
	return out, nil
}

// byHand returns the commits that the person made in this clone, according to the reflog. Names in commits prove
// nothing, because whoever pushes can choose them.
func (ak *Asker) byHand(ctx context.Context, p *plan.Position) map[object.ID]bool {
	mine := map[object.ID]bool{}
	for _, m := range ak.Repo.Reflog(ctx, "HEAD") {
		if MadeByHand(m.Why) && !strings.HasPrefix(m.Why, "cherry-pick") { // usually somebody else's commit
			mine[m.To] = true
		}
	}
	if p == nil {
		return mine
	}
	for _, n := range p.Divergence.Yours {
		if n.Author().Key() == p.Me {
			mine[n.ID] = true
		}
	}
	return mine
}

// MadeByHand reports whether a reflog message is about making a commit.
func MadeByHand(why string) bool {
	for _, verb := range []string{"commit", "rebase (continue)", "rebase (pick)", "cherry-pick", "revert"} {
		if strings.HasPrefix(why, verb) {
			return true
		}
	}
	return false
}
