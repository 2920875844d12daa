package settle

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"dorvik/internal/core/diff"
	"dorvik/internal/core/merge"
	"dorvik/internal/core/object"
)

// Option is one way to settle a conflict, as offered.
type Option struct {
	Way    Way
	Reason string        // why it is offered or suggested, if that needs saying
	Text   string        // what the place would hold; empty unless the conflict is a place in a text
	Moved  *Relocation   // what another place would hold too, or nil
	Effect merge.Decided // what it does, where the conflict is no place in a text
}

// Key names a conflict by what is in it: path, kind and the three texts. The
// same conflict met again, on another route or after new commits of theirs,
// has the same key.
type Key string

// Conflict is one decision to make: a contested region of a text or, where Subject is
// no *merge.Lines, a question about a path as a whole.
type Conflict struct {
	Path                string
	Kind                merge.Kind
	Key                 Key
	Subject             merge.Subject
	Place               merge.Hunk // of the text
	Base, Yours, Theirs string       // the texts of the place
	Ways                []Option
	Sizes               [3]int // in bytes, of the files that base, yours and theirs have, for a path as a whole; -1 where there is none
	Suggested           Way    // empty where none is better than asking
	Why                 string // for a place in a text
}

// Whole reports whether the conflict is no place in a text.
func (c *Conflict) Whole() bool {
	_, lines := c.Subject.(*merge.Lines)
	return !lines
}

// Option gives the offered option of a way.
func (c *Conflict) Option(w Way) (Option, bool) {
	for _, o := range c.Ways {
		if o.Way == w {
			return o, true
		}
	}
	return Option{}, false
}

// File is a contested path with its conflicts. Text is nil unless they are in a text.
type File struct {
	Path      string
	From      string // its name before a rename that is part of the conflict
	Also      string // the other place it may have
	Text      *merge.Text
	Conflicts []*Conflict
	source    *merge.Conflict
	readable  func() bool
}

// Open makes the questions of one contested path.
func Open(c *merge.Conflict) *File {
	f := &File{Path: c.Path, From: c.From(), Also: c.Also(), source: c}
	f.readable = sync.OnceValue(f.findReadable)
	switch s := c.Subject.(type) {
	case *merge.Lines:
		f.Text = s.Text
		f.openText(s)
		if s.Modes {
			f.Conflicts = append(f.Conflicts, versions(c.Path, merge.ModeBits, &merge.Versions{Base: s.Base, Yours: s.Yours, Theirs: s.Theirs}))
		}
	case *merge.Versions:
		f.Conflicts = []*Conflict{versions(c.Path, c.Kind, s)}
	case *merge.Clash:
		f.Conflicts = []*Conflict{clash(c, s)}
	case *merge.Naming:
		f.Conflicts = []*Conflict{naming(c, s)}
	}
	seen := map[Key]int{}
	for _, q := range f.Conflicts {
		q.Key = keyOf(q, seen)
		q.Sizes = [3]int{-1, -1, -1}
	}
	return f
}

// Names lists the paths by which those who made its conflicts can be found.
func (f *File) Names() (out []string) {
	out = []string{f.Path}
	if n, is := f.source.Subject.(*merge.Naming); is {
		out = append(out, n.At, n.Moved)
	}
	out = append(out, f.From, f.Also)
	return slices.DeleteFunc(out, func(p string) bool { return p == "" })
}

func keyOf(c *Conflict, seen map[Key]int) Key {
	facts := []string{c.Path, string(c.Kind), c.Base, c.Yours, c.Theirs}
	if c.Whole() {
		facts = []string{c.Path, string(c.Kind), c.Subject.Facts()}
	}
	h := sha256.New()
	for _, s := range facts {
		fmt.Fprintf(h, "%d:%s", len(s), s)
	}
	k := Key(hex.EncodeToString(h.Sum(nil)[:16]))
	seen[k]++
	if n := seen[k]; n > 1 {
		k += Key(fmt.Sprintf("-%d", n))
	}
	return k
}

