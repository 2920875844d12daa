package tui

import (
	"context"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// message is the message of a commit that is about to be written.
type message struct {
	text, of string // of: what it is the message of, in words
	file     string // its name in the person's own editor
	says     string // the remark; empty for the usual one
	keeps    string // label of the key that keeps it; empty for the usual one
	status   term.Line
	save     func(text string) tea.Cmd
	wanted   bool // the list of tasks is opened over it at once
}

// write opens the editor on it.
func (m message) write(j *job) tea.Cmd {
	ed := term.NewEditor(strings.TrimRight(m.text, "\n"), 1)
	title := term.Text(term.Plain, " ").Bold(term.Bright, "ITS MESSAGE").Add(term.Dim,
		"  of "+m.of+"; the first line is its subject")
	e := &writing{frame: j.frame, ed: ed, right: m.status, name: m.file, own: j.s.Repo.Editor, says: m.says,
		keeps: m.keeps, save: m.save,
		around: func(w, h int) term.Page { return append(term.Page{title, nil}, ed.View(w, h-2)...) }}
	if !j.tasks.Listed {
		j.open(e)
		return nil
	}
	e.task = func() tea.Cmd { return openTasks(j, ed) }
	j.open(e)
	if !m.wanted {
		return nil
	}
	ed.GoTo(1, len(ed.Lines[0])+1)
	return e.task()
}

// tasksScreen picks a task from the list, for the message that is being written. What is typed narrows the list.
type tasksScreen struct {
	job  *job
	into *term.Editor // the message
	all  []recovery.Task
	seek *term.Editor
	rows list
}

// openTasks reads the list of tasks and shows it.
func openTasks(j *job, into *term.Editor) tea.Cmd {
	return j.start("reading the list of tasks", func(ctx context.Context, _ func(int, int)) (then, error) {
		all, err := j.s.Tasks.List(ctx)
		return func() tea.Cmd {
			if err != nil {
				j.flash = term.Warning(words.Sentence(err.Error()))
				return nil
			}
			s := &tasksScreen{job: j, into: into, all: all, seek: term.NewEditor("", 1)}
			s.rows.rows = func() int { return len(s.shown()) }
			j.open(s)
			return nil
		}, ctx.Err()
	})
}

// shown lists the tasks that have every typed word, in either case.
func (s *tasksScreen) shown() (out []recovery.Task) {
	typed := strings.Fields(strings.ToLower(s.seek.Text()))
	for _, t := range s.all {
		line, has := strings.ToLower(t.Sign+" "+t.Title), true
		for _, word := range typed {
			has = has && strings.Contains(line, word)
		}
		if has {
			out = append(out, t)
		}
	}
	return out
}

func (s *tasksScreen) actions() []action {
	var out []action
	if shown := s.shown(); len(shown) > 0 {
		out = append(out, act(keys.Next, "name this task", func() tea.Cmd { return s.take(shown[s.rows.row]) }))
		for _, a := range s.rows.keys("task") {
			if slices.Equal(a.Binding.Keys(), keys.PageDown.Keys()) {
				a.Binding = keys.PageDownOnly
			}
			out = append(out, a)
		}
	}
	return append(out, act(keys.Back, "name none", quietly(s.job.close)))
}

// take puts the task's sign where the message is being written.
func (s *tasksScreen) take(t recovery.Task) tea.Cmd {
	s.job.close()
	before, apart := s.into.Before(), ""
	switch {
	case before == "" || strings.HasSuffix(before, " "):
	case s.job.tasks.Form != "": // it has a line of its own
		apart = "\n\n"
	default:
		apart = " "
	}
	s.into.Insert(apart + s.job.tasks.Naming(t.Sign))
	return s.job.start("remembering the task", func(context.Context, func(int, int)) (then, error) {
		return nil, s.job.s.Tasks.Took(t.Sign)
	})
}

func (s *tasksScreen) unsaved() term.Line { return nil }

func (s *tasksScreen) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case tea.KeyPressMsg:
		s.seek.Key(msg)
		return s.rows.to(0)
	case tea.PasteMsg:
		s.seek.Paste(words.OneLine(msg.Content))
		return s.rows.to(0)
	}
	return s.rows.update(msg)
}

func (s *tasksScreen) view(w, h int) term.Page {
	shown := s.shown()
	p := term.Page{nil, term.Text(term.Plain, " ").Then(term.Heading("TASKS")).Add(term.Dim,
		"   for the message; type to narrow the list"), nil}
	typed := term.Text(term.Plain, " ").Bold(term.Bright, "find  ").Then(typedLine(s.seek))
	if s.seek.Text() == "" {
		typed = typed.Add(term.Dim, " a word of it")
	}
	p.Row(typed)
	p.Blank()
	if len(shown) == 0 {
		p.Say(w, term.Text(term.Plain, words.If(len(s.all) == 0, "The list is empty.", "No task has these words.")))
		return p
	}
	column := 8
	for _, t := range shown {
		column = max(column, term.Cells(t.Sign)+3)
	}
	column = min(column, w/3)
	rows := s.rows.on(nil, w)
	last := s.job.s.Ledger.State().LastTask
	for _, t := range shown {
		l := term.Text(term.Bright, t.Sign).Fit(column).Add(term.Plain, t.Title)
		if t.Sign == last {
			l = l.Add(term.Dim, "   taken last")
		}
		rows.item(l)
	}
	return append(p, rows.window(h-len(p))...)
}

func (s *tasksScreen) status() term.Line {
	return term.Text(term.Dim, words.Count(len(s.all), "task", "tasks"))
}

func (s *tasksScreen) remark() term.Line {
	return term.Text(term.Dim, "Its sign goes into the message where the cursor is.")
}
