package settle

import (
	"cmp"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/lang"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/rx"
)

// offer lists the options of a region and suggests one if any may be suggested.
func (q *Question) offer(at place, moves *mover) {
	// If the common ancestors themselves conflict, there is no single base to weave into or go back to.
	oneBase := !strings.Contains(q.Base, merge.OneAncestor)
	if len(q.Base)+len(q.Yours)+len(q.Theirs) > largePlace {
		q.Doubt = "it is too large to be compared word by word"
		q.offerPlain(at, oneBase)
		return
	}
	at.atoms = inAtoms(q.Base, q.Yours, q.Theirs)
	var whole *Option // one side's text, for a reason
	if oneBase {
		if o, ok := moves.follow(q); ok {
			o.Because = o.Reason
			q.offerNew(o)
		}
		for _, o := range q.better(at) {
			if o.doubt != "" {
				q.Doubt = o.doubt
				q.offerNew(o)
				continue
			}
			o.Because = o.Reason
			if q.offerNew(o); whole == nil && (o.Way == Yours || o.Way == Theirs) {
				whole = &o
			}
		}
	}
	var shown weaving
	if woven, ok := at.atoms.weave(nil); ok && oneBase && woven != q.Base {
		shown = q.weaving(at)
		q.offerNew(Option{Way: Weave, Text: woven, Reason: shown.reason})
	}
	if neither, ok := q.neither(at.atoms); ok && oneBase {
		q.offerNew(Option{Way: Weave, Text: neither, Reason: "takes out what either side took out"})
	}
	q.offerPlain(at, oneBase)
	if whole != nil {
		q.because(whole.Way, whole.Because)
	} else if !slices.ContainsFunc(q.Ways, suggestible) {
		q.weighPlain(at, shown)
	}
	if oneBase {
		q.offerDoubtful(at, moves)
	}
	q.carefully(at)
	q.inAnyOrder(at)
	q.takeBack(at)
	q.unite()
	q.suggest()
}

// offerDoubtful puts a combination that a person has to confirm first, if nothing better combines both edits.
func (q *Question) offerDoubtful(at place, moves *mover) {
	for _, try := range []func(c *Question, at place) (Option, bool){listed, moves.extracted, cutOut} {
		if _, ok := q.Option(Weave); ok {
			return
		}
		if o, ok := try(q, at); ok && (o.Moved != nil || o.Text != q.Yours && o.Text != q.Theirs) {
			q.Ways, q.Doubt = slices.Insert(q.Ways, 0, o), o.doubt
		}
	}
}

// unite makes one way of those that give one text: the first of them, with the reasons of the others.
func (q *Question) unite() {
	var out []Option
	for _, o := range q.Ways {
		i := slices.IndexFunc(out, func(p Option) bool { return p.Text == o.Text && p.Moved == nil && o.Moved == nil })
		if i < 0 {
			out = append(out, o)
			continue
		}
		p := &out[i]
		p.also = append(p.also, o.Way)
		p.Reason, p.Because = cmp.Or(p.Reason, o.Reason), cmp.Or(p.Because, o.Because)
	}
	q.Ways = out
}

// neither returns the base without what either side took out, if both took out something and added nothing.
func (q *Question) neither(a *wordwise) (text string, ok bool) {
	b := a.base
	gone := make([]bool, len(b))
	for _, side := range a.sides() {
		for _, e := range side.list {
			if e.B1 > e.B0 {
				return "", false
			}
			for e.A0 > 0 && b[e.A0-1] == b[e.A1-1] { // with the separator before it, not the one behind it
				e.A0, e.A1 = e.A0-1, e.A1-1
			}
			fill(gone, e.A0, e.A1)
		}
	}
	var out strings.Builder
	for i, w := range b {
		if !gone[i] {
			out.WriteString(w)
		}
	}
	text = out.String()
	if !emptyItem.MatchString(q.Base) { // the comma between two items that went, too
		text = emptyItem.ReplaceAllString(text, "$1")
	}
	return text, true
}

// emptyItem matches a comma after which a list ends.
var emptyItem = rx.New(`, *([)\]}])`)

// because records why an option may be suggested.
func (q *Question) because(w Way, why string) {
	for i := range q.Ways {
		if q.Ways[i].Way == w {
			q.Ways[i].Because = why
		}
	}
}

// suggestible reports whether an option may be suggested.
func suggestible(o Option) bool { return o.Because != "" }

// suggest suggests one of the options that may be suggested: a side's whole text before others.
func (q *Question) suggest() {
	may := slices.DeleteFunc(slices.Clone(q.Ways), func(o Option) bool { return !suggestible(o) })
	slices.SortStableFunc(may, func(a, b Option) int { return cmp.Compare(rank(a), rank(b)) })
	if len(may) > 0 {
		q.Suggested, q.Why = may[0].Way, may[0].Because
	}
}

