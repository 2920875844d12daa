package plan

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/diagnose"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/words"
)

// PublishedError says that a rebase would rewrite commits that others may have.
type PublishedError struct{ Commits []Published }

func (e *PublishedError) Error() string {
	var names []string
	for _, n := range e.Commits {
		names = append(names, n.String())
	}
	names = words.Some(names, 5)
	return "a rebase would give new ids to commits that are on a remote already, and whoever has them would have " +
		"them twice: " + strings.Join(names, ", ") + ". Nothing was changed"
}

// Published is a commit of yours that is on a remote, and on which branch there.
type Published struct {
	history.Node
	On  string
	Who []string // others who have commits there, and so may have this one
}

// String names the commit and where it is.
func (p Published) String() string {
	return fmt.Sprintf("%s “%s” (on %s)", p.ID.Prefix(12), p.Subject(), p.On)
}

// Published lists the commits that a rebase would give new ids and that are on a remote.
func (pn *Planner) Published(ctx context.Context, j *Join) (out []Published, err error) {
	if j.Route != Rebase {
		return nil, nil
	}
	var nodes []history.Node // oldest first
	var below []object.ID
	among := map[object.ID]bool{}
	for i := range j.Steps {
		n := j.Steps[i].Commit
		nodes, among[n.ID] = append(nodes, n), true
		below = append(below, slices.DeleteFunc(slices.Clone(n.Parents), func(p object.ID) bool { return among[p] })...)
	}
	if len(nodes) == 0 {
		return nil, nil
	}
	unpushed, err := pn.Source.Unpushed(ctx, IdsOf(nodes), below)
	if err != nil {
		return nil, err
	}
	on := map[object.ID]string{}
	for _, n := range slices.Backward(nodes) {
		if unpushed[n.ID] {
			continue
		}
		if on[n.ID] == "" {
			if on[n.ID], err = pn.Source.OnRemote(ctx, n.ID); err != nil {
				return nil, err
			}
		}
		for _, p := range n.Parents { // what holds a commit holds those before it
			if on[p] == "" {
				on[p] = on[n.ID]
			}
		}
	}
	for _, n := range nodes {
		if !unpushed[n.ID] && on[n.ID] != "" {
			out = append(out, Published{n, on[n.ID], nil})
		}
	}
	return out, pn.mayHave(ctx, out)
}

// mayHave adds who else has commits where published ones are, by the newest of them.
func (pn *Planner) mayHave(ctx context.Context, list []Published) error {
	const newest = 50
	me := ""
	if who, err := pn.Source.Committer(ctx); err == nil {
		me = who.Email
	}
	who := map[string][]string{}
	for i, p := range list {
		if _, ok := who[p.On]; !ok {
			ref := "refs/remotes/" + p.On
			if tag, ok := strings.CutPrefix(p.On, "tag "); ok {
				ref = "refs/tags/" + tag
			}
			tip, err := pn.Source.Resolve(ctx, ref)
			if err != nil {
				return err
			}
			others := slices.DeleteFunc(pn.Below(tip, newest),
				func(n history.Node) bool { return n.Author().Email == me })
			who[p.On] = Authors(others)
		}
		list[i].Who = who[p.On]
	}
	return nil
}

// DecidedIn are the decisions that a join asked for, and none that are kept of others.
func DecidedIn(j *Join, all *settle.Decisions) (out []settle.Decision) {
	asked := map[settle.Key]bool{}
	for _, q := range j.questions() {
		asked[q.Key] = true
	}
	for _, d := range all.List {
		if asked[d.Key] {
			out = append(out, d)
		}
	}
	return out
}

// Tips are the commits that lead to all that was built.
func (b Built) Tips() []object.ID {
	out := []object.ID{b.Tip}
	for _, m := range b.Moves {
		if m.Step < 0 {
			out = append(out, m.To)
		}
	}
	return out
}

// NamesIn lists what is in a folder of a tree, line by line.
func (rd *Reader) NamesIn(tree object.ID, dir string) (names string, ok bool) {
	if dir != "." {
		e, err := rd.Store.Find(tree, dir)
		if err != nil || !e.IsTree() {
			return "", false
		}
		tree = e.ID
	}
	entries, err := rd.Store.Tree(tree)
	for _, e := range entries {
		names += e.Name + "\n"
	}
	return names, err == nil
}

// Diagnose finds the places in the joined tree that the output of a check run
// in a folder speaks of.
func (rd *Reader) Diagnose(tree object.ID, output []string, dir string) ([]diagnose.Place, error) {
	files, err := rd.Store.Changes(object.ID{}, tree)
	if err != nil {
		return nil, err
	}
	byName := map[string][]string{}
	for _, f := range files {
		base := path.Base(f.Path)
		byName[base] = append(byName[base], f.Path)
	}
	return diagnose.Places(output, dir, func(base string) []string { return byName[base] }), nil
}
