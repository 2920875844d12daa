package tui

import (
	"fmt"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/words"
)

// overlapPage shows file by file what both sides touched, uncommitted work, and
// who to ask.
func (s *lookScreen) overlapPage(w int) page {
	var p page
	switch s.pos.Trivial() {
	case plan.NotTrivial:
		s.overlaps(&p, w)
	case plan.FastForward:
		p = page{heading("NO OVERLAP"), nil}
		p.rows(wrap(txt(plain, "You changed nothing that is not pushed, so nothing can conflict."), w))
	}
	s.uncommitted(&p, w, 0)
	s.whoToAsk(&p)
	return p
}

func (s *lookScreen) overlaps(p *page, w int) {
	head, right := heading("OVERLAP"), txt(dim, "changed lines ")
	if what := txt(dim, "  file by file"); head.width()+what.width()+right.width() < w {
		head = head.then(what)
	}
	p.row(head.flush(right, w))
	p.blank()
	s.overlapRows(p, w)
	decide := 0
	for _, o := range s.overlap {
		if o.Decide {
			decide++
		}
	}
	p.blank()
	alone := words.Count(len(s.overlap)-decide, "joins by itself", "join by themselves")
	if decide == 0 {
		p.rows(wrap(txt(joined, fmt.Sprintf("No file needs a decision; %s.", alone)), w))
	} else {
		p.rows(wrap(line{}.bold(trouble, words.Count(decide, "file", "files")).
			add(plain, " will need a decision; ").add(joined, alone+"."), w))
	}
	s.remarks(p, s.plan.Asking(), w)
	unfit := s.misfits[s.plan.Asking().Route]
	if len(unfit) == 0 && s.foreseeing != nil {
		p.blank()
		p.row(txt(dim, stillLooking))
	}
	if len(unfit) > 0 {
		p.blank()
		p.row(heading("MAY NOT WORK TOGETHER").add(dim, "  though the texts join"))
		p.blank()
		p.rows(s.misfitRows(unfit, nil, w, 3))
	}
}

// stillLooking stands where edits that will not work together would.
const stillLooking = "Still looking for edits that will not work together…"

// remarks tells what should be known of a join though it asks nothing.
func (s *lookScreen) remarks(p *page, j *plan.Join, w int) {
	const most = 4
	all := j.Remarks()
	for i, n := range all {
		if i == most {
			p.row(txt(dim, "▲ and "+words.Count(len(all)-most, "remark", "remarks")+" more; dorvik plan lists them."))
			return
		}
		l := line{}.mark(markWarning)
		said, ok := strings.CutPrefix(words.Remark(n), n.Path)
		if ok {
			l = l.add(bright, n.Path)
		}
		p.rows(wrap(l.add(plain, said), w))
	}
}

func (s *lookScreen) overlapRows(p *page, w int) {
	const most = 14
	shown := s.overlap
	if len(shown) > most+1 {
		shown = shown[:most]
	}
	name, top, kind := 12, 1, 0
	for _, o := range shown {
		kind = max(kind, s.kind(o).width())
		name = max(name, len(o.Path))
		top = max(top, o.Yours, o.Theirs)
	}
	bar := max(4, min(20, (w-name-kind-6)/2)) // of each side, in cells
	name = min(name, w-2*bar-kind-6)
	p.row(txt(plain, strings.Repeat(" ", name+2+bar-7)).add(yours, "yours "+markYours.sign).add(faint, "│").
		add(theirs, markTheirs.sign+" theirs"))
	p.blank()
	for _, o := range shown {
		h := plain
		if o.Kind == plan.OnlyYours || o.Kind == plan.OnlyTheirs {
			h = dim
		}
		y, t := length(o.Yours, o.YoursWhole, top, bar), length(o.Theirs, o.TheirsWhole, top, bar)
		l := txt(h, cutPath(o.Path, name)).fit(name+2).
			add(plain, strings.Repeat(" ", bar-y)).add(yours, strings.Repeat("█", y)).add(faint, "│").
			add(theirs, strings.Repeat("█", t)).add(plain, strings.Repeat(" ", bar-t+2))
		p.row(l.then(s.kind(o)))
	}
	if more := len(s.overlap) - len(shown); more > 0 {
		p.row(txt(dim, words.Count(more, "more file", "more files")))
	}
}

// kind says how both sides met in a file.
func (s *lookScreen) kind(o plan.Overlap) line {
	word, h := string(o.Kind), plain
	switch o.Kind {
	case plan.SameChange:
		h = joined
	case plan.OnlyYours:
		word, h = "only you", dim
	case plan.OnlyTheirs:
		word, h = "only them", dim
		if o.Author != "" {
			word = "only " + words.First(o.Author)
		}
	}
	if o.From != "" {
		word = "changed and renamed"
	}
	if what := words.HintOf(o.Conflict, false); what != "" {
		word = what
	}
	if o.Decide {
		h = trouble
	}
	return txt(h, word)
}

// length is the length of a bar: at least one cell for any change.
func length(n int, whole bool, top, most int) int {
	if n == 0 && !whole {
		return 0
	}
	return max(1, n*most/top)
}

func (s *lookScreen) uncommitted(p *page, w, in int) {
	if len(s.pos.Dirty) == 0 {
		return
	}
	var paths []string
	for _, d := range s.pos.Dirty {
		paths = append(paths, d.Path)
	}
	if len(*p) > 0 {
		p.blank()
	}
	q := page{heading("NOT COMMITTED YET")}
	l := txt(plain, words.List(words.Some(paths, 3))+". ")
	if s.inWay == nil && !s.pos.NothingToDo() && s.pos.Trivial() != plan.UpToDate {
		l = l.add(dim, "This stays exactly as it is: the join does not touch "+words.Is(len(paths), "that file",
			"those files")+".")
	}
	q.rows(wrap(l, w))
	p.rows(indent(q, in))
}

func (s *lookScreen) whoToAsk(p *page) {
	if len(s.pos.Divergence.Theirs) == 0 {
		return
	}
	p.blank()
	p.row(heading("WHO TO ASK"))
	names := plan.Authors(s.pos.Divergence.Theirs)
	for i, name := range names {
		if i == 5 {
			p.row(txt(dim, "  and "+words.Count(len(names)-i, "other", "others")))
			break
		}
		mine := slices.DeleteFunc(slices.Clone(s.pos.Divergence.Theirs),
			func(n history.Node) bool { return n.Author().Name != name })
		p.row(line{}.mark(markTheirs).add(plain, s.name(mine[0], merge.Theirs)+" ").
			add(dim, fmt.Sprintf("%s, %s, last %s", mine[0].Author().Email, words.Count(len(mine), "commit",
				"commits"), s.age(mine[0]))))
	}
}