// versions offers the version of either side and, where there are two things that can
// stand side by side, both.
func versions(path string, kind merge.Kind, v *merge.Versions) *Conflict {
	q := &Conflict{Path: path, Kind: kind, Subject: v}
	take := func(w Way, entries map[string]object.Entry) {
		q.Ways = append(q.Ways, Option{Way: w, Effect: merge.Decided{Entries: entries}})
	}
	take(Yours, map[string]object.Entry{path: v.Yours})
	take(Theirs, map[string]object.Entry{path: v.Theirs})
	if v.Beside != "" {
		take(Both, map[string]object.Entry{path: v.Theirs, v.Beside: v.Yours})
	}
	if kind == merge.ModifyDelete || kind == merge.RenameDelete {
		q.Suggested = Yours // a file that is kept can still be deleted later
		if v.Yours.Absent() {
			q.Suggested = Theirs
		}
	}
	return q
}

// clash offers the file, the directory, and the directory with the file beside it.
func clash(c *merge.Conflict, s *merge.Clash) *Conflict {
	q := &Conflict{Path: c.Path, Kind: c.Kind, Subject: s}
	both := Option{Way: Both}
	for _, side := range []Way{Yours, Theirs} {
		is := s.Yours
		if side == Theirs {
			is = s.Theirs
		}
		o := Option{Way: side, Effect: merge.Decided{Entries: map[string]object.Entry{c.Path: is}}}
		if is.IsTree() {
			o.Effect.Moves = s.Within
		}
		q.Ways = append(q.Ways, o)
	}
	file, directory := s.Yours, s.Theirs
	if s.File() == merge.Theirs {
		file, directory = directory, file
	}
	if s.Beside != "" {
		both.Effect = merge.Decided{Entries: map[string]object.Entry{c.Path: directory, s.Beside: file}, Moves: s.Within}
		q.Ways = append(q.Ways, both)
	}
	return q
}

// naming offers the places that either side wants for a file.
func naming(c *merge.Conflict, n *merge.Naming) *Conflict {
	q := &Conflict{Path: c.Path, Kind: c.Kind, Subject: n, Ways: []Option{
		{Way: Yours, Effect: merge.Decided{Moves: n.Yours.Moves}}, {Way: Theirs, Effect: merge.Decided{Moves: n.Theirs.Moves}}}}
	if c.Kind != merge.DirectoryRename {
		return q
	}
	stay, follow := Way(n.Placer), Way(n.Placer.Other())
	if n.Also != "" {
		q.Suggested = follow
	} else {
		q.Suggested = stay
	}
	return q
}

func (f *File) openText(s *merge.Lines) {
	at := place{path: f.Path, sources: &[3]*source{}}
	for i, lines := range [][]string{f.Text.Base, f.Text.Yours, f.Text.Theirs} {
		at.sources[i] = &source{lines: lines, all: at.sources}
	}
	f.Text = wholeEntries(f.Text, at)
	t, moves := f.Text, newMover(f)
	shared := func(i int) bool {
		return i >= 0 && i < len(t.Hunks) && t.Hunks[i].Origin == merge.FromBoth && t.Hunks[i].Base.Empty()
	}
	for i, r := range t.Hunks {
		if r.Origin != merge.Contested {
			continue
		}
		at.cut = shared(i-1) || shared(i+1)
		q := &Conflict{Path: f.Path, Kind: f.source.Kind, Subject: s, Place: r,
			Base:   strings.Join(t.Base[r.Base.Lo:r.Base.Hi], ""),
			Yours:  strings.Join(t.Yours[r.Yours.Lo:r.Yours.Hi], ""),
			Theirs: strings.Join(t.Theirs[r.Theirs.Lo:r.Theirs.Hi], "")}
		at.before, at.after = "", ""
		if r.Yours.Lo > 0 {
			at.before = t.Yours[r.Yours.Lo-1]
		}
		if r.Yours.Hi < len(t.Yours) {
			at.after = t.Yours[r.Yours.Hi]
		}
		q.offer(at, moves)
		f.Conflicts = append(f.Conflicts, q)
	}
	f.veto()
}

