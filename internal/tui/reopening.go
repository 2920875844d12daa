package tui

import (
	"context"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// joinedFile is a file that joined by itself and is being read.
type joinedFile struct {
	*settleScreen
	path  string
	text  string              // the joined text
	sides merge.Three[string] // base, yours and theirs
	known bool                // all versions are text
	id    object.ID           // id of the content
	lines []plan.Line
}

// read shows a file of the joined tree.
func (s *settleScreen) read(path string) tea.Cmd {
	pos, tree := s.job.pos, s.job.join.Tree
	return s.job.start("reading "+path, func(context.Context, func(int, int)) (then, error) {
		f := &joinedFile{settleScreen: s, path: path}
		lines, ok, err := s.job.s.Planner.Lines(context.Background(), pos, tree, path)
		if err != nil {
			return nil, err
		}
		e, err := s.job.s.Planner.Store.Find(context.Background(), tree, path)
		if err != nil {
			return nil, err
		}
		if f.id = e.ID; ok {
			f.lines = lines
			if f.text, _, err = s.job.s.Planner.TextAt(context.Background(), tree, path); err == nil {
				f.sides, f.known, err = s.job.s.Planner.SidesOf(context.Background(), pos, path)
			}
		}
		return func() tea.Cmd { f.open(ok); return nil }, err
	})
}

func (f *joinedFile) open(ok bool) {
	title := term.Text(term.Plain, " ").Bold(term.Bright, f.path).Add(term.Dim,
		"   ").Mark(term.MarkYours).Add(term.Dim, "yours  ").
		Mark(term.MarkTheirs).Add(term.Dim, "theirs  ").Mark(term.MarkJoined).Add(term.Dim, "made in joining")
	if !ok {
		title = term.Text(term.Plain, " ").Bold(term.Bright, f.path)
		f.lines = []plan.Line{{Text: "This path holds no text in the joined result: it is binary, a link, or " +
			"deleted."}}
	}
	r := newReader(f.job.frame, title, f.lines, ok)
	r.more = f.more(r, ok)
	if ok {
		r.authors = func() tea.Cmd { return openJoinedLines(f.job, f.path) }
	}
	f.settleScreen.job.frame.open(r)
}

// more returns the actions on the file.
func (f *joinedFile) more(r *reader, ok bool) []action {
	does := "it is read"
	if f.nextUnread() != "" {
		does = "mark as read; the next"
	}
	out := []action{acts(keys.Next, does, f.markRead)}
	holder, writable := f.job.writable()
	if !ok || !writable {
		return out
	}
	if f.known && f.sides.Yours != f.sides.Theirs {
		out = append(out, acts(keys.Take, "reopen it, edit by edit", func() tea.Cmd { return f.reopen(holder) }))
	}
	return append(out, acts(keys.Write, "write in it", func() tea.Cmd { return f.write(r, holder) }))
}

// contested returns the file with its conflicts, or nil if it has none.
func (f *joinedFile) contested() *settle.File {
	for _, q := range f.job.questions {
		if q.File.Path == f.path && q.File.Text != nil {
			return q.File
		}
	}
	return nil
}

// isRead reports whether this content of the file was read.
func (s *settleScreen) isRead(path string) bool {
	was, ok := s.job.st.Read[path]
	if !ok {
		return false
	}
	e, err := s.job.s.Planner.Store.Find(context.Background(), s.job.join.Tree, path)
	return err == nil && e.ID == was
}

// nextUnread returns the next unread file that joined by itself, or "".
func (f *joinedFile) nextUnread() string {
	at := 0
	for i, o := range f.job.joinedAlone {
		if o.file.Path == f.path {
			at = i
		}
	}
	n := len(f.job.joinedAlone)
	for i := 1; i < n; i++ {
		if o := f.job.joinedAlone[(at+i)%n].file; !f.isRead(o.Path) {
			return o.Path
		}
	}
	return ""
}

// markRead records that the file was read, and goes to the next one.
func (f *joinedFile) markRead() tea.Cmd {
	next := f.nextUnread()
	if err := f.job.s.Ledger.MarkRead(f.path, f.id); err != nil {
		f.job.flash = term.Warning(words.Sentence(err.Error()))
		return nil
	}
	f.job.st = f.job.s.Ledger.State()
	f.job.close()
	if l := f.listed(); l != nil {
		for i, o := range f.job.joinedAlone {
			if o.file.Path == next {
				l.moveTo(len(f.job.questions) + i)
			}
		}
	}
	if next == "" {
		f.job.flash = term.Done("All that joined by itself was read.")
		return nil
	}
	return f.read(next)
}

// reopen shows the single edits of both sides. Each can be left out, although the file joined.
func (f *joinedFile) reopen(holder string) tea.Cmd {
	board := settle.NewBoard(f.sides.Base, f.sides.Yours, f.sides.Theirs)
	if !board.Start(f.text) {
		f.job.flash = term.Warning("This file holds more than the edits of both sides: something was mended, " +
			"written or moved " +
			"in it. w writes in it.")
		return nil
	}
	t := &taking{frame: f.job.frame, board: board, start: f.text, keeps: "apply", first: 1, from: 1,
		title: term.Text(term.Plain, " ").Bold(term.Bright, f.path).Add(term.Dim,
			"  what you change becomes part of "+holder),
		keep: func(text string) tea.Cmd { return f.mend(text, holder) }}
	t.show()
	return nil
}

// write opens the editor on the whole file at the present line.
func (f *joinedFile) write(r *reader, holder string) tea.Cmd {
	ed := term.NewEditor(f.text, 1)
	ed.GoTo(r.here()+1, 1)
	title := term.Text(term.Plain, " ").Bold(term.Bright, f.path).Add(term.Dim,
		"  what you write becomes part of "+holder)
	f.job.frame.open(&writing{frame: f.job.frame, ed: ed, name: f.path, own: f.job.s.Repo.Editor, from: 1,
		board:  settle.NewBoard(f.sides.Base, f.sides.Yours, f.sides.Theirs),
		around: func(w, h int) term.Page { return append(term.Page{title.Cut(w), nil}, ed.View(w, h-2)...) },
		save:   func(text string) tea.Cmd { return f.mend(text, holder) }})
	return nil
}

// mend replaces the text of the file.
func (f *joinedFile) mend(text, holder string) tea.Cmd {
	if text == f.text {
		f.job.flash = term.Text(term.Plain, "Nothing was changed.")
		return nil
	}
	w := wholeFile{job: f.job, path: f.path, holder: holder}
	was := f.text
	if file := f.contested(); file != nil {
		choose := file.ChosenBy(&f.job.st.Decisions)
		asked := file.Join(choose) // as it is where it is asked about, which later commits may change
		if there, ok := merge.Merge3(diff.Lines(f.text), diff.Lines(text), diff.Lines(asked)).Clean(); ok {
			w.file, w.choose, was, text = file, choose, asked, there
		}
	}
	at := f.at
	return w.keep(was, text, nil, func() tea.Cmd {
		f.job.goTo(f.settleScreen)
		return f.turnTo(max(0, min(at, len(f.job.questions)-1)))
	})
}
