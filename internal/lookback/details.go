package lookback

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/annotate"
	"dorvik.dev/dorvik/internal/core/decided"
	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
)

// Details is everything that is shown of a commit.
type Details struct {
	history.Node
	Signature  string           // in a few words; empty if unsigned
	Phase      string           // in a few words; empty in a system without
	References [][2]int         // first and end byte in Text of each sign of a task
	Sides      []Against        // one for each parent, or one for the empty tree
	Decided    *decided.Account // for a merge commit
}

// Against is what a commit changed against one parent.
type Against struct {
	Parent history.Node // zero for a root commit
	Files  []ChangedFile
	parent object.ID // the parent's tree
}

// ChangedFile is a file that a commit changed.
type ChangedFile struct {
	Path, From     string // From is the old name of a renamed file
	Old, New       object.Entry
	Added, Removed int  // lines
	Text           bool // the content is text before and after
}

// Details reads a commit. progress may be nil.
func (h *History) Details(ctx context.Context, id object.ID, progress func(done, of int)) (*Details, error) {
	c, err := h.Planner.Store.Commit(ctx, id)
	if err != nil {
		return nil, err
	}
	d := &Details{Node: history.Node{ID: id, Commit: c}}
	if kind, ok := c.Signed(); ok {
		d.Signature = h.signature(ctx, kind, id)
	}
	if phased, ok := h.Repo.(vcs.Phased); ok {
		phase, err := phased.Phase(ctx, id)
		if err != nil {
			return nil, err
		}
		d.Phase = phase.Meaning()
	}
	refs, err := h.Planner.References(ctx)
	if err != nil {
		return nil, err
	}
	d.References = refs.Places(c.Text())
	parents := c.Parents
	if len(parents) == 0 {
		parents = []object.ID{{}}
	}
	for _, p := range parents {
		a := Against{}
		if !p.IsZero() {
			pc, err := h.Planner.Store.Commit(ctx, p)
			if err != nil {
				return nil, fmt.Errorf("reading the commit before %s: %w", id.Prefix(12), err)
			}
			a.Parent, a.parent = history.Node{ID: p, Commit: pc}, pc.Tree
		}
		if a.Files, err = h.Changed(ctx, a.parent, c.Tree, progress); err != nil {
			return nil, err
		}
		d.Sides = append(d.Sides, a)
	}
	if len(parents) > 1 {
		if d.Decided, err = h.Decided(ctx, c); err != nil {
			return nil, err
		}
	}
	return d, nil
}

// Decided returns what a person decided in a merge commit.
func (h *History) Decided(ctx context.Context, c *object.Commit) (*decided.Account, error) {
	return decided.Of(ctx, h.Planner.Engine, h.Planner.Files, c)
}

// signature describes the state of a signature.
func (h *History) signature(ctx context.Context, kind string, id object.ID) string {
	s, err := h.Repo.Signature(ctx, id)
	by := ""
	if s.By != "" {
		by = " by " + s.By
	}
	switch {
	case err != nil, s.Grade == "N", s.Grade == "":
		return "signed (" + kind + "); it was not checked here: “git verify-commit " + h.Planner.Short(id) +
			"” does that"
	case s.Grade == "G":
		return "signed" + by + " (" + kind + "); the signature is good"
	case s.Grade == "U":
		return "signed" + by + " (" + kind + "); the signature is good, by a key you have not said you trust"
	case s.Grade == "B":
		return "signed (" + kind + "), and the signature is BAD: this is not what was signed"
	case s.Grade == "X" || s.Grade == "Y":
		return "signed" + by + " (" + kind + "); the signature is good, and expired, or its key is"
	case s.Grade == "R":
		return "signed" + by + " (" + kind + ") with a key that was revoked since"
	}
	return "signed (" + kind + "); the key to check it with is not here"
}

// Changed lists the files that differ between two trees with their counts.
func (h *History) Changed(ctx context.Context, old, new object.ID, progress func(done, of int)) ([]ChangedFile,
	error) {
	changes, err := h.Planner.Store.Changes(ctx, old, new)
	if err != nil {
		return nil, err
	}
	gone := map[string]bool{}
	for _, c := range changes {
		if c.New.Absent() {
			gone[c.Path] = true
		}
	}
	from := map[string]string{}
	if len(gone) > 0 {
		renames, err := h.Planner.Engine.Renames(ctx, old, new, gone)
		if err != nil {
			return nil, err
		}
		for _, r := range renames {
			from[r.To] = r.From
			delete(gone, r.From)
		}
	}
	was := map[string]object.Entry{}
	var read []object.ID
	for _, c := range changes {
		was[c.Path] = c.Old
		for _, e := range []object.Entry{c.Old, c.New} {
			if e.Mode.IsRegular() {
				read = append(read, e.ID)
			}
		}
	}
	h.Planner.Store.Prefetch(ctx, read...)
	var out []ChangedFile
	for i, c := range changes {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if progress != nil {
			progress(i, len(changes))
		}
		f := ChangedFile{Path: c.Path, From: from[c.Path], Old: c.Old, New: c.New}
		switch {
		case f.From != "":
			f.Old = was[f.From]
		case c.New.Absent() && !gone[c.Path]:
			continue // listed at its new name
		}
		if err := h.count(ctx, &f); err != nil {
			return nil, err
		}
		out = append(out, f)
	}
	slices.SortFunc(out, func(a, b ChangedFile) int { return cmp.Compare(a.Path, b.Path) })
	return out, nil
}