// offer lists the ways of a region and marks the one to suggest.
func (c *Conflict) offer(at place, moves *mover) {
	offer := func(o Option) {
		_, twice := c.Option(o.Way)
		if !twice && (o.Text != c.Yours && o.Text != c.Theirs || o.Moved != nil) {
			c.Ways = append(c.Ways, o)
		}
	}
	add := func(w Way, text, reason string) { c.Ways = append(c.Ways, Option{Way: w, Text: text, Reason: reason}) }
	// Where the common ancestors disagree themselves, there is no one base to weave
	// into or to go back to.
	oneBase := !strings.Contains(c.Base, merge.OneAncestor)
	if oneBase {
		if o, ok := moves.follow(c); ok {
			offer(o)
		}
		for _, o := range c.better(at) {
			offer(o)
		}
	}
	better := len(c.Ways) > 0
	if woven, ok := WeaveText(c.Base, c.Yours, c.Theirs); ok && oneBase && woven != c.Base {
		offer(Option{Way: Weave, Text: woven, Reason: "the edits touch other words"})
	}
	var twice [2]string
	if better && c.Ways[0].Moved != nil {
		if c.Ways[0].Moved.Side == SideYours {
			twice[1] = "the lines you moved are there twice"
		} else {
			twice[0] = "the lines they moved are there twice"
		}
	}
	add(Yours, c.Yours, twice[0])
	add(Theirs, c.Theirs, twice[1])
	if c.Yours != "" && c.Theirs != "" {
		add(YoursTheirs, concat(c.Yours, c.Theirs), "")
		add(TheirsYours, concat(c.Theirs, c.Yours), "")
	}
	if oneBase {
		add(Base, c.Base, "")
	}

	holds := func(result string, other Side) bool {
		out, kept := LeftOut(c.Base, c.Yours, c.Theirs, result)
		return CountWords(out, other) == 0 && CountWords(kept, other) == 0
	}
	switch _, weave := c.Option(Weave); {
	case better:
		c.Suggested, c.Why = c.Ways[0].Way, c.Ways[0].Reason
	case weave && keepsHalf(c.Base, c.Yours) && keepsHalf(c.Base, c.Theirs):
		c.Suggested, c.Why = Weave, "the edits touch other words"
	case holds(c.Yours, SideTheirs):
		c.Suggested, c.Why = Yours, "yours already holds all that they changed here"
	case holds(c.Theirs, SideYours):
		c.Suggested, c.Why = Theirs, "theirs already holds all that you changed here"
	case c.Base == "" && c.Yours != "" && c.Theirs != "" && !at.cut:
		c.Suggested, c.Why = TheirsYours, "both added lines here; theirs came first"
	}
}

// keepsHalf reports whether a side left at least half of the base's words
// standing. Where it did not, weaving joins words that no longer belong
// together.
func keepsHalf(base, side string) bool {
	words := diff.Words(base)
	gone := removed(words, diff.Words(side))
	kept, all := 0, 0
	for i, w := range words {
		if diff.IsWord(w) {
			all++
			if !gone[i] {
				kept++
			}
		}
	}
	return 2*kept >= all
}

// veto takes suggestions back where the file would not parse with them.
func (f *File) veto() {
	if f.problem(f.standIn) == "" {
		return
	}
	for _, c := range f.Conflicts {
		if !c.Whole() && c.Suggested != Yours && c.Suggested != Theirs {
			c.Suggested, c.Why = "", ""
		}
	}
}

// standIn is what a place holds as long as it is not settled.
func (f *File) standIn(c *Conflict) Option {
	if o, ok := c.Option(c.Suggested); ok {
		return o
	}
	return Option{Way: Yours, Text: c.Yours}
}

// Part is a region of the joined text, with its lines there.
type Part struct {
	merge.Hunk
	Lines []string
	Of    *Conflict // by whose way it holds them; nil where nothing was asked
}

// Parts gives the joined text region by region, with the way that choose gives for
// each conflict.
func (f *File) Parts(choose func(c *Conflict) Option) []Part {
	parts := make([]Part, len(f.Text.Hunks))
	n := 0
	for i, r := range f.Text.Hunks {
		parts[i].Hunk = r
		if r.Origin != merge.Contested {
			if parts[i].Of == nil {
				parts[i].Lines = f.Text.Lines(r)
			}
			continue
		}
		c := f.Conflicts[n]
		n++
		o := choose(c)
		parts[i].Lines, parts[i].Of = diff.Lines(o.Text), c
		if m := o.Moved; m != nil {
			parts[m.Region].Lines, parts[m.Region].Of = diff.Lines(m.Text), c
		}
	}
	return parts
}

// Join gives the file's text with the way that choose gives for each conflict.
func (f *File) Join(choose func(c *Conflict) Option) string {
	var b strings.Builder
	for _, p := range f.Parts(choose) {
		for _, l := range p.Lines {
			b.WriteString(l)
		}
	}
	return b.String()
}

