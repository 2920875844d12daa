package plan

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/words"
)

// Join computes a route. It writes nothing. progress may be nil.
func (pn *Planner) Join(ctx context.Context, p *Position, route Route, decisions *settle.Decisions, by Amends,
	progress func(done, of int)) (*Join, error) {
	j := &Join{Route: route}
	var err error
	decisions = decisions.Indexed()
	resolve := func(r *merge.Result) (merge.Decided, bool, error) { return pn.Files.Resolve(ctx, r, decisions) }
	switch {
	case p.Trivial() == FastForward:
		if j.Tree, err = pn.Tree(ctx, p.Theirs); err == nil {
			err = pn.Carry(ctx, j, p.Carried, resolve)
		}
		pn.open(ctx, j, decisions)
		return j, err
	case p.Trivial() == UpToDate:
		j.Tree, err = pn.Tree(ctx, p.Yours)
		return j, err
	case p.Resumes() != nil:
		err = pn.goOnward(ctx, j, p, resolve, progress)
	case p.IsPick():
		j.Route, j.onto = Pick, p.Yours
		picks := slices.Clone(p.Divergence.Theirs)
		slices.Reverse(picks)
		j.Steps, err = replay.Pick(ctx, pn.Engine, pn.Changes, picks, p.Own(), p.PickParent(), p.Yours, resolve,
			progress)
		if err == nil {
			err = j.take(ctx)
		}
	case route == Merge:
		if err = pn.joinMerge(ctx, j, p, resolve); err == nil {
			j.besides, err = pn.takenBack(ctx, p, j)
		}
	default:
		j.Steps, err = replay.Rebase(ctx, pn.Engine, pn.Changes, p.Divergence.Yours, p.Divergence.Theirs, p.Theirs,
			p.Requests, resolve, progress)
		if err == nil {
			err = j.take(ctx)
		}
		if refused := (*replay.MergeCommitError)(nil); errors.As(err, &refused) {
			j.Refused = refused
			return j, nil
		}
		if err == nil {
			j.besides, err = pn.takenBack(ctx, p, j)
		}
	}
	if err != nil {
		return nil, err
	}
	if err := errors.Join(record(ctx, pn, j, p), pn.mend(ctx, j, by.Mends)); err != nil {
		return nil, err
	}
	if err := pn.makeAnew(ctx, j, decisions, by.Made); err != nil {
		return nil, err
	}
	err = pn.Carry(ctx, j, cmp.Or(j.work, p.Carried), resolve)
	pn.open(ctx, j, decisions)
	return j, errors.Join(err, pn.say(ctx, j, p, by.Message, decisions))
}

// open creates the questions of all stops.
func (pn *Planner) open(ctx context.Context, j *Join, decisions *settle.Decisions) {
	for i := range j.Stops {
		s := &j.Stops[i]
		for k := range s.Result.Conflicts {
			f := pn.Files.Open(ctx, &s.Result.Conflicts[k])
			s.Files = append(s.Files, f)
			for _, c := range f.Questions {
				if _, _, ok := decisions.For(c); ok {
					j.Settled++
				} else {
					j.Open++
				}
			}
		}
	}
}

func (pn *Planner) joinMerge(ctx context.Context, j *Join, p *Position, resolve replay.Resolver) error {
	var r *merge.Result
	var err error
	if p.Resumes() != nil && p.Resumes().From != p.Yours {
		r, err = pn.Joined(ctx, p.Resumes().From, p.Theirs)
	} else {
		r, err = pn.over(ctx, p.Divergence.Bases, p.Yours, p.Theirs)
	}
	if err != nil {
		return err
	}
	j.Tree, err = j.mergeOf(ctx, r, p.Resumes(), resolve)
	return err
}

// settleOnly resolves conflicts that belong to no merge or rebase. The result is uncommitted work, staged where there
// were conflicts.
func (pn *Planner) settleOnly(ctx context.Context, j *Join, p *Position, resolve replay.Resolver) error {
	st := p.Stuck
	r, err := pn.Engine.Trees(ctx, st.trees.Base, st.trees.Yours, st.trees.Theirs)
	if err != nil {
		return err
	}
	settled, err := j.mergeOf(ctx, r, p.Resumes(), resolve)
	if err == nil {
		j.Tree, err = pn.Tree(ctx, st.Left.Head)
	}
	if err != nil {
		return err
	}
	u := *p.Carried
	u.Parts = nil
	u.Add(Part{j.Tree, settled, "what is staged", true})
	for _, part := range p.Carried.Parts {
		u.Add(part)
	}
	j.work = &u
	return nil
}

