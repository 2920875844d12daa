package tui

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/core/annotate"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// annotateScreen shows the lines of a file, each with its author, date and commit. They arrive as they are found.
type annotateScreen struct {
	job    *job
	reads  besides
	commit object.ID
	path   string
	joined bool            // the commit is the joined result, which does not exist yet
	from   *annotateScreen // the screen before going back in time

	text   []string
	words  [][]term.Tinted
	lines  []origin // origin of each line; without a commit until found
	nodes  map[object.ID]history.Node
	mine   map[object.ID]term.Mark // commits of the current recovery
	found  *findings
	done   bool
	list   list
	shares bool // show the list of authors instead of the text
}

// origin is the origin of a line.
type origin struct {
	commit object.ID
	path   string
	line   int
}

// findings is what the search found since the screen last took it.
type findings struct {
	mu    sync.Mutex
	list  []annotate.Found
	nodes []history.Node
	fresh news
	over  chan struct{}
}

// annotated is the message that there are new findings.
type annotated struct{ of *findings }

// openAnnotate annotates a file of a commit.
func openAnnotate(j *job, commit object.ID, path string) tea.Cmd {
	return j.annotateFrom(&annotateScreen{job: j, commit: commit, path: path})
}

// openJoinedLines annotates a file of the joined result.
func openJoinedLines(j *job, path string) tea.Cmd {
	b, pos, tree := j.newBeside(), j.pos, j.join.Tree
	return b.start(func(ctx context.Context) (then, error) {
		id, err := j.s.History.Preview(ctx, pos, tree)
		return func() tea.Cmd {
			return j.annotateFrom(&annotateScreen{job: j, commit: id, path: path, joined: true})
		}, err
	})
}

// annotateFrom fills in a screen that selects the lines, and opens it.
func (j *job) annotateFrom(s *annotateScreen) tea.Cmd {
	s.reads = j.newBeside()
	s.list.rows = func() int { return len(s.lines) }
	s.nodes, s.mine = map[object.ID]history.Node{}, map[object.ID]term.Mark{}
	s.found = &findings{fresh: newNews(), over: make(chan struct{})}
	pos, commit, path := j.pos, s.commit, s.path
	return s.reads.start(func(ctx context.Context) (then, error) {
		a, err := j.s.History.AnnotateCommit(ctx, commit, path)
		if err != nil {
			return nil, err
		}
		if pos != nil {
			yours, theirs, err := j.s.History.Sides(ctx, pos)
			if err != nil {
				return nil, err
			}
			for _, n := range yours {
				s.mine[n.ID] = term.MarkYours
			}
			for _, n := range theirs {
				s.mine[n.ID] = term.MarkTheirs
			}
		}
		tints := j.coder.Lines(path, strings.Join(a.Text, ""))
		return func() tea.Cmd {
			s.text, s.words, s.lines = a.Text, tints, make([]origin, len(a.Text))
			j.open(s)
			return tea.Batch(s.search(a), s.found.more())
		}, nil
	})
}

// search finds the origins in the background.
func (s *annotateScreen) search(a *annotate.Annotation) tea.Cmd {
	f := s.found
	return s.reads.start(func(ctx context.Context) (then, error) {
		defer close(f.over)
		var failed error
		err := a.Run(ctx, func(some []annotate.Found) {
			c, err := s.job.s.Planner.Store.Commit(ctx, some[0].Commit)
			if err != nil {
				failed = cmp.Or(failed, err)
				return
			}
			f.mu.Lock()
			f.list = append(f.list, some...)
			f.nodes = append(f.nodes, history.Node{ID: some[0].Commit, Commit: c})
			f.mu.Unlock()
			f.fresh.tell()
		})
		return func() tea.Cmd {
			s.take()
			s.done = true
			return nil
		}, cmp.Or(err, failed)
	})
}

// more waits for new findings.
func (f *findings) more() tea.Cmd { return f.fresh.wait(annotated{f}, f.over) }

// take shows the new findings.
func (s *annotateScreen) take() {
	s.found.mu.Lock()
	defer s.found.mu.Unlock()
	for _, f := range s.found.list {
		for k := range f.Count {
			s.lines[f.Line-1+k] = origin{f.Commit, f.Path, f.From + k}
		}
	}
	for _, n := range s.found.nodes {
		s.nodes[n.ID] = n
	}
	s.found.list, s.found.nodes = nil, nil
}

