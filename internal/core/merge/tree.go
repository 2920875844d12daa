package merge

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"

	"dorvik/internal/core/attr"
	"dorvik/internal/core/diff"
	"dorvik/internal/core/object"
)

// Joined is a path that needed no decision. A subtree that only one side
// changed is one of these, with trees as its entries.
type Joined struct {
	Path                string
	From                string // the path before a rename that mattered; Files fills it in
	Origin              Origin
	Base, Yours, Theirs object.Entry
	Result              object.Entry
}

// Result is two trees joined: what joined by itself, and the conflicts.
type Result struct {
	Given               [3]object.ID // base, yours and theirs as they were asked for
	Base, Yours, Theirs object.ID    // with each side's renames made on the others, too
	Joined              []Joined
	Conflicts           []Conflict
	Remarks             []Remark

	store     *object.Overlay
	ofYours   []edit          // that make yours the joined tree
	ofTheirs  []edit          // that make theirs the joined tree
	gone      []string        // files of the base that are not in their place, and perhaps renamed
	goneTrees []edit          // directories of the base that are none on either side
	emptied   []emptied       // directories of the base that are none on one side, and changed on the other
	contested map[string]bool // paths of conflicts that renames are
	from      map[string]string
}

// Remark is something about a join that asks nothing and should be known.
type Remark struct {
	Path  string // empty where it is about all of it
	Words string // a sentence without its full stop

	Driver string // the merge driver that was not run as nobody agreed to it, or empty
}

type edit struct {
	path  string
	entry object.Entry
}

// Clean reports whether nothing is contested.
func (r *Result) Clean() bool { return len(r.Conflicts) == 0 }

// Decided is what stands in the place of conflicts: entries by path and, of questions
// of names, the moves that are made once all contents stand.
type Decided struct {
	Entries map[string]object.Entry
	Moves   []Move
}

// Tree makes the joined tree. A conflicting path without an entry has yours.
func (r *Result) Tree(settled Decided) (object.ID, error) {
	// From whichever side is nearer; at conflicting paths yours stays.
	from, edits := r.Yours, r.ofYours
	if len(r.ofTheirs)+len(r.Conflicts) < len(edits) {
		from, edits = r.Theirs, r.ofTheirs
	}
	set := make(map[string]object.Entry, len(edits)+len(settled.Entries)+len(r.Conflicts))
	if from == r.Theirs {
		for _, c := range r.Conflicts {
			if _, names := c.Subject.(*Naming); names {
				continue // what stands there is joined, or a conflict of its own
			}
			at, err := r.store.Find(r.Yours, c.Path)
			if err != nil {
				return object.ID{}, err
			}
			set[c.Path] = at
		}
	}
	for _, e := range edits {
		set[e.path] = e.entry
	}
	for p, e := range settled.Entries {
		set[p] = e
	}
	id, err := r.store.Edit(from, set)
	if err == nil && len(settled.Moves) > 0 {
		id, err = move(r.store, id, settled.Moves)
	}
	if err == nil && id.IsZero() {
		id = r.store.EmptyTree()
	}
	return id, err
}

// move makes moves in a tree, all at once: all is taken away before any of it is put
// anywhere, files before the directories they are in. What finds its place taken by the
// outcome of another question stays where it was, or goes beside.
func move(store *object.Overlay, tree object.ID, moves []Move) (object.ID, error) {
	type held struct {
		Move
		entry object.Entry
	}
	var puts []held
	for _, trees := range []bool{false, true} {
		gone := map[string]object.Entry{}
		for _, m := range moves {
			at, err := store.Find(tree, m.From)
			if err != nil {
				return tree, err
			}
			if _, twice := gone[m.From]; twice || at.Absent() || at.IsTree() != trees || m.Tree != trees {
				continue
			}
			gone[m.From] = object.Entry{}
			if m.To != "" {
				puts = append(puts, held{m, at})
			}
		}
		var err error
		if tree, err = store.Edit(tree, gone); err != nil {
			return tree, err
		}
	}
	free := func(p string) (bool, error) {
		at, err := store.Find(tree, p)
		for dir := parent(p); err == nil && dir != "" && at.Absent(); dir = parent(dir) {
			var above object.Entry
			if above, err = store.Find(tree, dir); isFile(above) {
				return false, err
			}
		}
		return at.Absent(), err
	}
	for _, h := range puts {
		to := h.To
		for _, p := range []string{h.To, h.From} {
			ok, err := free(p)
			if err != nil {
				return tree, err
			}
			if to = p; ok {
				break
			}
			to = ""
		}
		if to == "" {
			var err error
			if to, err = beside(h.From, "moved", free); err != nil {
				return tree, err
			}
		}
		var err error
		if tree, err = store.Edit(tree, map[string]object.Entry{to: h.entry}); err != nil {
			return tree, err
		}
	}
	return tree, nil
}