// rank orders options: a side's whole text is first.
func rank(o Option) int {
	if w := o.Way.Whose(); w == merge.FromYours || w == merge.FromTheirs {
		return 0
	}
	return 1
}

// offerNew adds an option unless its way is taken or it equals one side's text.
func (q *Question) offerNew(o Option) {
	if _, ok := q.Option(o.Way); !ok && (o.Text != q.Yours && o.Text != q.Theirs || o.Moved != nil) {
		q.Ways = append(q.Ways, o)
	}
}

// offerPlain adds the options that always exist.
func (q *Question) offerPlain(at place, oneBase bool) {
	add := func(w Way, text, reason string) { q.Ways = append(q.Ways, Option{Way: w, Text: text, Reason: reason}) }
	var twice [2]string
	if len(q.Ways) > 0 && q.Ways[0].Moved != nil {
		if q.Ways[0].Moved.Side == merge.Yours {
			twice[1] = "the lines you moved are there twice"
		} else {
			twice[0] = "the lines they moved are there twice"
		}
	}
	add(Yours, q.Yours, twice[0])
	add(Theirs, q.Theirs, twice[1])
	if q.Yours != "" && q.Theirs != "" {
		after := func(first, second string) string {
			if oneBase && at.atoms != nil {
				if text, ok := q.inLine(at, first == q.Yours); ok {
					return text
				}
			}
			if q.Base == "" {
				second = apart(diff.Lines(first), diff.Lines(second), at) + second
			}
			return concat(first, second)
		}
		add(YoursTheirs, after(q.Yours, q.Theirs), "")
		add(TheirsYours, after(q.Theirs, q.Yours), "")
	}
	if oneBase {
		add(Base, q.Base, "")
	}
}

// weighPlain records whether a weave, or one of the options that always exist, may be suggested, or why none may.
func (q *Question) weighPlain(at place, shown weaving) {
	holds := func(result string, other merge.Side) bool {
		has := q.Yours
		if other == merge.Theirs {
			has = q.Theirs
		}
		if lacks(q.Base, has, result) {
			return false
		}
		if at.atoms.replaces(other) {
			return false
		}
		out, kept := leftOutOf(other, q.Base, has, result, diff.Words)
		return len(out)+len(kept) == 0
	}
	woven, weave := q.Option(Weave)
	weave = weave && woven.Reason == shown.reason // else it is another combination, which has its own reason
	switch {
	case mirrored(q.Yours, q.Theirs):
		q.because(Yours, "both made the same comparison, written the other way round")
	case weave && q.oneSchedule():
		q.Doubt = "both changed one schedule"
	case weave && shown.doubt != "":
		q.Doubt = shown.doubt
	case weave && keepsHalf(q.Base, q.Yours) && keepsHalf(q.Base, q.Theirs) && !q.mixes():
		q.because(Weave, shown.reason)
	case q.Base != "" && (q.Yours == "" && !holds("", merge.Theirs) || q.Theirs == "" && !holds("", merge.Yours)):
		q.Doubt = "one side took out what the other changed"
	case holds(q.Yours, merge.Theirs) && (q.Base == "" || q.Theirs != "") && !at.standsElsewhere(q, merge.Theirs):
		q.because(Yours, "yours already holds all that they changed here")
	case holds(q.Theirs, merge.Yours) && (q.Base == "" || q.Yours != "") && !at.standsElsewhere(q, merge.Yours):
		q.because(Theirs, "theirs already holds all that you changed here")
	case q.Base == "" && q.Yours != "" && q.Theirs != "" && !at.cut:
		yours, theirs := diff.Lines(q.Yours), diff.Lines(q.Theirs)
		if q.Doubt = clashes(at, yours, theirs); q.Doubt == "" && !unordered(at, yours, theirs) {
			q.Doubt = orderMatters
		}
		mine, other := opensSection(at, yours), opensSection(at, theirs)
		switch {
		case q.Doubt != "":
		case other && !mine:
			q.because(YoursTheirs, "both added lines here; yours belong to what is above them")
		case at.ascend(yours, theirs):
			q.because(YoursTheirs, "both added lines here; so they are in the order of the lines above")
		default:
			q.because(TheirsYours, "both added lines here; theirs keep their place")
		}
	}
}

// opensSection reports whether lines open a section: what follows them belongs to it.
func opensSection(at place, lines []string) bool {
	opens := heading
	switch lang.Of(at.path).Outline {
	case lang.Sections:
		opens = section
	case lang.Headings:
	default:
		return false
	}
	return slices.ContainsFunc(lines, func(l string) bool { return opens.MatchString(strings.TrimRight(l, "\r\n")) })
}