// here returns the origin of the marked line. ok is false until it is known.
func (s *annotateScreen) here() (o origin, n history.Node, ok bool) {
	if s.list.row >= len(s.lines) {
		return o, n, false
	}
	o = s.lines[s.list.row]
	n, ok = s.nodes[o.commit]
	return o, n, ok
}

func (s *annotateScreen) actions() []action {
	var out []action
	if o, n, ok := s.here(); ok {
		out = append(out, act(keys.Next, "look at its commit", func() tea.Cmd { return showCommit(s.job, n, nil) }))
		if len(n.Parents) > 0 {
			out = append(out, act(keys.Left, "the file before that", func() tea.Cmd { return s.before(o, n) }))
		}
	}
	if s.from != nil {
		out = append(out, also(keys.Right, quietly(s.leave)))
	}
	out = append(out, s.list.keys("line")...)
	out = append(out, act(keys.Following, "next commit", quietly(func() { s.turn(1) })),
		also(keys.Previous, quietly(func() { s.turn(-1) })))
	if s.job.w < wide {
		out = append(out, act(keys.Views, words.If(s.shares, "the lines", "the authors"),
			quietly(func() { s.shares = !s.shares })))
	}
	return append(out, act(keys.Back, "", quietly(s.leave)))
}

func (s *annotateScreen) leave() {
	s.reads.stop()
	s.job.close()
}

// before annotates the file as it was before the commit that added the marked line, at the same place.
func (s *annotateScreen) before(o origin, n history.Node) tea.Cmd {
	return s.reads.start(func(ctx context.Context) (then, error) {
		commit, path, err := s.job.s.History.FileBefore(ctx, n, o.path)
		if err != nil {
			return nil, err
		}
		if path == "" {
			return func() tea.Cmd {
				s.job.flash = term.Text(term.Plain, "The file was new in that commit: there is nothing before it.")
				return nil
			}, nil
		}
		return func() tea.Cmd {
			return s.job.annotateFrom(&annotateScreen{job: s.job, commit: commit, path: path, from: s})
		}, nil
	})
}

// turn goes to the first line of the next or previous run of one commit.
func (s *annotateScreen) turn(step int) {
	for i := s.list.row + step; i > 0 && i < len(s.lines); i += step {
		if s.lines[i].commit != s.lines[i-1].commit {
			s.list.to(i)
			return
		}
	}
	if step < 0 {
		s.list.to(0)
	}
}

func (s *annotateScreen) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case annotated:
		if msg.of != s.found {
			return nil
		}
		s.take()
		return s.found.more()
	}
	return s.list.update(msg)
}

const sharesWidth = 34

func (s *annotateScreen) view(w, h int) term.Page {
	as := "   as of " + s.job.s.Planner.Short(s.commit)
	if s.joined {
		as = "   as it is joined now"
	}
	p := term.Page{term.Text(term.Plain, " ").Bold(term.Bright, s.path).Add(term.Dim, as).Cut(w), nil}
	if len(s.lines) == 0 {
		p.Say(w, term.Text(term.Plain, "The file is empty."))
		return p
	}
	room := h - len(p)
	switch {
	case w >= wide:
		left := s.linesPage(w-sharesWidth-3, room)
		return append(p, term.Beside(left, s.sharesPage(sharesWidth), w-sharesWidth-3, w, room)...)
	case s.shares:
		return append(p, s.sharesPage(w)...)
	}
	return append(p, s.linesPage(w, room)...)
}