// Brief gives a clean result without its account of what joined: all that is left
// to say once the tree is made.
func (r *Result) Brief() *Result {
	return &Result{Given: r.Given, Base: r.Base, Yours: r.Yours, Theirs: r.Theirs, Remarks: r.Remarks, store: r.store}
}

// Decide settles the conflict about what stands at a path: from here on it counts as
// joined.
func (r *Result) Decide(path string, e object.Entry) {
	for i, c := range r.Conflicts {
		if _, names := c.Subject.(*Naming); c.Path == path && !names {
			r.Conflicts = slices.Delete(r.Conflicts, i, i+1)
			b, y, t := c.Subject.Sides()
			r.Joined = append(r.Joined, Joined{Path: path, From: c.From(), Origin: FromBoth, Base: b, Yours: y, Theirs: t, Result: e})
			r.ofYours = append(r.ofYours, edit{path, e})
			r.ofTheirs = append(r.ofTheirs, edit{path, e})
			return
		}
	}
}

// Files lists what joined by itself file by file: the subtrees in Joined are
// opened.
func (r *Result) Files() ([]Joined, error) {
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
		changes, err := r.store.Changes(old, new)
		if err != nil {
			return nil, err
		}
		for _, c := range changes {
			if r.contested[j.Path+"/"+c.Path] {
				continue
			}
			f := Joined{Path: j.Path + "/" + c.Path, From: r.from[j.Path+"/"+c.Path], Origin: j.Origin, Base: c.Old, Result: c.New, Yours: c.Old, Theirs: c.Old}
			if j.Origin != FromTheirs {
				f.Yours = c.New
			}
			if j.Origin != FromYours {
				f.Theirs = c.New
			}
			out = append(out, f)
		}
		// A file that gave way to a directory, or the other way round.
		if !j.Base.IsTree() && !j.Base.Absent() {
			out = append(out, Joined{Path: j.Path, Origin: j.Origin, Base: j.Base})
		}
		if !j.Result.IsTree() && !j.Result.Absent() {
			out = append(out, Joined{Path: j.Path, Origin: j.Origin, Result: j.Result})
		}
	}
	return out, nil
}

// Engine joins trees over one store. It remembers text merges, so that joining
// again after a decision costs only what the decision changes. It is safe for
// use by several goroutines.
type Engine struct {
	Store *object.Overlay

	// Contains tells whether one commit of a submodule is the other or comes after
	// it. Without it, or where it says no, two moves of a submodule are a conflict.
	Contains func(path string, older, newer object.ID) bool

	// Outside gives attributes from outside the trees, nil for none: the user's,
	// which those of the trees overrule, and the repository's, which overrule them.
	Outside func() (below, above *attr.File)

	// Drive runs merge drivers; without it there are none.
	Drive Driver

	pairs int // how many pairs of files are compared at most to find renames
	mu    sync.Mutex
	texts map[[3]object.ID]*Text

	driven map[driven]drivenTo
	bases  map[string]ancestor // several common ancestors, by their ids, and the base they were joined to

	maxText int // in bytes
}

// NewEngine makes an engine over a store.
func NewEngine(store *object.Overlay) *Engine {
	return &Engine{Store: store, pairs: maxPairs, texts: map[[3]object.ID]*Text{}, driven: map[driven]drivenTo{}, bases: map[string]ancestor{}, maxText: MaxText}
}

// Trees joins two trees that came from one base. It reads only subtrees that
// differ, and looks for renames only where they can matter. Cancelling ctx stops
// it with the context's error.
func (e *Engine) Trees(ctx context.Context, base, yours, theirs object.ID) (*Result, error) {
	return e.join(ctx, ancestor{tree: base}, yours, theirs, true)
}

