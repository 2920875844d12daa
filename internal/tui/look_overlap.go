package tui

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// overlapPage lists the files that both sides touched, uncommitted work, and whom to ask.
func (s *lookScreen) overlapPage(w int) term.Page {
	var p term.Page
	switch s.job.pos.Trivial() {
	case plan.NotTrivial:
		s.overlaps(&p, w)
	case plan.FastForward:
		p = term.Page{term.Heading("NO OVERLAP"), nil}
		p.Rows(term.Wrap(term.Text(term.Plain, "You changed nothing that is not pushed, so nothing can conflict."), w))
	}
	s.held(&p, w, 0)
	s.uncommitted(&p, w, 0)
	s.whoToAsk(&p)
	return p
}

func (s *lookScreen) overlaps(p *term.Page, w int) {
	head, right := term.Heading("OVERLAP"), term.Text(term.Dim, "changed lines ")
	if what := term.Text(term.Dim, "  file by file"); head.Width()+what.Width()+right.Width() < w {
		head = head.Then(what)
	}
	p.Row(head.Flush(right, w))
	p.Blank()
	s.overlapRows(p, w)
	decide := 0
	for _, o := range s.job.overlap {
		if o.Decide {
			decide++
		}
	}
	p.Blank()
	alone := words.Count(len(s.job.overlap)-decide, "joins by itself", "join by themselves")
	if decide == 0 {
		p.Rows(term.Wrap(term.Text(term.Joined, fmt.Sprintf("No file needs a decision; %s.", alone)), w))
	} else {
		p.Rows(term.Wrap(term.Line{}.Bold(term.Trouble, words.Count(decide, "file", "files")).
			Add(term.Plain, " will need a decision; ").Add(term.Joined, alone+"."), w))
	}
	s.remarks(p, s.job.plan.Asking(), w)
	unfit := s.job.plan.Asking().Untold(s.job.misfits[s.job.plan.Asking().Route])
	if len(unfit) == 0 && s.job.foreseeing != nil {
		p.Blank()
		p.Row(term.Text(term.Dim, stillLooking))
	}
	if len(unfit) > 0 {
		p.Blank()
		p.Row(term.Heading("MAY NOT WORK TOGETHER").Add(term.Dim, "  though the texts join"))
		p.Blank()
		p.Rows(misfitRows(s.job, unfit, nil, w, 3))
	}
}

// stillLooking stands in place of misfits while they are searched.
const stillLooking = "Still looking for edits that will not work together…"

// remarks lists remarks about the join.
func (s *lookScreen) remarks(p *term.Page, j *plan.Join, w int) {
	const most = 4
	all := j.Remarks()
	for i, n := range all {
		if i == most {
			p.Row(term.Text(term.Dim, "▲ and "+words.Count(len(all)-most, "remark",
				"remarks")+" more; dorvik plan lists them."))
			return
		}
		l := term.Line{}.Mark(term.MarkWarning)
		said, ok := strings.CutPrefix(words.Remark(n), n.Path)
		if ok {
			l = l.Add(term.Bright, n.Path)
		}
		p.Rows(term.Wrap(l.Add(term.Plain, said), w))
	}
}

func (s *lookScreen) overlapRows(p *term.Page, w int) {
	const most = 14
	shown := s.job.overlap
	if len(shown) > most+1 {
		shown = shown[:most]
	}
	name, top, kind := 12, 1, 0
	for _, o := range shown {
		kind = max(kind, s.kind(o).Width())
		name = max(name, len(o.Path))
		top = max(top, o.Yours, o.Theirs)
	}
	bar := max(4, min(20, (w-name-kind-6)/2)) // width for each side, in cells
	name = min(name, w-2*bar-kind-6)
	p.Row(term.Text(term.Plain, strings.Repeat(" ", name+2+bar-7)).Add(term.Yours,
		"yours "+term.MarkYours.Sign).Add(term.Faint, "│").
		Add(term.Theirs, term.MarkTheirs.Sign+" theirs"))
	p.Blank()
	for _, o := range shown {
		h := term.Plain
		if o.Kind == plan.OnlyYours || o.Kind == plan.OnlyTheirs {
			h = term.Dim
		}
		y, t := length(o.Yours, o.YoursWhole, top, bar), length(o.Theirs, o.TheirsWhole, top, bar)
		l := term.Text(h, term.CutPath(o.Path, name)).Fit(name+2).
			Add(term.Plain, strings.Repeat(" ", bar-y)).Add(term.Yours, strings.Repeat("█", y)).Add(term.Faint, "│").
			Add(term.Theirs, strings.Repeat("█", t)).Add(term.Plain, strings.Repeat(" ", bar-t+2))
		p.Row(l.Then(s.kind(o)))
	}
	if more := len(s.job.overlap) - len(shown); more > 0 {
		p.Row(term.Text(term.Dim, words.Count(more, "more file", "more files")))
	}
}