// linesPage draws the visible lines.
func (s *annotateScreen) linesPage(w, room int) (p term.Page) {
	s.list.scroll.Size(len(s.lines), room)
	s.list.scroll.Show(s.list.row)
	from := s.list.scroll.At()
	digits := len(itoa(len(s.lines)))
	who, name := 30, s.nameOf
	if w < 90 {
		who, name = 21, func(n history.Node) string { return words.First(s.nameOf(n)) }
	}
	for i := from; i < min(len(s.lines), from+room); i++ {
		o := s.lines[i]
		n, known := s.nodes[o.commit]
		l := term.Text(term.Bright, words.If(i == s.list.row, "▶", " "))
		first := i == from || s.lines[i-1].commit != o.commit
		m, mine := s.mine[o.commit]
		if !mine {
			m = term.Mark{Sign: " ", Hue: term.Faint}
		}
		switch {
		case !known:
			l = l.Add(term.Faint, "  …").Fit(who)
		case first:
			l = l.Mark(m).Then(term.Text(term.Plain, name(n)).Fit(who-14)).Add(term.Dim, " "+s.job.age(n)).Fit(who)
		default:
			l = l.Mark(term.Mark{Sign: words.If(mine, m.Sign, "┊"), Hue: m.Hue}).Fit(who)
		}
		l = l.Add(term.Faint, fmt.Sprintf(" %*d ", digits, i+1))
		var tint []term.Tinted
		if i < len(s.words) {
			tint = s.words[i]
		}
		l = term.Code(l, s.text[i], tint, nil, term.Ink{}).Cut(w)
		if i == s.list.row {
			l = l.Fit(w).On(term.OnRow)
		}
		p.Row(l.Clicks(clickedRow(i)))
	}
	return p
}

func (s *annotateScreen) nameOf(n history.Node) string {
	if s.job.me != "" && n.Author().Key() == s.job.me {
		return "you"
	}
	return n.Author().Name
}

// share is an author's part of the lines.
type share struct {
	name  string
	lines int
}

// sharesPage lists the authors with their parts, and whose lines of the recovery are here.
func (s *annotateScreen) sharesPage(w int) term.Page {
	var list []share
	at := map[string]int{}
	side := map[string]int{}
	for _, o := range s.lines {
		n, ok := s.nodes[o.commit]
		if !ok {
			continue
		}
		key := n.Author().Key()
		i, known := at[key]
		if !known {
			i = len(list)
			at[key], list = i, append(list, share{name: s.nameOf(n)})
		}
		list[i].lines++
		side[s.mine[o.commit].Sign]++
	}
	slices.SortStableFunc(list, func(a, b share) int { return cmp.Compare(b.lines, a.lines) })
	p := term.Page{term.Text(term.Plain, " ").Then(term.Heading("WHO WROTE IT")), nil}
	for i, a := range list {
		if i == 12 {
			p.Row(term.Text(term.Dim, fmt.Sprintf("  and %d more", len(list)-i)))
			break
		}
		part := float64(a.lines) / float64(len(s.lines))
		p.Row(term.Text(term.Plain, " ").Then(term.Text(term.Plain, a.name).Fit(w-18)).Add(term.Dim,
			fmt.Sprintf("%5d  %3.0f %%", a.lines,
				100*part)))
		p.Row(term.Text(term.Base, " "+strings.Repeat("━", max(1, int(part*float64(w-4))))))
	}
	if y, t := side[term.MarkYours.Sign], side[term.MarkTheirs.Sign]; y+t > 0 {
		p.Blank()
		p.Row(term.Text(term.Plain, " ").Then(term.Heading("SINCE THE LINES PARTED")))
		p.Blank()
		p.Row(term.Text(term.Plain, " ").Mark(term.MarkYours).Add(term.Plain,
			words.Count(y, "line", "lines")+" of yours"))
		p.Row(term.Text(term.Plain, " ").Mark(term.MarkTheirs).Add(term.Plain,
			words.Count(t, "line", "lines")+" of theirs"))
	}
	return p
}

func (s *annotateScreen) status() term.Line {
	if s.done {
		return term.Text(term.Dim, words.Count(len(s.lines), "line", "lines"))
	}
	n := 0
	for _, o := range s.lines {
		if !o.commit.IsZero() {
			n++
		}
	}
	return term.Text(term.Dim, fmt.Sprintf("%d of %s found", n, words.Count(len(s.lines), "line", "lines")))
}

func (s *annotateScreen) remark() term.Line {
	o, n, ok := s.here()
	if !ok {
		return term.Text(term.Dim, "Looking back through the history…")
	}
	l := term.Text(term.Plain, s.job.s.Planner.Short(n.ID)+"  ").Bold(term.Plain, n.Subject())
	if o.path != s.path || o.line != s.list.row+1 {
		l = l.Add(term.Dim, fmt.Sprintf("   there %s:%d", o.path, o.line))
	}
	return l
}