// join is Trees with or without asking about the files of moved directories.
func (e *Engine) join(ctx context.Context, base ancestor, yours, theirs object.ID, directories bool) (*Result, error) {
	rules := newRules(e, [3]object.ID{base.tree, yours, theirs})
	r, err := e.walk(ctx, rules, base, yours, theirs)
	if err != nil {
		return nil, err
	}
	if !directories {
		r.emptied = nil
	}
	if r, err = e.withRenames(ctx, rules, r, base); err != nil {
		return nil, err
	}
	r.Remarks = append(r.Remarks, r.collisions()...)
	if directories {
		err = r.besides()
	}
	return r, err
}

// besides finds names under which both of two things at one path can be kept.
func (r *Result) besides() error {
	var finder *object.Finder
	free := func(p string) (bool, error) {
		if finder == nil {
			finder = object.NewFinder(r.store)
		}
		for _, tree := range []object.ID{r.Yours, r.Theirs} {
			if at, err := finder.Find(tree, p); err != nil || !at.Absent() {
				return false, err
			}
		}
		return true, nil
	}
	for _, c := range r.Conflicts {
		var err error
		switch s := c.Subject.(type) {
		case *Clash:
			s.Beside, err = beside(c.Path, s.File(), free)
		case *Versions:
			if c.Kind != ModeBits && c.Kind != Submodule && isFile(s.Yours) && isFile(s.Theirs) {
				s.Beside, err = beside(c.Path, Yours, free)
			}
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// collisions remarks on paths that both sides added and that are the same where case
// does not count.
func (r *Result) collisions() (remarks []Remark) {
	adds := func(o Origin) bool {
		return slices.ContainsFunc(r.Joined, func(j Joined) bool { return j.Origin == o && j.Base.Absent() && !j.Result.Absent() })
	}
	if !adds(FromYours) || !adds(FromTheirs) {
		return nil
	}
	added := map[string]Joined{}
	for _, j := range r.Joined {
		if !j.Base.Absent() || j.Result.Absent() {
			continue
		}
		folded := strings.ToLower(j.Path)
		if other, met := added[folded]; met && other.Origin != j.Origin {
			remarks = append(remarks, Remark{Path: j.Path, Words: "stands beside " + other.Path + "; where case does not count in names, only one of them can be checked out"})
		}
		added[folded] = j
	}
	return remarks
}

func (e *Engine) walk(ctx context.Context, rules *rules, base ancestor, yours, theirs object.ID) (*Result, error) {
	m := &merger{ctx: ctx, engine: e, rules: rules, open: base.open,
		out: &Result{Given: [3]object.ID{base.tree, yours, theirs}, Base: base.tree, Yours: yours, Theirs: theirs, store: e.Store}}
	if err := m.dir("", tree(base.tree), tree(yours), tree(theirs)); err != nil {
		return nil, err
	}
	return m.out, nil
}

func tree(id object.ID) object.Entry { return object.Entry{Mode: object.ModeTree, ID: id} }

type merger struct {
	ctx    context.Context
	engine *Engine
	rules  *rules
	open   map[string]bool // of the ancestor
	asking bool            // in a directory that is open as a whole
	spare  [][]place       // lists to be used again
	out    *Result
}

func (m *merger) joined(path string, o Origin, b, y, t, result object.Entry) {
	m.out.Joined = append(room(m.out.Joined), Joined{Path: path, Origin: o, Base: b, Yours: y, Theirs: t, Result: result})
	if !result.Same(y) {
		m.out.ofYours = append(room(m.out.ofYours), edit{path, result})
	}
	if !result.Same(t) {
		m.out.ofTheirs = append(room(m.out.ofTheirs), edit{path, result})
	}
}

// room doubles a full list: of tens of thousands of large elements, append alone
// copies each several times.
func room[T any](list []T) []T {
	if len(list) == cap(list) {
		return slices.Grow(list, max(16, len(list)))
	}
	return list
}

func (m *merger) conflict(c Conflict) { m.out.Conflicts = append(m.out.Conflicts, c) }

// name joins what stands at one path, of whatever kind it is on each side.
func (m *merger) name(path string, b, y, t object.Entry) error {
	if b.Absent() && object.CheckName(path[strings.LastIndexByte(path, '/')+1:]) != nil {
		return &object.NameError{Path: path}
	}
	if isFile(b) && !isFile(y) && !isFile(t) {
		m.out.gone = append(m.out.gone, path)
	}
	if b.IsTree() && !y.IsTree() && !t.IsTree() {
		m.out.goneTrees = append(m.out.goneTrees, edit{path, b})
	}
	// Where the ancestors disagree, neither side counts as having left the path alone.
	asked, open := m.open[path]
	asked = asked || m.asking
	switch {
	case y.Same(t):
		if !b.Same(y) {
			m.joined(path, FromBoth, b, y, t, y)
		}
		return nil
	case asked && !y.IsTree() && !t.IsTree():
		if b.IsTree() {
			b = object.Entry{}
		}
		return m.disputed(path, b, y, t)
	case asked && !m.asking:
		m.asking = true // all that is in it is
		defer func() { m.asking = false }()
	case asked || open && (y.IsTree() || t.IsTree()): // something in it may be asked
	case b.Same(y):
		m.joined(path, FromTheirs, b, y, t, t)
		return nil
	case b.Same(t):
		m.joined(path, FromYours, b, y, t, y)
		return nil
	}
	switch {
	case y.IsTree() && t.IsTree():
		return m.dir(path, b, y, t)
	case b.IsTree() && y.IsTree():
		m.out.emptied = append(m.out.emptied, emptied{path, inTheirs, b, y})
		return m.treeAgainstFile(path, b, y, t)
	case b.IsTree() && t.IsTree():
		m.out.emptied = append(m.out.emptied, emptied{path, inYours, b, t})
		return m.treeAgainstFile(path, b, y, t)
	case y.IsTree() || t.IsTree():
		return m.treeAgainstFile(path, b, y, t)
	}
	if b.IsTree() { // both took the directory away
		switch {
		case y.Absent():
			m.joined(path, FromTheirs, b, y, t, t)
			return nil
		case t.Absent():
			m.joined(path, FromYours, b, y, t, y)
			return nil
		}
		b = object.Entry{}
	}
	return m.file(path, b, y, t)
}

func isFile(e object.Entry) bool { return !e.Absent() && !e.IsTree() }

func (m *merger) dir(path string, b, y, t object.Entry) error {
	if err := m.ctx.Err(); err != nil {
		return err
	}
	var places []place
	if n := len(m.spare); n > 0 {
		places, m.spare = m.spare[n-1][:0], m.spare[:n-1]
	}
	if err := m.engine.Store.Differ(func(name string, at []object.Entry) error {
		places = append(places, place{name, at[0], at[1], at[2]})
		return nil
	}, b.Subtree(), y.Subtree(), t.Subtree()); err != nil {
		return err
	}
	if path != "" {
		path += "/"
	}
	stop := make(chan struct{})
	read, done := m.readAhead(places, stop)
	defer func() {
		close(stop)
		<-done
		m.spare = append(m.spare, places)
	}()
	for i, p := range places {
		if i%readAtOnce == 0 {
			<-read
		}
		if err := m.name(path+p.name, p.b, p.y, p.t); err != nil {
			return err
		}
	}
	return nil
}

// place is a name at which trees differ.
type place struct {
	name    string
	b, y, t object.Entry
}

// readAtOnce is the number of places whose objects are read together.
const readAtOnce = 32

// readAhead reads what joining the places will need, the next ones while the
// last are being joined. It sends on read before each readAtOnce of them, until
// stop is closed, and closes done when it has ended.
func (m *merger) readAhead(places []place, stop <-chan struct{}) (read, done chan struct{}) {
	read, done = make(chan struct{}), make(chan struct{})
	next := func(places []place) {
		var ids []object.ID
		for _, p := range places {
			if p.y.Same(p.t) || p.b.Same(p.y) || p.b.Same(p.t) {
				continue
			}
			texts := p.y.Mode.IsRegular() && p.t.Mode.IsRegular() // else there is nothing to join
			for _, e := range []object.Entry{p.b, p.y, p.t} {
				if e.IsTree() || texts && e.Mode.IsRegular() {
					ids = append(ids, e.ID)
				}
			}
		}
		m.engine.Store.Prefetch(ids...)
	}
	go func() {
		defer close(done)
		for chunk := range slices.Chunk(places, readAtOnce) {
			next(chunk)
			select {
			case read <- struct{}{}:
			case <-stop:
				return
			}
		}
	}()
	return read, done
}

// treeAgainstFile joins a path that is a directory on one side only. The
// directory is joined first, as though the other side had deleted it; if
// anything of it is left and the other side has a file there, they clash.
func (m *merger) treeAgainstFile(path string, b, y, t object.Entry) error {
	ofYours, ofTheirs, joined, conflicts := len(m.out.ofYours), len(m.out.ofTheirs), len(m.out.Joined), len(m.out.Conflicts)
	if err := m.dir(path, b, y, t); err != nil {
		return err
	}
	file := y
	if y.IsTree() {
		file = t
	}
	if file.Absent() {
		return nil
	}
	left := len(m.out.Conflicts) > conflicts
	if !left {
		set := map[string]object.Entry{}
		for _, e := range m.out.ofYours[ofYours:] {
			set[e.path[len(path)+1:]] = e.entry
		}
		id, err := m.engine.Store.Edit(y.Subtree(), set)
		if err != nil {
			return err
		}
		left = !id.IsZero()
	}
	// Whichever it is, the path is joined or contested as a whole. Its files may
	// have been renamed, though.
	for _, c := range m.out.Conflicts[conflicts:] {
		if base, _, _ := c.Subject.Sides(); isFile(base) {
			m.out.gone = append(m.out.gone, c.Path)
		}
	}
	m.out.ofYours, m.out.ofTheirs = m.out.ofYours[:ofYours], m.out.ofTheirs[:ofTheirs]
	m.out.Joined, m.out.Conflicts = m.out.Joined[:joined], m.out.Conflicts[:conflicts]
	if left {
		m.conflict(Conflict{Path: path, Kind: FileDirectory, Subject: &Clash{Base: b, Yours: y, Theirs: t}})
		return nil
	}
	o := FromYours
	if file == t {
		o = FromTheirs
	}
	m.joined(path, o, b, y, t, file)
	return nil
}

// file joins what no side holds as a directory, and both changed differently.
func (m *merger) file(path string, b, y, t object.Entry) error {
	kind := Submodule
	switch {
	case y.Absent() || t.Absent():
		kind = ModifyDelete
	case !y.Mode.SameType(t.Mode):
		kind = Type
	case y.Mode == object.ModeLink:
		kind = Symlink
	case y.Mode == object.ModeSubmodule:
		if newer, ok := m.newer(path, b, y, t); ok {
			m.joined(path, FromBoth, b, y, t, newer)
			m.remark(path, "both sides moved this submodule; the commit taken holds the other")
			return nil
		}
	default:
		return m.regular(path, b, y, t)
	}
	m.conflict(Conflict{path, kind, &Versions{Base: b, Yours: y, Theirs: t}})
	return nil
}

// disputed joins two files of which nobody can say what they started from. Where
// they would join, over what the base has or as two additions, they are a conflict all
// the same: one may have removed what the other has.
func (m *merger) disputed(path string, b, y, t object.Entry) error {
	was := *m.out
	for _, from := range []object.Entry{b, {}} {
		if err := m.file(path, from, y, t); err != nil {
			return err
		}
		if n := len(m.out.Conflicts); n > len(was.Conflicts) {
			if v, whole := m.out.Conflicts[n-1].Subject.(*Versions); whole {
				v.Base = b
			}
			return nil
		}
		*m.out = was
	}
	m.conflict(Conflict{path, AddAdd, &Versions{Base: b, Yours: y, Theirs: t, Why: "the common ancestors of the two lines disagree on it"}})
	return nil
}

// newer gives the one of two moves of a submodule that holds the other, where both
// went forward.
func (m *merger) newer(path string, b, y, t object.Entry) (object.Entry, bool) {
	holds := m.engine.Contains
	switch {
	case holds == nil || b.Mode != object.ModeSubmodule || !holds(path, b.ID, y.ID) || !holds(path, b.ID, t.ID):
	case holds(path, y.ID, t.ID):
		return t, true
	case holds(path, t.ID, y.ID):
		return y, true
	}
	return object.Entry{}, false
}

func (m *merger) regular(path string, b, y, t object.Entry) error {
	kind, mode, modes := Content, y.Mode, false
	if !b.Mode.IsRegular() {
		b, kind = object.Entry{}, AddAdd // a link has no text to start from
	}
	if y.Mode != t.Mode {
		if b.Absent() {
			modes = true
		} else if y.Mode == b.Mode {
			mode = t.Mode
		}
	}
	result := object.Entry{Mode: mode, ID: y.ID}
	switch {
	case y.ID == t.ID:
	case y.ID == b.ID:
		result.ID = t.ID
	case t.ID == b.ID:
	default:
		id, why, err := m.byAttribute(path, b, y, t)
		if err != nil {
			return err
		}
		if !id.IsZero() {
			result.ID = id
			break
		}
		var text *Text
		if why == "" {
			if text, err = m.engine.Text(b.ID, y.ID, t.ID); err != nil {
				return err
			}
			if text == nil {
				if why, err = m.tooLarge(b, y, t); err != nil {
					return err
				}
			}
		}
		if text == nil {
			if kind == Content {
				kind = Binary
			}
			m.conflict(Conflict{path, kind, &Versions{Base: b, Yours: y, Theirs: t, Why: why}})
			return nil
		}
		switch text.NewEnds {
		case FromYours:
			m.remark(path, "you changed all line ends; joined with the new ones")
		case FromTheirs:
			m.remark(path, "they changed all line ends; joined with the new ones")
		case FromBoth:
			m.remark(path, "both sides changed all line ends alike")
		}
		if text.Conflicts() > 0 {
			m.conflict(Conflict{path, kind, &Lines{Base: b, Yours: y, Theirs: t, Text: text, Mode: mode, Modes: modes}})
			return nil
		}
		result.ID = m.engine.Store.Put(object.KindBlob, []byte(text.Join(nil)))
	}
	if modes {
		// The contents are joined, so only the modes are asked.
		y.ID, t.ID = result.ID, result.ID
		m.conflict(Conflict{path, ModeBits, &Versions{Base: b, Yours: y, Theirs: t}})
		return nil
	}
	m.joined(path, FromBoth, b, y, t, result)
	return nil
}

// tooLarge says it where a text is only too large to be joined by lines.
func (m *merger) tooLarge(entries ...object.Entry) (string, error) {
	for _, e := range entries {
		if e.Absent() {
			continue
		}
		data, err := m.engine.Store.Blob(e.ID)
		if err != nil {
			return "", err
		}
		if len(data) > m.engine.maxText {
			return fmt.Sprintf("it is larger than %d MB", m.engine.maxText>>20), nil
		}
	}
	return "", nil
}

// Text joins three blobs as texts; the zero id is an empty one. It gives nil
// where one of them is not text.
func (e *Engine) Text(base, yours, theirs object.ID) (*Text, error) {
	key := [3]object.ID{base, yours, theirs}
	e.mu.Lock()
	t, ok := e.texts[key]
	e.mu.Unlock()
	if ok {
		return t, nil
	}
	var lines [3][]string
	for i, id := range key {
		if id.IsZero() {
			continue
		}
		data, err := e.Store.Blob(id)
		if err != nil {
			return nil, err
		}
		if len(data) > e.maxText || !IsText(data) {
			return nil, nil
		}
		lines[i] = diff.Lines(string(data))
	}
	newEnds := sameEnds(&lines)
	joined := Merge3(lines[0], lines[1], lines[2])
	joined.NewEnds = newEnds
	e.mu.Lock()
	e.texts[key] = &joined
	e.mu.Unlock()
	return &joined, nil
}

// MaxText is the size in bytes above which a file is joined only as a whole.
const MaxText = 100 << 20

// IsText reports whether content is joined line by line: it has no zero byte
// in its first 8000, and is not larger than MaxText.
func IsText(data []byte) bool {
	return len(data) <= MaxText && bytes.IndexByte(data[:min(len(data), 8000)], 0) < 0
}