// problem says why the joined file would not parse; empty where it does, or
// where nothing here can read its language.
func (f *File) problem(choose func(c *Conflict) Option) string {
	if !f.Readable() {
		return ""
	}
	return Problem(f.Path, f.Join(choose))
}

// Readable reports whether a verdict can be given: there is a reader for the
// file's language, and it finds both sides in order.
func (f *File) Readable() bool { return f.readable() }

func (f *File) findReadable() bool {
	return f.Text != nil && HasReader(f.Path) &&
		Problem(f.Path, strings.Join(f.Text.Yours, "")) == "" && Problem(f.Path, strings.Join(f.Text.Theirs, "")) == ""
}

// Verdict is what a way would do.
type Verdict struct {
	Parses    *bool  // nil where nothing here can read the file's language
	Problem   string // why it does not parse
	LeavesOut []Piece
	Keeps     []Piece // what a side removed and the result still holds
}

// Judge tells what settling a conflict by an option would do, the other conflicts
// of the file being as choose says.
func (f *File) Judge(c *Conflict, o Option, choose func(c *Conflict) Option) Verdict {
	var v Verdict
	if c.Whole() {
		return v
	}
	if f.Readable() {
		v.Problem = f.problem(func(other *Conflict) Option {
			if other == c {
				return o
			}
			return choose(other)
		})
		ok := v.Problem == ""
		v.Parses = &ok
	}
	v.LeavesOut, v.Keeps = f.LeftOut(c, o)
	return v
}

// JudgeSuggested is Judge with the suggested ways in the other places.
func (f *File) JudgeSuggested(c *Conflict, o Option) Verdict { return f.Judge(c, o, f.standIn) }

// Sides gives the texts that an option of a conflict brings together: those of the
// place, and where it follows moved lines those of where they went, too.
func (f *File) Sides(c *Conflict, o Option) (yours, theirs, result string) {
	yours, theirs, result = c.Yours, c.Theirs, o.Text
	if m := o.Moved; m != nil {
		put := strings.Join(f.Text.Lines(f.Text.Hunks[m.Region]), "")
		if m.Side == SideYours {
			yours = concat(yours, put)
		} else {
			theirs = concat(theirs, put)
		}
		result = concat(result, m.Text)
	}
	return yours, theirs, result
}

// LeftOut lists what an option of a conflict does without, as the function LeftOut
// does for texts.
func (f *File) LeftOut(c *Conflict, o Option) (out, kept []Piece) {
	yours, theirs, result := f.Sides(c, o)
	return LeftOut(c.Base, yours, theirs, result)
}

// Where gives the line, from 1, that a piece of LeftOut begins in, and that line's
// text.
func (f *File) Where(c *Conflict, o Option, p Piece) (line int, text string) {
	lines, span := f.Text.Yours, func(r merge.Hunk) merge.Span { return r.Yours }
	if p.Side == SideTheirs {
		lines, span = f.Text.Theirs, func(r merge.Hunk) merge.Span { return r.Theirs }
	}
	at := span(c.Place)
	line = at.Lo + p.Line
	if m := o.Moved; m != nil && m.Side == p.Side && line >= at.Hi {
		line = span(f.Text.Hunks[m.Region]).Lo + line - at.Hi
	}
	line = min(line, len(lines)-1)
	return line + 1, lines[line]
}

// Decision is how a conflict was settled.
type Decision struct {
	Key   Key    `json:"key"`
	Way   Way    `json:"way"`
	Text  string `json:"text,omitempty"`  // for Written
	Moved bool   `json:"moved,omitempty"` // Text is for the place the lines were moved to
}

// Book is the decisions made, in order. Later ones on the same conflict stand.
// The zero Book is empty.
type Book struct{ Decisions []Decision }

// Decide adds a decision.
func (b *Book) Decide(d Decision) { b.Decisions = append(slices.Clip(b.Decisions), d) }

// Undo takes the last decision back and gives it; ok is false if there is none.
func (b *Book) Undo() (d Decision, ok bool) {
	if len(b.Decisions) == 0 {
		return d, false
	}
	last := len(b.Decisions) - 1
	d = b.Decisions[last]
	b.Decisions = b.Decisions[:last]
	return d, true
}

