package merge

import (
	"context"
	"path"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/rx"
)

// Joined is a path that needed no decision. For a subtree that only one side changed its entries are trees.
type Joined struct {
	Path                string
	From                string // the path before a rename that mattered; Files fills it in
	Origin              Origin
	Base, Yours, Theirs object.Entry
	Result              object.Entry
}

// Result is the result of joining two trees: what joined by itself, and the conflicts.
type Result struct {
	Given               Three[object.ID] // the trees as the caller gave them
	Base, Yours, Theirs object.ID        // the trees with each side's renames applied to all three
	Joined              []Joined
	Conflicts           []Conflict
	Remarks             []Remark

	store     *object.Overlay
	touched   bool            // only paths that yours changed were visited
	ofYours   []Edit          // edits that turn yours into the joined tree
	ofTheirs  []Edit          // edits that turn theirs into the joined tree
	gone      []string        // files of the base that are not at their paths, perhaps renamed
	goneTrees []Edit          // directories of the base that neither side has
	emptied   []emptied       // directories of the base that one side lacks and the other changed
	contested map[string]bool // paths of conflicts that are about renames
	from      map[string]string
}

// Remark is something about a join that needs no decision but should be known.
type Remark struct {
	Path  string // empty if the remark is about the whole join
	Words string // a sentence without its full stop

	Asks   bool   // both results cannot be intended, so a person confirms before the push
	Driver string // the merge driver that was not run because nobody agreed to it, or empty
}

// Edit sets the entry at a path of a tree.
type Edit struct {
	Path  string
	Entry object.Entry
}

// Clean reports whether there are no conflicts.
func (r *Result) Clean() bool { return len(r.Conflicts) == 0 }

// Decided is the solution of conflicts: entries by path and, for questions of names, moves that are made after all
// contents are in place.
type Decided struct {
	Entries map[string]object.Entry
	Moves   []Move
}

// Tree makes the joined tree. A conflicting path without an entry keeps yours.
func (r *Result) Tree(ctx context.Context, settled Decided) (object.ID, error) {
	// Start from the side with fewer edits. At conflicting paths, yours stays.
	from, edits := r.Yours, r.ofYours
	if r.touched || len(r.ofTheirs)+len(r.Conflicts) < len(edits) {
		from, edits = r.Theirs, r.ofTheirs
	}
	set := make(map[string]object.Entry, len(edits)+len(settled.Entries)+len(r.Conflicts))
	if from == r.Theirs {
		for _, c := range r.Conflicts {
			if _, ok := c.Subject.(*Naming); ok {
				continue // the entry there is joined, or has a conflict of its own
			}
			at, err := r.store.Find(ctx, r.Yours, c.Path)
			if err != nil {
				return object.ID{}, err
			}
			set[c.Path] = at
		}
	}
	for _, e := range edits {
		set[e.Path] = e.Entry
	}
	for p, e := range settled.Entries {
		set[p] = e
	}
	id, err := r.store.Edit(ctx, from, set)
	if err == nil && len(settled.Moves) > 0 {
		id, err = moveEntries(ctx, r.store, id, settled.Moves)
	}
	if err == nil && id.IsZero() {
		id = r.store.EmptyTree()
	}
	return id, err
}

// Brief returns a clean result without its list of joined paths.
func (r *Result) Brief() *Result {
	return &Result{Given: r.Given, Base: r.Base, Yours: r.Yours, Theirs: r.Theirs, Remarks: r.Remarks, store: r.store}
}

// Decide settles the conflict at a path. The path counts as joined from then on.
func (r *Result) Decide(path string, e object.Entry) {
	for i, c := range r.Conflicts {
		if _, ok := c.Subject.(*Naming); c.Path == path && !ok {
			r.Conflicts = slices.Delete(r.Conflicts, i, i+1)
			b, y, t := c.Subject.Sides()
			r.Joined = append(r.Joined, Joined{Path: path, From: c.From(), Origin: FromBoth, Base: b, Yours: y,
				Theirs: t, Result: e})
			r.ofYours = append(r.ofYours, Edit{path, e})
			r.ofTheirs = append(r.ofTheirs, Edit{path, e})
			return
		}
	}
}

// Files lists what joined by itself file by file, opening the subtrees in Joined.
func (r *Result) Files(ctx context.Context) ([]Joined, error) {
	var out []Joined
	for _, j := range r.Joined {
		if !j.Base.IsTree() && !j.Result.IsTree() {
			j.From = r.from[j.Path]
			out = append(out, j)
			continue
		}
		var old, new object.ID
		if j.Base.IsTree() {
			old = j.Base.ID
		}
		if j.Result.IsTree() {
			new = j.Result.ID
		}
		changes, err := r.store.Changes(ctx, old, new)
		if err != nil {
			return nil, err
		}
		for _, c := range changes {
			if r.contested[j.Path+"/"+c.Path] {
				continue
			}
			f := Joined{Path: j.Path + "/" + c.Path, From: r.from[j.Path+"/"+c.Path], Origin: j.Origin, Base: c.Old,
				Result: c.New, Yours: c.Old, Theirs: c.Old}
			if j.Origin != FromTheirs {
				f.Yours = c.New
			}
			if j.Origin != FromYours {
				f.Theirs = c.New
			}
			out = append(out, f)
		}
		// A directory replaced a file, or a file replaced a directory.
		if !j.Base.IsTree() && !j.Base.Absent() {
			out = append(out, Joined{Path: j.Path, Origin: j.Origin, Base: j.Base})
		}
		if !j.Result.IsTree() && !j.Result.Absent() {
			out = append(out, Joined{Path: j.Path, Origin: j.Origin, Result: j.Result})
		}
	}
	return out, nil
}

