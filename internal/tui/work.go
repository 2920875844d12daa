package tui

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// workScreen commits uncommitted work: what is staged, or chosen files and edits.
type workScreen struct {
	job    *job
	files  []vcs.Dirty
	taken  map[string]bool   // chosen files
	texts  map[string]string // of these, the ones of which only some edits are chosen: their text in the commit
	staged bool              // commit what is staged instead
	last   *history.Node     // the last commit, if it was never pushed
	amends bool              // add to it
	text   string            // message, as it was written last
	hints  bool              // the message has comments from a template
	rows   list
	skip   bool // skip hooks without consent
}

// workAction returns the key that commits uncommitted work, or none.
func workAction(j *job) []action {
	if len(j.pos.Dirty) == 0 && !j.pos.Branch.Ungroup || j.pos.Stuck != nil || j.pos.IsPick() {
		return nil
	}
	does := words.If(j.pos.Branch.Linear, "choose what is checked in", "commit your work")
	return []action{acts(keys.Commit, does, func() tea.Cmd { return openWork(j) })}
}

// openWork reads the uncommitted work and shows it.
func openWork(j *job) tea.Cmd {
	return j.start("reading your work", func(ctx context.Context, _ func(int, int)) (then, error) {
		if err := j.s.Commits.Begin(ctx); err != nil {
			return nil, err
		}
		files, err := j.s.Commits.Changed(ctx)
		if err != nil {
			return nil, err
		}
		last, err := j.s.Commits.LastUnpushed(ctx)
		if err != nil {
			return nil, err
		}
		text, err := j.s.Commits.Template(ctx)
		if err != nil {
			return nil, err
		}
		return func() tea.Cmd {
			s := &workScreen{job: j, files: files, last: last, text: text, hints: text != "", taken: map[string]bool{},
				texts: map[string]string{}}
			for _, f := range files {
				s.taken[f.Path] = !f.Untracked
				s.staged = s.staged || f.Staged
			}
			s.rows.rows = func() int { return len(s.files) }
			j.open(s)
			return nil
		}, nil
	})
}

// linear reports whether the system has change lists in the place of commits that are not pushed.
func (s *workScreen) linear() bool { return s.job.pos.Branch.Linear }

// said puts a label about commits into the words of the system.
func (s *workScreen) said(label string) string {
	if s.linear() {
		return strings.ReplaceAll(label, "commit", "change list")
	}
	return label
}

func (s *workScreen) anyStaged() bool {
	return slices.ContainsFunc(s.files, func(f vcs.Dirty) bool { return f.Staged })
}

// chosen returns the paths that are committed.
func (s *workScreen) chosen() (paths []string) {
	for _, f := range s.files {
		if s.taken[f.Path] {
			paths = append(paths, f.Path)
		}
	}
	return paths
}

func (s *workScreen) actions() []action {
	var out []action
	if s.staged || len(s.chosen()) > 0 {
		out = append(out, acts(keys.Next, "write its message", s.write))
	}
	if len(s.files) > 0 {
		f := s.files[s.rows.row]
		out = append(out, act(keys.Take, words.If(s.taken[f.Path] && !s.staged, "leave this file", "take this file"),
			quietly(func() { s.toggle(f.Path) })))
		if !f.Untracked {
			out = append(out, acts(keys.Views, "choose single edits", func() tea.Cmd { return s.edits(f.Path) }))
		}
	}
	if s.anyStaged() {
		other := words.If(s.staged, "the marked files", "what is staged")
		out = append(out, act(keys.Written(keys.Left, "←→", ""), other,
			quietly(s.switchStaged)), also(keys.Right, quietly(s.switchStaged)))
	}
	if s.last != nil {
		out = append(out, act(keys.Following, s.said(words.If(s.amends, "as a new commit", "into the last commit")),
			quietly(func() { s.amends = !s.amends })))
	}
	out = append(out, s.rows.keys("file")...)
	return append(out, act(keys.Back, "", s.leave))
}

// leave closes the screen without a commit.
func (s *workScreen) leave() tea.Cmd {
	return s.job.start("reading your work", func(ctx context.Context, _ func(int, int)) (then, error) {
		err := s.job.s.Commits.End(ctx)
		return func() tea.Cmd { s.job.close(); return nil }, err
	})
}

// toggle takes a file as a whole, or leaves it.
func (s *workScreen) toggle(path string) {
	s.taken[path] = s.staged || !s.taken[path]
	s.staged = false
	delete(s.texts, path)
}

func (s *workScreen) switchStaged() { s.staged = !s.staged }

// edits opens the single edits of a file, each of which can be taken or left.
func (s *workScreen) edits(path string) tea.Cmd {
	return s.job.start("reading "+path, func(ctx context.Context, _ func(int, int)) (then, error) {
		was, is, ok, err := s.job.s.Commits.Texts(ctx, path)
		return func() tea.Cmd {
			if !ok {
				s.job.flash = term.Warning(path + " is no text on both sides; take or leave it as a whole.")
				return nil
			}
			board := settle.NewBoard(was, is, was)
			if text, some := s.texts[path]; !some || !board.Start(text) {
				board.Take(true, false)
			}
			t := &taking{frame: s.job.frame, board: board, title: term.Text(term.Plain, " ").Bold(term.Bright, path).
				Add(term.Dim, "  your edits since "+words.If(s.linear(), "it was checked out", "the last commit")),
				right: s.status(), keeps: words.If(s.linear(), "take these", "commit these"),
				first: 1, from: 1, keep: func(text string) tea.Cmd {
					s.staged = false
					if s.taken[path] = text != was; text == is {
						delete(s.texts, path)
					} else {
						s.texts[path] = text
					}
					return nil
				}}
			t.show()
			return nil
		}, err
	})
}

