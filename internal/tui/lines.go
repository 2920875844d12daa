package tui

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/lookback"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// linesScreen lists the lines besides the current branch, with what each has that the branch lacks, and the reverse.
// Opened from Look, it selects the line that is joined. Opened from the history, it lists a line's commits.
type linesScreen struct {
	job   *job
	joins bool // opened from Look
	reads besides
	rows  list

	mu    sync.Mutex
	list  []lookback.Branching
	fresh news
	ended chan struct{} // closed when all were compared

	more   int
	done   bool
	chosen string // line that the branch was joined with last; empty if none
}

// compared is the message that more is known of some lines.
type compared struct{ of *linesScreen }

// openLines compares the lines and shows them.
func openLines(j *job, joins bool) tea.Cmd {
	s := &linesScreen{job: j, joins: joins, reads: j.newBeside(), fresh: newNews(),
		ended: make(chan struct{}), chosen: j.st.Usual[j.pos.Branch.Name].Name}
	s.rows.rows = func() int {
		if s.typed() {
			return len(s.lines()) + 1 // the last is for an address
		}
		return len(s.lines())
	}
	j.open(s)
	return tea.Batch(s.reads.start(func(ctx context.Context) (then, error) {
		defer close(s.ended)
		list, more, unread := s.job.s.History.Lines(ctx, joins)
		if len(list) == 0 && unread != nil {
			return nil, unread
		}
		first := 0
		if joins && len(list) > 0 {
			s.sort(list)
			if list[0].Line.Name != s.chosen && len(list) > 1 && list[1].Line.Name == s.chosen {
				first = 1
			}
		}
		s.put(func() { s.list, s.rows.row = list, first })
		err := s.job.s.History.Compare(ctx, list, func(i int, b lookback.Branching) {
			s.put(func() { s.list[i] = b })
		})
		return func() tea.Cmd {
			s.more, s.done = more, true
			if unread != nil {
				return s.job.failed(unread)
			}
			return nil
		}, err
	}), s.next())
}

// sort puts the upstream and the line that was joined last before the others.
func (s *linesScreen) sort(list []lookback.Branching) {
	rank := func(b lookback.Branching) int {
		switch b.Line.Tracking {
		case s.job.pos.Upstream().Branch.Tracking:
			return 0
		case s.job.st.Usual[s.job.pos.Branch.Name].Tracking:
			return 1
		}
		return 2
	}
	slices.SortStableFunc(list, func(x, y lookback.Branching) int { return rank(x) - rank(y) })
}

// put changes the rows and has the screen drawn.
func (s *linesScreen) put(change func()) {
	s.mu.Lock()
	change()
	s.mu.Unlock()
	s.fresh.tell()
}

// next waits until more is known.
func (s *linesScreen) next() tea.Cmd { return s.fresh.wait(compared{s}, s.ended) }

// lines returns what is known of the lines.
func (s *linesScreen) lines() []lookback.Branching {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.list)
}

// typed reports whether a line at an address can be joined with.
func (s *linesScreen) typed() bool { return s.joins && !s.job.pos.Branch.Linear }

// marked returns the line of the marked row. ok is false on the row for an address.
func (s *linesScreen) marked() (b lookback.Branching, ok bool) {
	list := s.lines()
	if s.rows.row >= len(list) {
		return b, false
	}
	return list[s.rows.row], true
}

func (s *linesScreen) actions() []action {
	var out []action
	b, ok := s.marked()
	commits := func() tea.Cmd { return openHistory(s.job, b.Line.Name) }
	switch {
	case ok && s.joins:
		out = append(out, acts(keys.Next, "join with it", func() tea.Cmd { return s.take(b.Line) }),
			act(keys.History, "its commits", commits))
	case ok:
		out = append(out, act(keys.Next, "its commits beside yours", commits))
	case s.typed():
		out = append(out, acts(keys.Next, "type an address", s.typeAddress))
	}
	out = append(out, s.rows.keys("line")...)
	return append(out, act(keys.Back, "", quietly(func() { s.reads.stop(); s.job.close() })))
}