// weaving is what a weave takes for granted.
type weaving struct {
	reason string // names the edits that it takes to be independent
	doubt  string // why they may not be; empty if the text shows that they are
}

// weaving judges the weave of a place.
func (q *Question) weaving(at place) weaving {
	mine, other, why, ok := at.independent()
	w := weaving{reason: "one of the edits changes blanks only"}
	if mine != "" || other != "" {
		w.reason = "takes “" + mine + "” and “" + other + "” to be independent"
	}
	if !ok {
		w.doubt = "both edits are in " + why
	}
	return w
}

// inAnyOrder takes back the suggestion of two additions joined by key whose order may matter.
func (q *Question) inAnyOrder(at place) {
	if q.Base != "" || q.Yours == "" || q.Theirs == "" {
		return
	}
	for i := range q.Ways {
		if o := &q.Ways[i]; o.Way == Weave && o.Because != "" &&
			!unordered(at, diff.Lines(q.Yours), diff.Lines(q.Theirs)) {
			o.Because, q.Doubt = "", orderMatters
		}
	}
}

// carefully takes back the suggestion of a combination about what a person has to decide.
func (q *Question) carefully(at place) {
	about := q.careOf(at)
	if about == "" {
		return
	}
	for i := range q.Ways {
		o := &q.Ways[i]
		if whose := o.Way.Whose(); o.Because != "" && whose != merge.FromYours && whose != merge.FromTheirs {
			o.Because, q.Doubt = "", "this is about "+about
		}
	}
}

// lacks reports whether a result surely leaves out a word that a side added, because the side has more copies than
// base and result together. It is a fast check before LeftOut.
func lacks(base, side, result string) bool {
	if len(base)+len(side)+len(result) > largePlace {
		return false
	}
	more := diff.More(diff.Words(side), diff.Words(base))
	for _, w := range diff.Words(result) {
		more[w]--
	}
	for w, n := range more {
		if n > 0 && diff.IsWord(w) {
			return true
		}
	}
	return false
}

// standsElsewhere reports whether the other side moved lines that a side removed here to another place of the file.
func (at place) standsElsewhere(c *Question, side merge.Side) bool {
	if at.text == nil {
		return false
	}
	taken, has, other := c.Theirs, at.text.Theirs, at.text.Yours
	if side == merge.Yours {
		taken, has, other = c.Yours, other, has
	}
	more := diff.More(other, has)
	base := diff.Lines(c.Base)
	for _, e := range diff.Histogram(base, diff.Lines(taken)) {
		for _, l := range base[e.A0:e.A1] {
			if more[l] > 0 && diff.HasWord(l) {
				return true
			}
		}
	}
	return false
}

// schedule matches the five fields of POSIX's crontab.
var schedule = rx.New(`(?:[\d*][\d*,/-]*[ \t]+){4}[\dA-Za-z*][\w*,/-]*`)

// oneSchedule reports whether both sides changed one schedule. Its fields have a meaning together.
func (q *Question) oneSchedule() bool {
	b, y, t := schedule.FindString(q.Base), schedule.FindString(q.Yours), schedule.FindString(q.Theirs)
	return b != "" && y != "" && t != "" && b != y && b != t && y != t
}

// mixes reports whether the weave has two operators of different precedence where each side has one. Nobody meant
// that.
func (q *Question) mixes() bool {
	woven, _ := q.Option(Weave)
	for _, signs := range [][2]string{{"&&", "||"}, {" and ", " or "}} {
		both := func(text string) bool { return strings.Contains(text, signs[0]) && strings.Contains(text, signs[1]) }
		if both(woven.Text) && !both(q.Yours) && !both(q.Theirs) {
			return true
		}
	}
	return false
}

// keepsHalf reports whether a side kept at least half of the base's words. Otherwise weaving joins words that no
// longer belong together.
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

// veto removes suggestions with which the file would not parse.
func (f *File) veto() {
	var made []*Question
	for _, c := range f.Questions {
		if !c.Whole() && c.Suggested != "" && c.Suggested != Yours && c.Suggested != Theirs {
			made = append(made, c)
		}
	}
	if len(made) == 0 || f.problem(f.placeholder) == "" {
		return
	}
	for _, c := range made {
		c.Suggested, c.Why = "", ""
	}
}

// placeholder returns the option that stands in for an open question.
func (f *File) placeholder(c *Question) Option {
	if o, ok := c.Option(c.Suggested); ok {
		return o
	}
	return Option{Way: Yours, Text: c.Yours}
}