// write opens the message.
func (s *workScreen) write() tea.Cmd {
	text := s.text
	if s.amends && strings.TrimSpace(text) == "" {
		text = s.last.Text()
	}
	of, keeps := "the new commit", "commit"
	says := keys.Save.Help().Key + " commits. No file changes, and undo takes the commit back."
	if s.linear() {
		of, keeps = "the new change list", "make it"
		says = keys.Save.Help().Key + " makes a change list of it. No file changes, and undo takes it back."
	}
	return message{text: text, of: of, file: "COMMIT_EDITMSG", status: s.status(), keeps: keeps,
		wanted: s.job.tasks.Wanted && strings.TrimSpace(text) == "", says: says,
		save: func(text string) tea.Cmd { s.text = text; return s.make() }}.write(s.job)
}

// make makes the commit.
func (s *workScreen) make() tea.Cmd {
	d := recovery.Draft{Staged: s.staged, Message: s.text, Commented: s.hints, Amends: s.amends}
	if !s.staged {
		d.Paths, d.Texts = s.chosen(), s.texts
	}
	return s.job.startVital("committing", func(ctx context.Context, _ func(int, int)) (then, error) {
		wp, err := s.job.s.Commits.Make(ctx, d, change.Consent{WithoutHooks: s.skip})
		var asks *change.HooksError
		var blocked *plan.Blocked
		var hook *vcs.HookError
		switch {
		case errors.As(err, &asks):
			return func() tea.Cmd {
				s.skip = true
				s.job.flash = term.Warning(asks.Error() + ". Commit again to go on without them.")
				return nil
			}, nil
		case errors.As(err, &blocked), errors.As(err, &hook):
			return func() tea.Cmd { s.job.flash = term.Warning(words.Sentence(err.Error())); return nil }, nil
		case err != nil:
			return nil, err
		}
		return func() tea.Cmd {
			s.job.changed = true
			s.job.close()
			cmd := s.job.nav.lookAgain(false)
			s.job.flash = term.Done(fmt.Sprintf("Committed: %s is at %s. l, then u takes it back.", wp.Branch,
				s.job.s.Planner.Short(wp.After)))
			if s.linear() {
				s.job.flash = term.Done(
					"It is a change list, and goes with the next check-in. l, then u takes it back.")
			}
			return cmd
		}, nil
	})
}

func (s *workScreen) update(msg tea.Msg) tea.Cmd { return s.rows.update(msg) }

func (s *workScreen) view(w, h int) term.Page {
	p := term.Page{nil}
	what := words.If(s.staged, "what is staged", "the marked files, as they are now")
	head, into := "COMMIT", words.If(s.amends, ", into the last commit", ", as a new commit")
	if s.linear() {
		head, into = "WHAT GOES TOGETHER", words.If(s.amends, ", into the last change list", ", as a change list")
	}
	p.Head(head, "  "+what+into)
	p.Blank()
	if s.amends {
		if !s.linear() {
			p.Say(w, term.Text(term.Dim,
				"The last commit, “"+s.last.Subject()+"”, was never pushed; it gets a new id."))
		}
		p.Blank()
	}
	rows := s.rows.on(nil, w)
	for _, f := range s.files {
		rows.item(s.row(f, w))
	}
	return append(p, rows.window(h-len(p))...)
}

// row draws a file with what becomes of it.
func (s *workScreen) row(f vcs.Dirty, w int) term.Line {
	in := s.taken[f.Path]
	if s.staged {
		in = f.Staged
	}
	l := term.Line{}
	if in {
		l = l.Mark(term.MarkSettled)
	} else {
		l = l.Add(term.Faint, "· ")
	}
	l = l.Add(term.Plain, " "+term.CutPath(f.Path, w/2)).Fit(w * 55 / 100)
	_, some := s.texts[f.Path]
	switch {
	case in && some && !s.staged:
		l = l.Add(term.Yours, "some of its edits   ")
	case in && s.staged && f.Unstaged:
		l = l.Add(term.Yours, "as it is staged; later edits stay   ")
	}
	switch {
	case f.Untracked:
		return l.Add(term.Dim, "new")
	case f.Staged && f.Unstaged:
		return l.Add(term.Dim, "staged, and edited since")
	case f.Staged:
		return l.Add(term.Dim, "staged")
	}
	return l.Add(term.Dim, "edited")
}

func (s *workScreen) status() term.Line {
	return term.Text(term.Dim, words.Count(len(s.files), "file", "files")+words.If(s.linear(), " in no change list",
		" not committed"))
}

func (s *workScreen) remark() term.Line {
	return term.Text(term.Dim, words.If(s.linear(), "What is in no change list stays here, and is not checked in.",
		"What is not committed stays as it is."))
}