// kind describes how both sides met in a file.
func (s *lookScreen) kind(o plan.Overlap) term.Line {
	word, h := string(o.Kind), term.Plain
	switch o.Kind {
	case plan.SameChange:
		h = term.Joined
	case plan.OnlyYours:
		word, h = "only you", term.Dim
	case plan.OnlyTheirs:
		word, h = "only them", term.Dim
		if o.Author != "" {
			word = "only " + words.First(o.Author)
		}
	}
	if o.From != "" {
		word = "changed and renamed"
	}
	if o.Conflict != "" {
		word = cmp.Or(words.HintOf(o.Conflict, false), word)
	}
	if o.Decide {
		h = term.Trouble
	}
	return term.Text(h, word)
}

// length returns the length of a bar, at least one cell for any change.
func length(n int, whole bool, top, most int) int {
	if n == 0 && !whole {
		return 0
	}
	return max(1, n*most/top)
}

// held lists locks: first those that stop what you changed.
func (s *lookScreen) held(p *term.Page, w, in int) {
	const most = 5
	stopping, rest := s.job.locks.Sentences(s.job.now())
	if len(stopping)+len(rest) == 0 {
		return
	}
	if len(*p) > 0 {
		p.Blank()
	}
	q := term.Page{term.Heading("LOCKS")}
	for _, text := range stopping {
		q.Rows(term.Wrap(term.Warning(text), w))
	}
	for i, text := range rest {
		if i == most {
			q.Row(term.Text(term.Dim, words.Count(len(rest)-i, "other lock", "other locks")))
			break
		}
		q.Rows(term.Wrap(term.Text(term.Dim, text), w))
	}
	p.Rows(term.Indent(q, in))
}

func (s *lookScreen) uncommitted(p *term.Page, w, in int) {
	if len(s.job.pos.Dirty) == 0 {
		return
	}
	var paths []string
	for _, d := range s.job.pos.Dirty {
		paths = append(paths, d.Path)
	}
	if len(*p) > 0 {
		p.Blank()
	}
	head, does := "NOT COMMITTED YET", " The comma key commits it."
	if s.job.pos.Branch.Linear {
		head, does = "IN NO CHANGE LIST", " The comma key puts it into one."
	}
	q := term.Page{term.Heading(head)}
	l := term.Text(term.Plain, words.List(words.Some(paths, 3))+". ")
	if s.job.inWay == nil && !s.job.pos.NothingToDo() && s.job.pos.Trivial() != plan.UpToDate {
		l = l.Add(term.Dim, "This stays exactly as it is: the join does not touch "+words.Is(len(paths), "that file",
			"those files")+".")
	}
	l = l.Add(term.Dim, does)
	q.Rows(term.Wrap(l, w))
	p.Rows(term.Indent(q, in))
}

func (s *lookScreen) whoToAsk(p *term.Page) {
	if len(s.job.pos.Divergence.Theirs) == 0 || s.job.pos.Exchange != nil {
		return
	}
	p.Blank()
	p.Row(term.Heading("WHO TO ASK"))
	names := plan.Authors(s.job.pos.Divergence.Theirs)
	for i, name := range names {
		if i == 5 {
			p.Row(term.Text(term.Dim, "  and "+words.Count(len(names)-i, "other", "others")))
			break
		}
		mine := slices.DeleteFunc(slices.Clone(s.job.pos.Divergence.Theirs),
			func(n history.Node) bool { return n.Author().Name != name })
		p.Row(term.Line{}.Mark(term.MarkTheirs).Add(term.Plain, s.job.name(mine[0], merge.Theirs)).
			Add(term.Dim, words.If(mine[0].Author().Email != "", " "+mine[0].Author().Email, "")+fmt.Sprintf(", %s, %s",
				s.job.say(words.Count(len(mine), "commit", "commits")), s.job.age(mine[0]))))
	}
}