// take selects the line that is joined, and looks at it.
func (s *linesScreen) take(line vcs.Line) tea.Cmd {
	return s.job.start("selecting "+line.Name, func(ctx context.Context, _ func(int, int)) (then, error) {
		if err := s.job.s.Lines.Take(ctx, &line); err != nil {
			return nil, err
		}
		return func() tea.Cmd {
			s.reads.stop()
			s.job.close()
			return s.job.nav.lookAgain(true)
		}, nil
	})
}

// typeAddress asks for the address of a repository that is no remote, and selects a branch of it.
func (s *linesScreen) typeAddress() tea.Cmd {
	f := &finding{screen: s, f: s.job.frame, label: "address",
		empty: term.Text(term.Dim, "such as https://HOST/PATH, HOST:PATH or a folder; then a blank and a branch"),
		says:  "Without a branch the usual one there is taken. Nothing is changed by asking it."}
	f.open("", act(keys.Next, "ask it", f.typed(func(said string) tea.Cmd {
		if strings.TrimSpace(said) == "" {
			return nil
		}
		return s.job.start("asking it", func(ctx context.Context, _ func(int, int)) (then, error) {
			line, err := s.job.s.Lines.Find(ctx, said)
			if err == nil {
				err = s.job.s.Lines.Fetch(ctx, line)
			}
			return func() tea.Cmd { return s.found(line) }, err
		})
	})))
	return nil
}

// found selects a line that was typed. A new address can be kept as a remote first.
func (s *linesScreen) found(line vcs.Line) tea.Cmd {
	if !strings.HasPrefix(line.Tracking, "refs/dorvik/") {
		return s.take(line)
	}
	name := recovery.RemoteNameFor(line.Remote)
	s.job.ask(term.Text(term.Plain, fmt.Sprintf("%s was fetched. Keep its address as the remote %s, too?", line.Name,
		name)), "keep it", func() tea.Cmd {
		return s.job.start("fetching "+name, func(ctx context.Context, _ func(int, int)) (then, error) {
			kept, err := s.job.s.Lines.KeepAsRemote(ctx, line, name)
			return func() tea.Cmd { return s.take(kept) }, err
		})
	}, func() tea.Cmd { return s.take(line) })
	return nil
}

func (s *linesScreen) update(msg tea.Msg) tea.Cmd {
	if msg, ok := msg.(compared); ok {
		if msg.of == s && !s.done {
			return s.next()
		}
		return nil
	}
	return s.rows.update(msg)
}

func (s *linesScreen) view(w, h int) term.Page {
	p := term.Page{nil, term.Text(term.Plain, " ").Then(term.Heading("LINES")).Add(term.Dim, "   to join "+
		s.job.branchName()+" with"), nil}
	if !s.joins {
		p[1] = term.Text(term.Plain, " ").Then(term.Heading("BRANCHES")).Add(term.Dim, "   beside the one you are on")
	}
	list := s.lines()
	if len(list) == 0 && !s.joins {
		p.Say(w, term.Text(term.Plain, words.If(s.done, "There is no other branch here.", "Comparing…")))
		return p
	}
	var below term.Page
	if s.joins {
		below = s.details(w)
	}
	rows := s.rows.on(nil, w)
	for _, b := range list {
		rows.item(s.line(b, w))
	}
	if s.typed() {
		rows.item(term.Text(term.Dim, "an address that no remote has…"))
	}
	if s.more > 0 {
		older := words.Count(s.more, "older branch, not compared", "older branches, not compared")
		rows.page.Row(term.Text(term.Dim, "    and "+older))
	}
	return append(append(p, rows.window(h-len(p)-len(below))...), below...)
}

// counted draws the number of commits that only one line has.
func counted(m term.Mark, n int, what string) term.Line {
	h := term.Plain
	if n == 0 {
		m.Hue, h = term.Faint, term.Faint
	}
	return term.Line{}.Mark(m).Add(h, fmt.Sprintf("%d %s", n, what)).Fit(25)
}