// count counts the added and removed lines of a file.
func (h *History) count(ctx context.Context, f *ChangedFile) error {
	old, new, ok, err := h.bothTexts(ctx, f)
	if err != nil || !ok {
		return err
	}
	f.Text = true
	for _, e := range diff.TextEdits(old, new) {
		f.Added += e.B1 - e.B0
		f.Removed += e.A1 - e.A0
	}
	return nil
}

// bothTexts returns a file before and after. ok is false if one of them is no text.
func (h *History) bothTexts(ctx context.Context, f *ChangedFile) (old, new string, ok bool, err error) {
	for _, side := range []struct {
		e  object.Entry
		to *string
	}{{f.Old, &old}, {f.New, &new}} {
		if side.e.Absent() {
			continue
		}
		if !side.e.Mode.IsRegular() {
			return "", "", false, nil
		}
		data, err := h.Planner.Store.Blob(ctx, side.e.ID)
		if err != nil || !merge.IsText(data) {
			return "", "", false, err
		}
		*side.to = string(data)
	}
	return old, new, true, nil
}

// ChangeKind is the kind of a line of a change.
type ChangeKind uint8

// The kinds.
const (
	LineSame ChangeKind = iota
	LineGone
	LineNew
	LinesFolded // Count lines that are not shown
)

// ChangeLine is a line of a displayed change.
type ChangeLine struct {
	Kind     ChangeKind
	Old, New int // line numbers before and after, from 1; 0 if absent
	Text     string
	Marks    [][2]int // byte ranges that differ from the line it replaces
	Count    int
}

// around is the number of lines shown around a change.
const around = 3

// Change returns the lines of a file's change with a few around each edit. ok is false if there is none.
func (h *History) Change(ctx context.Context, f ChangedFile) (lines []ChangeLine, ok bool, err error) {
	old, new, ok, err := h.bothTexts(ctx, &f)
	if err != nil || !ok {
		return nil, ok, err
	}
	a, b := diff.Lines(old), diff.Lines(new)
	at := 0 // first line of a that was not shown yet
	edits := diff.Histogram(a, b)
	same := func(to, shift int) {
		for ; at < to; at++ {
			lines = append(lines, ChangeLine{Kind: LineSame, Old: at + 1, New: at + 1 + shift, Text: a[at]})
		}
	}
	shift := 0
	for i, e := range edits {
		if hidden := e.A0 - around - at; i == 0 && hidden > 0 || hidden > around {
			if i > 0 {
				same(at+around, shift)
			}
			if hidden = e.A0 - around - at; hidden > 0 {
				lines = append(lines, ChangeLine{Kind: LinesFolded, Count: hidden})
				at += hidden
			}
		}
		same(e.A0, shift)
		lines = append(lines, changeLines(a, b, e)...)
		at, shift = e.A1, e.B1-e.A1
	}
	if len(edits) == 0 {
		return nil, true, nil
	}
	same(min(len(a), at+around), shift)
	if rest := len(a) - at; rest > 0 {
		lines = append(lines, ChangeLine{Kind: LinesFolded, Count: rest})
	}
	return lines, true, nil
}

// changeLines returns the lines of one edit. If it replaces lines by equally many, it compares their words.
func changeLines(a, b []string, e diff.Edit) (lines []ChangeLine) {
	gone, added := make([]ChangeLine, 0, e.A1-e.A0), make([]ChangeLine, 0, e.B1-e.B0)
	for i := e.A0; i < e.A1; i++ {
		gone = append(gone, ChangeLine{Kind: LineGone, Old: i + 1, Text: a[i]})
	}
	for i := e.B0; i < e.B1; i++ {
		added = append(added, ChangeLine{Kind: LineNew, New: i + 1, Text: b[i]})
	}
	if len(gone) == len(added) {
		for i := range gone {
			gone[i].Marks, added[i].Marks = markWords(gone[i].Text, added[i].Text)
		}
	}
	return append(gone, added...)
}

