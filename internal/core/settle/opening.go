package settle

import (
	"slices"
	"strings"
	"sync"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/format"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
)

// Open returns the questions of one contested path.
func Open(c *merge.Conflict) *File {
	f := &File{Path: c.Path, From: c.From(), Also: c.Also(), source: c}
	f.readable = sync.OnceValue(f.findReadable)
	switch s := c.Subject.(type) {
	case *merge.Lines:
		f.Text = s.Text
		f.openText(s)
		if s.Modes {
			f.Questions = append(f.Questions, versions(c.Path, merge.ModeBits, &merge.Versions{Base: s.Base,
				Yours: s.Yours, Theirs: s.Theirs}))
		}
	case *merge.Versions:
		f.Questions = []*Question{versions(c.Path, c.Kind, s)}
	case *merge.Clash:
		f.Questions = []*Question{clash(c, s)}
	case *merge.Naming:
		f.Questions = []*Question{naming(c, s)}
	}
	seen := map[Key]int{}
	for _, q := range f.Questions {
		q.Key = keyOf(q, seen)
		q.Sizes = merge.Three[int]{Base: -1, Yours: -1, Theirs: -1}
	}
	return f
}

// versions offers the version of each side and, if both can be kept, both.
func versions(path string, kind merge.ConflictKind, v *merge.Versions) *Question {
	q := &Question{Path: path, Kind: kind, Subject: v}
	take := func(w Way, entries map[string]object.Entry) {
		q.Ways = append(q.Ways, Option{Way: w, Effect: merge.Decided{Entries: entries}})
	}
	take(Yours, map[string]object.Entry{path: v.Yours})
	take(Theirs, map[string]object.Entry{path: v.Theirs})
	if v.Beside != "" {
		take(Both, map[string]object.Entry{path: v.Theirs, v.Beside: v.Yours})
	}
	if kind == merge.ModifyDelete || kind == merge.RenameDelete {
		q.Suggested = Yours // keep the file: it can still be deleted later
		if v.Yours.Absent() {
			q.Suggested = Theirs
		}
	}
	return q
}

// clash offers the file, the directory, and the directory with the file beside it.
func clash(c *merge.Conflict, s *merge.Clash) *Question {
	q := &Question{Path: c.Path, Kind: c.Kind, Subject: s}
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
		both.Effect = merge.Decided{Entries: map[string]object.Entry{c.Path: directory, s.Beside: file},
			Moves: s.Within}
		q.Ways = append(q.Ways, both)
	}
	return q
}

// naming offers the names that the sides want for a file.
func naming(c *merge.Conflict, n *merge.Naming) *Question {
	q := &Question{Path: c.Path, Kind: c.Kind, Subject: n, Ways: []Option{
		{Way: Yours, Effect: merge.Decided{Moves: n.Yours.Moves}},
		{Way: Theirs, Effect: merge.Decided{Moves: n.Theirs.Moves}}}}
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
	at := place{path: f.Path, text: f.Text, entries: format.EntriesOf(f.Path, f.Text)}
	if format.HasReader(f.Path) {
		for _, lines := range [][]string{f.Text.Base, f.Text.Yours, f.Text.Theirs} {
			f.wild = f.wild || !format.Tame(strings.Join(lines, ""))
		}
	}
	if f.wild {
		at.entries = nil
	}
	defer func() {
		for _, q := range f.Questions {
			q.Plain = f.wild
		}
	}()
	f.command, f.generated = madeBy(at)
	f.Text = wholeAdditions(wholeEntries(f.Text, at))
	f.ask(s, at)
	if t := f.oneThought(); t != nil {
		f.Text = t
		f.ask(s, at)
	}
	f.veto()
	f.offerWholly()
}

// ask makes the questions of the contested regions.
func (f *File) ask(s *merge.Lines, at place) {
	f.Questions = nil
	t, moves := f.Text, newMover(f)
	shared := func(i int) bool {
		return i >= 0 && i < len(t.Hunks) && t.Hunks[i].Origin == merge.FromBoth && t.Hunks[i].Base.Empty()
	}
	for i, r := range t.Hunks {
		if r.Origin != merge.Contested {
			continue
		}
		at.cut = shared(i-1) || shared(i+1)
		q := &Question{Path: f.Path, Kind: f.source.Kind, Subject: s, Place: r,
			Base:   strings.Join(t.Base[r.Base.Lo:r.Base.Hi], ""),
			Yours:  strings.Join(t.Yours[r.Yours.Lo:r.Yours.Hi], ""),
			Theirs: strings.Join(t.Theirs[r.Theirs.Lo:r.Theirs.Hi], "")}
		at.before, at.after, at.line = "", "", r.Yours.Lo-1
		if r.Yours.Lo > 0 {
			at.before = t.Yours[at.line]
		}
		if r.Yours.Hi < len(t.Yours) {
			at.after = t.Yours[r.Yours.Hi]
		}
		q.offer(at, moves)
		if f.generated {
			q.unsuggestMade(f.command)
		}
		f.Questions = append(f.Questions, q)
	}
}

// oneThought merges places that only signs and blanks separate, unless each has a suggestion, because such places are
// rarely decided separately. It returns nil if there are none.
func (f *File) oneThought() *merge.Text {
	const most = 3 // most lines between them
	t := f.Text
	out := *t
	out.Hunks = nil
	n, joined := 0, false
	suggested := false // whether the last conflict in out.Hunks has a suggestion
	for i := 0; i < len(t.Hunks); i++ {
		r := t.Hunks[i]
		if r.Origin != merge.Contested {
			out.Hunks = append(out.Hunks, r)
			continue
		}
		mine := f.Questions[n].Suggested != ""
		n++
		k := len(out.Hunks)
		if k >= 2 && out.Hunks[k-2].Origin == merge.Contested && !(mine && suggested) && f.onlySigns(out.Hunks[k-1],
			most) {
			whole := &out.Hunks[k-2]
			whole.Base.Hi, whole.Yours.Hi, whole.Theirs.Hi = r.Base.Hi, r.Yours.Hi, r.Theirs.Hi
			out.Hunks, joined, suggested = out.Hunks[:k-1], true, false
			continue
		}
		out.Hunks, suggested = append(out.Hunks, r), mine
	}
	if !joined {
		return nil
	}
	return &out
}

// onlySigns reports whether a region has few lines and no letter or digit.
func (f *File) onlySigns(r merge.Hunk, most int) bool {
	lines := f.Text.Lines(r)
	return len(lines) <= most && !slices.ContainsFunc(lines, func(l string) bool {
		return slices.ContainsFunc(diff.Words(l), diff.IsWord)
	})
}