// line draws a line with what only it has and what it lacks.
func (s *linesScreen) line(b lookback.Branching, w int) term.Line {
	name := term.Text(term.Plain, b.Line.Name)
	switch {
	case b.Line.Tracking == s.job.pos.Upstream().Branch.Tracking:
		name = name.Add(term.Dim, "  upstream")
	case s.joins && b.Line.Name == s.chosen:
		name = name.Add(term.Dim, "  joined last")
	case strings.HasPrefix(b.Line.Tracking, "refs/tags/"):
		name = name.Add(term.Dim, "  tag")
	}
	l := name.Fit(max(24, w/4)).Add(term.Plain, "  ")
	switch {
	case b.Err != nil:
		return l.Mark(term.MarkWarning).Add(term.Dim, b.Err.Error())
	case !b.Counted:
		return l.Add(term.Faint, "…")
	case b.There == 0 && b.Here == 0:
		return l.Add(term.Dim, "the same commits")
	}
	l = l.Then(counted(term.MarkTheirs, b.There, "there, not here")).Then(counted(term.MarkYours, b.Here,
		"here, not there"))
	if b.There > 0 && b.Same == b.There {
		return l.Add(term.Joined, "joined: all its changes are here")
	}
	if b.Same > 0 {
		l = l.Add(term.Joined, words.Count(b.Same, "same change", "same changes")+"   ")
	}
	if b.Asks > 0 {
		l = l.Add(term.Trouble, words.Count(len(b.Clashes), "file collides", "files collide")+"   ")
	}
	if b.There > 0 && !s.joins {
		l = l.Add(term.Dim, "by "+words.List(words.Some(b.By, 2)))
	}
	return l
}

// details describes the marked line in sentences: what joining it would bring and ask, and how old that is.
func (s *linesScreen) details(w int) term.Page {
	p := term.Page{term.Rule(w)}
	b, ok := s.marked()
	if !ok {
		p.Say(w, term.Text(term.Plain, "The branch of another repository, such as the project that a fork came from. "+
			"It is fetched without adding a remote."))
		return p
	}
	p.Say(w, term.Text(term.Plain, s.brings(b)))
	last := b.Last.Author()
	text := fmt.Sprintf("%s wrote there last, %s: “%s”.", last.Name, words.Ago(s.job.now(), last.Time()),
		b.Last.Subject())
	switch {
	case b.Line.Remote != "" && !b.Known.IsZero():
		text += fmt.Sprintf(" %s was asked %s; f on Look asks again.", b.Line.Remote, words.Ago(s.job.now(), b.Known))
	case b.Behind > 0:
		text += fmt.Sprintf(" It is a branch here, and lacks %s of %s.", words.Count(b.Behind, "commit", "commits"),
			b.Upstream)
	case b.Ahead > 0:
		text += fmt.Sprintf(" It is a branch here, with %s that %s not on %s.",
			words.Count(b.Ahead, "commit", "commits"),
			words.Is(b.Ahead, "is", "are"), b.Upstream)
	}
	p.Say(w, term.Text(term.Dim, text))
	return p
}

// brings describes what joining a line would bring and ask.
func (s *linesScreen) brings(b lookback.Branching) string {
	switch {
	case b.Err != nil:
		return "It could not be compared: " + b.Err.Error() + "."
	case !b.Counted:
		return "Comparing…"
	case b.There == 0:
		return fmt.Sprintf("Your branch has everything that %s has.", b.Line.Name)
	}
	text := fmt.Sprintf("Joining %s brings %s by %s", b.Line.Name, s.job.say(words.Count(b.There, "commit", "commits")),
		words.List(words.Some(b.By, 3)))
	switch {
	case !b.Joined:
		return text + "."
	case b.Here == 0:
		return text + ": your branch moves forward."
	case b.Same == b.There:
		return fmt.Sprintf("All changes of %s are in your branch already, in commits of their own.", b.Line.Name)
	case b.Asks > 0:
		return text + fmt.Sprintf(", and asks %s in %s.", words.Count(b.Asks, "decision", "decisions"),
			words.List(words.Some(b.Clashes, 3)))
	}
	return text + ", and asks nothing."
}

func (s *linesScreen) status() term.Line {
	if !s.joins {
		return term.Text(term.Dim, words.Count(len(s.lines()), "branch", "branches"))
	}
	return term.Text(term.Dim, words.Count(len(s.lines()), "line", "lines"))
}

func (s *linesScreen) remark() term.Line {
	if s.joins {
		return term.Text(term.Dim,
			"The line you take is the other side of the whole recovery. It is not changed itself.")
	}
	return term.Text(term.Dim,
		"Enter lists a branch's commits; those that are not here by their change can be marked and picked.")
}