// nameBeside finds names under which both of two things at one path can be kept, unless lone reports that they cannot.
func (r *Result) nameBeside(ctx context.Context, lone func(path string) bool) error {
	var finder *object.Finder
	free := func(p string) (bool, error) {
		if finder == nil {
			finder = object.NewFinder(r.store)
		}
		for _, tree := range []object.ID{r.Yours, r.Theirs} {
			if at, err := finder.Find(ctx, tree, p); err != nil || !at.Absent() {
				return false, err
			}
		}
		return true, nil
	}
	for _, c := range r.Conflicts {
		if lone != nil && lone(c.Path) {
			continue
		}
		var err error
		switch s := c.Subject.(type) {
		case *Lines:
			if s.Base.Absent() && s.Yours.IsFile() && s.Theirs.IsFile() {
				s.Beside, err = beside(c.Path, Yours, free)
			}
		case *Clash:
			s.Beside, err = beside(c.Path, s.File(), free)
		case *Versions:
			if c.Kind != ModeBits && c.Kind != Submodule && s.Yours.IsFile() && s.Theirs.IsFile() {
				s.Beside, err = beside(c.Path, Yours, free)
			}
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// numbered is a file in a sequence, such as a migration or a decision record, with the number that its name begins
// with. A number without leading zeros needs two digits, because 1, 2, 3 are often two lists.
var numbered = rx.New(`^([A-Za-z]{0,4}?)(0\d+|[1-9]\d{1,7})([_-]+)[^/]*(\.\w+)?$`)

// numberOf returns the directory and number of a path in a sequence. ok is false if it has none.
func numberOf(p string) (place, number string, ok bool) {
	m := numbered.FindStringSubmatch(path.Base(p))
	if m == nil {
		return "", "", false
	}
	return path.Dir(p) + "/" + m[1] + m[2] + m[3] + path.Ext(p), m[2], true
}

// collisions remarks on paths that both sides added and that differ in case only, or have the same number in a
// sequence.
func (r *Result) collisions() (remarks []Remark) {
	adds := func(o Origin) bool {
		return slices.ContainsFunc(r.Joined, func(j Joined) bool {
			return j.Origin == o && j.Base.Absent() &&
				!j.Result.Absent()
		})
	}
	if !adds(FromYours) || !adds(FromTheirs) {
		return nil
	}
	added, inOrder := map[string]Joined{}, map[string]Joined{}
	for _, j := range r.Joined {
		if !j.Base.Absent() || j.Result.Absent() {
			continue
		}
		folded := strings.ToLower(j.Path)
		if other, ok := added[folded]; ok && other.Origin != j.Origin {
			remarks = append(remarks, Remark{Path: j.Path, Words: "stands beside " + other.Path +
				"; where case does not count in names, only one of them can be checked out"})
		}
		added[folded] = j
		if place, number, ok := numberOf(j.Path); ok && j.Result.Mode.IsRegular() {
			if other, ok := inOrder[place]; ok && other.Origin != j.Origin {
				remarks = append(remarks, Remark{Path: j.Path, Asks: true, Words: "took the number " + number + ", " +
					"as " +
					other.Path + " did; one of them wants the next"})
			}
			inOrder[place] = j
		}
	}
	return remarks
}

// force replaces what joined by itself at a path by a conflict, unless something is contested there already.
func (r *Result) force(list []Conflict) {
	contested := map[string]bool{}
	for _, c := range r.Conflicts {
		contested[c.Path] = true
	}
	known := func(p string) bool {
		for ; p != ""; p = parent(p) {
			if contested[p] {
				return true
			}
		}
		return false
	}
	for _, c := range list {
		if v, ok := c.Subject.(*Versions); ok {
			v.From = strings.TrimSuffix(v.From, asideName)
		}
		if known(c.Path) {
			continue
		}
		contested[c.Path] = true
		r.Conflicts = append(r.Conflicts, c)
	}
	r.Joined = slices.DeleteFunc(r.Joined, func(j Joined) bool { return contested[j.Path] })
	r.contested = contested
}

// asideName is the suffix of the base's name for what cannot stand beside a directory.
const asideName = "~ancestor"

// emptied is a directory of the base that one side, the mover, deleted, and in which the other changed something.
type emptied struct {
	path       string
	mover      Side
	base, kept object.Entry
}