// markWords returns the byte ranges in which two lines differ, word by word, or nil if most words differ.
func markWords(old, new string) (gone, added [][2]int) {
	a, b := diff.Words(old), diff.Words(new)
	length := func(words []string) int { return len(strings.Join(words, "")) }
	changed := 0
	for _, e := range diff.AtLines(diff.WordEdits(a, b), a, b) {
		if from := length(a[:e.A0]); e.A1 > e.A0 {
			gone = append(gone, [2]int{from, from + length(a[e.A0:e.A1])})
		}
		if from := length(b[:e.B0]); e.B1 > e.B0 {
			added = append(added, [2]int{from, from + length(b[e.B0:e.B1])})
		}
		changed += length(a[e.A0:e.A1]) + length(b[e.B0:e.B1])
	}
	if 4*changed > 3*(len(old)+len(new)) {
		return nil, nil
	}
	return gone, added
}

// Annotate finds the origin of each line of a file in a revision. An empty revision is HEAD.
func (h *History) Annotate(ctx context.Context, rev, path string) (*annotate.Annotation, object.ID, error) {
	if rev == "" {
		rev = "HEAD"
	}
	go h.Graph(ctx) // read the graph while git resolves the revision
	id, err := h.Repo.Resolve(ctx, rev)
	if err != nil {
		return nil, id, err
	}
	a, err := h.AnnotateCommit(ctx, id, path)
	return a, id, err
}

// AnnotateCommit is Annotate for a commit, which may be in memory.
func (h *History) AnnotateCommit(ctx context.Context, id object.ID, path string) (*annotate.Annotation, error) {
	a, err := annotate.New(ctx, h.Planner.Engine, h.Graph(ctx), id, path)
	if err == nil {
		a.Moved = true
	}
	return a, err
}

// Preview returns an in-memory commit for a joined tree that was not accepted yet, so its lines can be annotated.
func (h *History) Preview(ctx context.Context, p *plan.Position, tree object.ID) (object.ID, error) {
	who, err := h.Repo.Committer(ctx)
	if err != nil {
		return object.ID{}, err
	}
	return h.Planner.Store.PutCommit(&object.Commit{Tree: tree, Parents: []object.ID{p.Yours, p.Theirs},
		AuthorLine: who.String(),
		Committer:  who, Message: "The joined result, as it is now and not made yet\n"}), nil
}

// Texts returns a file before and after a change. Binary and missing files are empty.
func (h *History) Texts(ctx context.Context, f ChangedFile) (old, new string, err error) {
	old, new, _, err = h.bothTexts(ctx, &f)
	return old, new, err
}

// FileBefore returns the path of a commit's file in the first parent that has it, or "" if the commit added it.
func (h *History) FileBefore(ctx context.Context, n history.Node, path string) (commit object.ID, was string,
	err error) {
	for _, p := range n.Parents {
		tree, err := h.Planner.Tree(ctx, p)
		if err != nil {
			return commit, "", err
		}
		e, err := h.Planner.Store.Find(ctx, tree, path)
		if err != nil {
			return commit, "", err
		}
		if !e.Absent() {
			return p, path, nil
		}
		from, err := h.Planner.Engine.CameFrom(ctx, tree, n.Tree, path)
		if err != nil {
			return commit, "", err
		}
		if from != "" {
			return p, from, nil
		}
	}
	return commit, "", nil
}

// LinesChanged returns the number of lines that a commit added and removed against its first parent.
func (h *History) LinesChanged(ctx context.Context, n history.Node) (lines int, err error) {
	before, err := history.FirstParentTree(ctx, h.Planner.Store, n.Commit)
	if err != nil {
		return 0, err
	}
	files, err := h.Changed(ctx, before, n.Tree, nil)
	for _, f := range files {
		lines += f.Added + f.Removed
	}
	return lines, err
}

// Edited is what a commit changed in some files, line by line.
type Edited struct {
	Files []ChangedFile
	Lines [][]ChangeLine // lines of each file; none if it is not text
	More  int            // number of further files
}

// EditedBy returns what a commit changed against its first parent, in the given files or, if it changed none of them,
// in all.
func (h *History) EditedBy(ctx context.Context, n history.Node, about []string) (out Edited, err error) {
	before, err := history.FirstParentTree(ctx, h.Planner.Store, n.Commit)
	if err != nil {
		return out, err
	}
	all, err := h.Changed(ctx, before, n.Tree, nil)
	if err != nil {
		return out, err
	}
	for _, f := range all {
		if slices.Contains(about, f.Path) || slices.Contains(about, f.From) {
			out.Files = append(out.Files, f)
		}
	}
	if len(out.Files) == 0 {
		out.Files = all
	}
	out.More = len(all) - len(out.Files)
	for _, f := range out.Files {
		lines, _, err := h.Change(ctx, f)
		if err != nil {
			return out, err
		}
		out.Lines = append(out.Lines, lines)
	}
	return out, nil
}
