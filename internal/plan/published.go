package plan

import (
	"context"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
)

// Published returns the published commits that a rebase would rewrite.
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
		for _, p := range n.Parents { // a branch with a commit has its ancestors
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

// mayHave adds the authors of other commits on the same remote branches that are as new as the published ones: they
// committed on top of them, or beside them.
func (pn *Planner) mayHave(ctx context.Context, list []Published) error {
	const newest = 50
	me := ""
	if who, err := pn.Source.Committer(ctx); err == nil {
		me = who.Key()
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
			line := pn.Below(ctx, tip, newest)
			for len(line) > 0 && !slices.ContainsFunc(list, func(o Published) bool {
				return o.ID == line[len(
					line)-1].ID
			}) {
				line = line[:len(line)-1] // older than all of them
			}
			others := slices.DeleteFunc(line, func(n history.Node) bool { return n.Author().Key() == me })
			who[p.On] = Authors(others)
		}
		list[i].Who = who[p.On]
	}
	return nil
}
