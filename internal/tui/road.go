package tui

import (
	"context"
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// roadScreen is the road of a rebase: your commits in order, their states, and what can happen to each.
type roadScreen struct {
	fromSettle bool // the screen covers Settle
	job        *job
	besides
	list    list // list of the commits
	way     int  // marked way of the current commit
	costs   map[requested]*plan.Cost
	changed bool
}

// requested is a commit and a possible outcome.
type requested struct {
	commit  object.ID
	request replay.Request
}

// outcome is one thing that can happen to a commit.
type outcome struct {
	name    string
	request replay.Request
}

// hasRoad reports whether commits of yours are being replayed and are not on the branch yet.
func (j *job) hasRoad() bool {
	return j.join != nil && j.join.Route == plan.Rebase && len(j.join.Steps) > 0 && !j.accepted()
}

// roadAction returns the key that opens the road, at the commit of a conflict if at is not nil.
func roadAction(j *job, at *plan.Attributed) []action {
	if !j.hasRoad() {
		return nil
	}
	return []action{acts(keys.Road, "", func() tea.Cmd { return openRoad(j, at) })}
}

// openRoad shows the road, at the commit of a conflict if at is not nil.
func openRoad(j *job, at *plan.Attributed) tea.Cmd {
	s := &roadScreen{job: j, besides: j.newBeside(), costs: map[requested]*plan.Cost{}}
	s.list = list{rows: func() int { return len(j.join.Steps) }, turned: s.turned}
	if s.fromSettle = at != nil; at != nil {
		for i := range j.join.Steps {
			if j.join.Steps[i].Commit.ID == j.join.Stops[at.Stop].Commit.ID {
				s.list.row = i
			}
		}
	}
	j.open(s)
	return s.list.to(s.list.row)
}

// step returns the marked commit.
func (s *roadScreen) step() *replay.Step { return &s.job.join.Steps[s.list.row] }

// fixed reports that git made the commit before it stopped, so that nothing else can happen to it.
func (s *roadScreen) fixed(i int) bool {
	r := s.job.pos.Resumes()
	return r != nil && i < len(r.Todo) && r.Todo[i].Stands
}

// outcomes returns the possible outcomes of a commit, including its present one.
func (s *roadScreen) outcomes(i int) (out []outcome) {
	if s.fixed(i) {
		return nil
	}
	st := &s.job.join.Steps[i]
	request := s.job.pos.Requests[st.Commit.ID]
	add := func(name string, w replay.Request) {
		w.Message, w.Edits = request.Message, request.Edits
		out = append(out, outcome{name, w})
	}
	if st.Outcome == replay.AlreadyThere || st.Outcome == replay.Emptied || request.Keep {
		add("not needed", replay.Request{})
		add("kept all the same", replay.Request{Keep: true})
		return out
	}
	add("replayed", replay.Request{})
	if st.CanLeave() {
		add("left out", replay.Request{Leave: true})
	}
	if request.Into || replay.CanGoInto(s.job.join.Steps, i) {
		add("part of the one before", replay.Request{Into: true})
	}
	return out
}

// is returns the present outcome of a commit.
func (s *roadScreen) is(i int) int {
	request := s.job.pos.Requests[s.job.join.Steps[i].Commit.ID]
	for k, f := range s.outcomes(i) {
		if f.request == request {
			return k
		}
	}
	return 0
}

// turned computes the costs of the marked commit's other outcomes in the background.
func (s *roadScreen) turned() tea.Cmd {
	s.way = s.is(s.list.row)
	var cmds []tea.Cmd
	for k, f := range s.outcomes(s.list.row) {
		key := requested{s.step().Commit.ID, f.request}
		if k == s.way || s.costs[key] != nil {
			continue
		}
		pos, st, join := s.job.pos, s.job.st, s.job.join
		cmds = append(cmds, s.besides.start(func(ctx context.Context) (then, error) {
			cost, err := s.job.s.Workspace.Cost(ctx, pos, &st, join, key.commit, key.request)
			return func() tea.Cmd {
				if s.job.join == join {
					s.costs[key] = cost
				}
				return nil
			}, err
		}))
	}
	return tea.Batch(cmds...)
}

func (s *roadScreen) actions() []action {
	var out []action
	switch outcomes := s.outcomes(s.list.row); {
	case s.way != s.is(s.list.row):
		out = append(out, acts(keys.Next, "apply", func() tea.Cmd { return s.take(outcomes[s.way].request) }))
	case s.asked(s.list.row) >= 0:
		out = append(out, acts(keys.Next, "go to its conflict", s.goToConflict))
	}
	n := len(s.outcomes(s.list.row))
	if n > 1 {
		out = append(out, act(keys.Written(keys.Digits[1], fmt.Sprintf("1–%d", n), ""), "mark an outcome",
			s.mark(0)))
	}
	for i := 1; i < n; i++ {
		out = append(out, also(keys.Digits[i+1], s.mark(i)))
	}
	if !s.step().Left() && !s.fixed(s.list.row) {
		out = append(out, acts(keys.Write, "write its message", func() tea.Cmd { return s.reword(false) }),
			acts(keys.List, "edit its files",
				s.editFiles))
	}
	out = append(out, s.list.keys("commit")...)
	return append(out, acts(keys.Back, "", s.leave), also(keys.Road, s.leave))
}

func (s *roadScreen) mark(way int) func() tea.Cmd { return quietly(func() { s.way = way }) }

// asked returns the first conflict of a commit, or a negative number.
func (s *roadScreen) asked(row int) int {
	first := -1
	for i := range s.job.questions {
		q := &s.job.questions[i]
		stop := s.job.join.Stops[q.Stop]
		if stop.Uncommitted || stop.Commit.ID != s.job.join.Steps[row].Commit.ID {
			continue
		}
		if first < 0 || q.Decision == nil && s.job.questions[first].Decision != nil {
			first = i
		}
	}
	return first
}

func (s *roadScreen) goToConflict() tea.Cmd {
	s.besides.stop()
	return s.job.nav.toSettle(s.asked(s.list.row))
}

// take applies the marked outcome and replays what follows.
func (s *roadScreen) take(request replay.Request) tea.Cmd {
	id, row, was := s.step().Commit.ID, s.list.row, s.job.join.Open
	return s.job.rejoin(func(to *recovery.Session) error { return to.Ledger.Request(id, request) }, func() tea.Cmd {
		s.changed, s.costs = true, map[requested]*plan.Cost{}
		what := "Replayed again from there: nothing more is asked."
		if more := s.job.join.Open - was; more > 0 {
			what = "Replayed again from there: " + words.Count(more, "more decision is", "more decisions are") + " " +
				"asked."
		}
		s.job.flash = term.Text(term.Plain, what)
		return s.list.to(row)
	})
}

// reword opens the editor on the new message of the marked commit; if a task is wanted, with the list of tasks.
func (s *roadScreen) reword(wanted bool) tea.Cmd {
	st := s.step()
	request := s.job.pos.Requests[st.Commit.ID]
	text := st.Message
	if text == "" {
		text = st.Commit.Text()
	}
	return message{text: text, of: "the new commit", file: "COMMIT_EDITMSG", status: s.status(),
		wanted: wanted,
		save: func(to string) tea.Cmd {
			request.Message = strings.TrimSpace(to)
			if request.Message == st.Commit.Text() {
				request.Message = ""
			}
			if request.Message != "" {
				request.Message += "\n"
			}
			return s.take(request)
		}}.write(s.job)
}

// editFiles lists the files that the marked commit changes, for editing in it.
func (s *roadScreen) editFiles() tea.Cmd {
	st, row := *s.step(), s.list.row
	return s.job.frame.start("reading its files", func(context.Context, func(int, int)) (then, error) {
		files, err := s.job.s.Planner.FilesOf(context.Background(), &st)
		return func() tea.Cmd {
			if len(files) == 0 {
				s.job.flash = term.Text(term.Plain, "This commit changes no text file.")
				return nil
			}
			if s.list.row = row; len(files) == 1 {
				return s.editFile(files[0])
			}
			s.job.open(&fileChoice{frame: s.job.frame, files: files, right: s.status(), chosen: s.editFile,
				rows: list{rows: func() int { return len(files) }}})
			return nil
		}, err
	})
}

// editFile opens the editor on a file in the state after the marked commit.
func (s *roadScreen) editFile(path string) tea.Cmd {
	st := s.step()
	request := s.job.pos.Requests[st.Commit.ID]
	text, ok, err := s.job.s.Planner.TextAfter(context.Background(), st, path)
	if err != nil || !ok {
		s.job.flash = term.Warning(path + " contains no text to edit.")
		return nil
	}
	ed := term.NewEditor(text, 1)
	title := term.Text(term.Plain, " ").Bold(term.Bright, path).Add(term.Dim,
		"  in “"+st.Commit.Subject()+"”; later commits are replayed on top of it")
	s.job.open(&writing{frame: s.job.frame, ed: ed, right: s.status(), name: path, own: s.job.s.Repo.Editor,
		around: func(w, h int) term.Page { return append(term.Page{title.Cut(w), nil}, ed.View(w, h-2)...) },
		save: func(to string) tea.Cmd {
			if to == text {
				s.job.flash = term.Text(term.Plain, "Nothing was changed.")
				return nil
			}
			request.Edits = request.Edits.With(merge.TextEdit{Path: path, Before: text, After: to})
			return s.take(request)
		}})
	return nil
}

// fileChoice selects one of several files.
type fileChoice struct {
	frame  *frame
	files  []string
	rows   list
	right  term.Line
	chosen func(path string) tea.Cmd
}

func (c *fileChoice) actions() []action {
	out := []action{acts(keys.Next, "edit it", func() tea.Cmd {
		c.frame.close()
		return c.chosen(c.files[c.rows.row])
	})}
	out = append(out, c.rows.keys("file")...)
	return append(out, act(keys.Back, "", quietly(c.frame.close)))
}

func (c *fileChoice) update(msg tea.Msg) tea.Cmd { return c.rows.update(msg) }

func (c *fileChoice) view(w, h int) term.Page {
	p := term.Page{nil}
	p.Head("ITS FILES", "  Which file should be edited in this commit?")
	p.Blank()
	rows := c.rows.on(nil, w)
	for _, name := range c.files {
		rows.item(term.Text(term.Plain, term.CutPath(name, w-6)))
	}
	return append(p, rows.window(h-len(p))...)
}

func (c *fileChoice) status() term.Line { return c.right }

func (c *fileChoice) remark() term.Line { return term.Text(term.Dim, "Nothing on disk changes yet.") }

// leave goes back or, if something changed, to what the change asks.
func (s *roadScreen) leave() tea.Cmd {
	s.besides.stop()
	s.job.close()
	switch {
	case !s.changed:
		return nil
	case s.job.join.Open > 0 || s.fromSettle && len(s.job.questions) > 0:
		return s.job.nav.toNextOpen()
	}
	return s.job.nav.joined()
}

func (s *roadScreen) update(msg tea.Msg) tea.Cmd {
	if way, ok := msg.(clickedWay); ok {
		s.way = int(way)
		return nil
	}
	return s.list.update(msg)
}

func (s *roadScreen) status() term.Line {
	return term.Text(term.Dim, fmt.Sprintf("%s of yours", s.job.say(words.Count(len(s.job.join.Steps), "commit",
		"commits"))))
}

func (s *roadScreen) remark() term.Line {
	return term.Text(term.Dim, "Nothing has been changed: your commits are as they are until you accept the result.")
}
