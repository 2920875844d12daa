package plan

import (
	"context"
	"slices"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
)

// regenerations returns the files that are to be generated again. It skips uncommitted work.
func (pn *Planner) regenerations(ctx context.Context, j *Join, decisions *settle.Decisions) (out []Regeneration) {
	decisions = decisions.Indexed()
	for _, stop := range j.Stops {
		if stop.Uncommitted {
			continue
		}
		for i := range stop.Result.Conflicts {
			f := pn.Files.Open(ctx, &stop.Result.Conflicts[i])
			for _, q := range f.Questions {
				d, _, ok := decisions.For(q)
				if !ok || d.Way != settle.Anew ||
					slices.ContainsFunc(out, func(m Regeneration) bool { return m.Path == f.Path }) {
					continue
				}
				out = append(out, Regeneration{Path: f.Path, Command: f.Command()})
			}
		}
	}
	return out
}

// makeAnew replaces files by what their commands generated for this tree. It skips files that were mended by hand.
func (pn *Planner) makeAnew(ctx context.Context, j *Join, decisions *settle.Decisions, made []Made) error {
	from, edits := j.Tree, map[string]object.Entry{}
	for _, m := range pn.regenerations(ctx, j, decisions) {
		if slices.ContainsFunc(j.Mended, func(by Mend) bool { return by.Path == m.Path }) {
			continue
		}
		e, err := pn.Store.Find(ctx, from, m.Path)
		if err != nil {
			return err
		}
		if !e.Mode.IsRegular() { // a later commit removed the file
			continue
		}
		for _, one := range made {
			if one.Path == m.Path && one.Command == m.Command && one.From == from {
				id := pn.Store.Put(object.KindBlob, []byte(one.Text))
				m.Made, m.Same = true, id == e.ID
				edits[m.Path] = object.Entry{Mode: e.Mode, ID: id}
			}
		}
		j.Regenerations = append(j.Regenerations, m)
	}
	if len(edits) == 0 {
		return nil
	}
	tree, err := pn.Store.Edit(ctx, from, edits)
	j.Plain, j.Tree = from, tree
	return err
}
