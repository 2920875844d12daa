package diff

// group is a maximal run of changed lines of one side. It is empty between two unchanged lines. The n-th group of one
// side always stands opposite the n-th of the other.
type group struct{ start, end int }

func (s *side) firstGroup() group {
	g := group{}
	s.growDown(&g)
	return g
}

func (s *side) growDown(g *group) {
	for g.end < len(s.sym) && s.changed[g.end] {
		g.end++
	}
}

func (s *side) growUp(g *group) {
	for g.start > 0 && s.changed[g.start-1] {
		g.start--
	}
}

func (s *side) nextGroup(g *group) bool {
	if g.end == len(s.sym) {
		return false
	}
	g.start, g.end = g.end+1, g.end+1
	s.growDown(g)
	return true
}

func (s *side) prevGroup(g *group) bool {
	if g.start == 0 {
		return false
	}
	g.start, g.end = g.start-1, g.start-1
	s.growUp(g)
	return true
}

// slideUp moves a group one line up if the line above equals its last line, and joins it with a group that it then
// meets.
func (s *side) slideUp(g *group) bool {
	if g.start == 0 || s.sym[g.start-1] != s.sym[g.end-1] {
		return false
	}
	g.start--
	g.end--
	s.changed[g.start], s.changed[g.end] = true, false
	s.growUp(g)
	return true
}

func (s *side) slideDown(g *group) bool {
	if g.end == len(s.sym) || s.sym[g.start] != s.sym[g.end] {
		return false
	}
	s.changed[g.start], s.changed[g.end] = false, true
	g.start++
	g.end++
	s.growDown(g)
	return true
}

// compact moves every group of s down as far as possible, or to where it stands opposite a group of the other side.
// Groups that meet become one. So a block that was added after an equal block appears where people expect it, and one
// edit is one hunk.
func compact(s, other *side) {
	g, o := s.firstGroup(), other.firstGroup()
	for {
		if g.end > g.start {
			compactGroup(s, other, &g, &o)
		}
		if !s.nextGroup(&g) {
			return
		}
		other.nextGroup(&o)
	}
}

func compactGroup(s, other *side, g, o *group) {
	for {
		size := g.end - g.start
		for s.slideUp(g) {
			other.prevGroup(o)
		}
		top := g.end
		opposite := o.end > o.start
		for s.slideDown(g) {
			other.nextGroup(o)
			opposite = opposite || o.end > o.start
		}
		if g.end-g.start != size {
			continue // the group met another one: slide both
		}
		if g.end == top || !opposite {
			return
		}
		for o.end == o.start {
			s.slideUp(g)
			other.prevGroup(o)
		}
		return
	}
}