// For gives the decision on a conflict, and what it chooses.
func (b *Book) For(c *Conflict) (d Decision, o Option, ok bool) {
	for i := len(b.Decisions) - 1; i >= 0; i-- {
		if d = b.Decisions[i]; d.Key == c.Key {
			if d.Way == Written && !c.Whole() {
				o, ok = c.written(d)
			} else {
				o, ok = c.Option(d.Way)
			}
			return d, o, ok
		}
	}
	return Decision{}, Option{}, false
}

// written is the option of a text by hand.
func (c *Conflict) written(d Decision) (Option, bool) {
	if !d.Moved {
		return Option{Way: Written, Text: d.Text}, true
	}
	for _, o := range c.Ways {
		if o.Moved != nil {
			m := *o.Moved
			m.Text = d.Text
			return Option{Way: Written, Text: o.Text, Moved: &m}, true
		}
	}
	return Option{}, false
}

// Prefer gives the first of the preferred ways that a conflict offers.
func Prefer(c *Conflict, ways []Way) (Way, bool) {
	for _, w := range ways {
		if w == Suggested {
			w = c.Suggested
		}
		if _, ok := c.Option(w); ok {
			return w, true
		}
	}
	return "", false
}

// Chosen gives what the book chooses for a conflict or, with settled false, what
// stands in for it.
func (f *File) Chosen(c *Conflict, b *Book) (o Option, settled bool) {
	if _, o, ok := b.For(c); ok {
		return o, true
	}
	return f.standIn(c), false
}

// Decided is what the path, and any other that its conflicts decide, holds under the
// book, and whether all its conflicts are settled; those that are not have stand-ins.
func (f *File) Decided(store *object.Overlay, b *Book) (d merge.Decided, all bool) {
	all = true
	effect := func(c *Conflict) merge.Decided {
		if _, o, ok := b.For(c); ok {
			return o.Effect
		}
		all = false
		if o, ok := c.Option(c.Suggested); ok {
			return o.Effect
		}
		return c.Ways[0].Effect // yours
	}
	if f.Text == nil {
		return effect(f.Conflicts[0]), all
	}
	text := f.Join(func(c *Conflict) Option {
		o, ok := f.Chosen(c, b)
		all = all && ok
		return o
	})
	e := object.Entry{Mode: f.source.Subject.(*merge.Lines).Mode, ID: store.Put(object.KindBlob, []byte(text))}
	if last := f.Conflicts[len(f.Conflicts)-1]; last.Whole() {
		e.Mode = effect(last).Entries[f.Path].Mode
	}
	return merge.Decided{Entries: map[string]object.Entry{f.Path: e}}, all
}

// Files opens contested paths and remembers them, so that joining again after a
// decision does not work its ways out anew. It is safe for several goroutines.
type Files struct {
	store *object.Overlay
	mu    sync.Mutex
	open  map[fileKey]*File
}

type fileKey struct {
	path, facts string
	kind        merge.Kind
}

// NewFiles makes an empty set over a store.
func NewFiles(store *object.Overlay) *Files { return &Files{store: store, open: map[fileKey]*File{}} }

// Open is the remembered Open.
func (fs *Files) Open(c *merge.Conflict) *File {
	key := fileKey{c.Path, c.Subject.Facts(), c.Kind}
	fs.mu.Lock()
	defer fs.mu.Unlock()
	f := fs.open[key]
	if f == nil {
		f = Open(c)
		fs.measure(f)
		fs.open[key] = f
	}
	return f
}

// measure finds the sizes of what the sides have. What cannot be read has none.
func (fs *Files) measure(f *File) {
	for _, c := range f.Conflicts {
		if !c.Whole() || c.Kind == merge.ModeBits {
			continue
		}
		base, yours, theirs := c.Subject.Sides()
		for i, e := range []object.Entry{base, yours, theirs} {
			if e.Mode.IsRegular() {
				if data, err := fs.store.Blob(e.ID); err == nil {
					c.Sizes[i] = len(data)
				}
			}
		}
	}
}

// Resolve settles what it can of a joined pair of trees under the book. It is
// a replay.Resolver when b is bound.
func (fs *Files) Resolve(r *merge.Result, b *Book) (d merge.Decided, all bool, err error) {
	d, all = merge.Decided{Entries: map[string]object.Entry{}}, true
	for i := range r.Conflicts {
		one, ok := fs.Open(&r.Conflicts[i]).Decided(fs.store, b)
		maps.Copy(d.Entries, one.Entries)
		d.Moves = append(d.Moves, one.Moves...)
		all = all && ok
	}
	return d, all, nil
}