// goOnward continues a half-done operation.
func (pn *Planner) goOnward(ctx context.Context, j *Join, p *Position, resolve replay.Resolver,
	progress func(done, of int)) error {
	r := p.Resumes()
	switch j.Route = r.Route(p); {
	case p.SettlesOnly():
		return pn.settleOnly(ctx, j, p, resolve)
	case j.Route == Merge:
		return pn.joinMerge(ctx, j, p, resolve)
	}
	j.onto = r.Onto
	if len(r.Todo) == 0 {
		var err error
		j.Tree, err = pn.Tree(ctx, r.Onto)
		return err
	}
	var err error
	if j.Steps, err = replay.Onwards(ctx, pn.Engine, r.Todo, r.Onto, p.Requests, resolve, progress); err != nil {
		return err
	}
	return j.take(ctx)
}

// mend applies the mends to the joined tree. If the text has changed since, it merges them; a mend that conflicts is
// dropped and listed in Join.Lost.
func (pn *Planner) mend(ctx context.Context, j *Join, mends []Mend) error {
	for _, m := range mends {
		e, err := pn.Store.Find(ctx, j.Tree, m.Path)
		if err != nil {
			return err
		}
		if !e.Mode.IsRegular() {
			j.Lost = append(j.Lost, m)
			continue
		}
		data, err := pn.Store.Blob(ctx, e.ID)
		if err != nil {
			return err
		}
		now := string(data)
		after := m.After
		if now != m.Before {
			joined, ok := merge.Merge3(diff.Lines(m.Before), diff.Lines(m.After), diff.Lines(now)).Clean()
			if !ok {
				j.Lost = append(j.Lost, m)
				continue
			}
			after = joined
		}
		if after == now {
			continue // the commit already has the same edit
		}
		e.ID = pn.Store.Put(object.KindBlob, []byte(after))
		if j.Tree, err = pn.Store.Edit(ctx, j.Tree, map[string]object.Entry{m.Path: e}); err != nil {
			return err
		}
		j.Mended = append(j.Mended, m)
		j.mended = append(j.mended, Mend{m.Path, now, after})
	}
	return nil
}

// Build creates the commits of a join without open conflicts, in memory.
func (pn *Planner) Build(ctx context.Context, p *Position, j *Join) (Built, error) {
	if j.Refused != nil {
		return Built{}, j.Refused
	}
	if j.Open > 0 {
		return Built{}, fmt.Errorf("%s not settled yet", words.Count(j.Open, "conflict is", "conflicts are"))
	}
	switch p.Trivial() {
	case FastForward:
		return Built{Tip: p.Theirs}, nil
	case UpToDate:
		return Built{Tip: p.Yours}, nil
	}
	if p.SettlesOnly() {
		return Built{Tip: p.Yours}, nil
	}
	who, err := pn.Source.Committer(ctx)
	if err != nil {
		return Built{}, err
	}
	if j.Route == Merge {
		c := &object.Commit{Tree: j.Tree, Parents: []object.ID{p.Yours, p.Theirs}, AuthorLine: who.String(),
			Committer: who, Message: j.Message}
		if r := p.Resumes(); r != nil {
			c.Parents = append(c.Parents[:1], r.Merged...)
		}
		return Built{Tip: pn.Store.PutCommit(c)}, nil
	}
	var last object.ID
	if j.amended() {
		last = j.Tree
	}
	onto := p.Theirs
	if p.IsPick() {
		onto = p.Yours
	}
	if p.Resumes() != nil {
		onto = p.Resumes().Onto
	}
	b := Built{}
	b.IDs, b.Tip, err = replay.Commits(ctx, pn.Store, j.Steps, onto, who, last)
	if p.Resumes() != nil {
		for _, m := range p.Resumes().moves {
			at := replay.Kept(j.Steps, m.at)
			if at.Step >= 0 {
				id, err := replay.Upto(ctx, pn.Store, j.Steps, b.IDs, at.Step, who)
				if err != nil {
					return b, err
				}
				if id != b.IDs[at.Step] { // the next commit is squashed into it; only the other branch keeps it
					at = replay.Parent{Step: -1, ID: id}
				}
			}
			b.Moves = append(b.Moves, builtMove{m.move.Name, m.move.From, at.Step, at.ID})
		}
	}
	return b, err
}

// Clashes merges two lines in memory. It returns the paths with conflicts and the number of decisions.
func (pn *Planner) Clashes(ctx context.Context, parted *history.Divergence, yours, theirs object.ID) (paths []string,
	asks int, err error) {
	if len(parted.Yours) == 0 || len(parted.Theirs) == 0 || len(parted.Bases) == 0 {
		return nil, 0, nil
	}
	a, err := pn.Tree(ctx, yours)
	if err != nil {
		return nil, 0, err
	}
	b, err := pn.Tree(ctx, theirs)
	if err != nil {
		return nil, 0, err
	}
	r, err := pn.Engine.TreesOver(ctx, parted.Bases, a, b)
	if err != nil {
		return nil, 0, err
	}
	for i := range r.Conflicts {
		paths = append(paths, r.Conflicts[i].Path)
		asks += len(pn.Files.Open(ctx, &r.Conflicts[i]).Questions)
	}
	return paths, asks, nil
}
