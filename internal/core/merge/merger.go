package merge

import (
	"errors"
	"slices"

	"dorvik.dev/dorvik/internal/core/attr"
	"dorvik.dev/dorvik/internal/core/object"
)

type merger struct {
	engine  *Engine
	rules   *rules
	open    map[string]bool // paths on which the common ancestors disagree, as in ancestor
	asking  bool            // inside a directory that is in conflict as a whole
	touched bool            // only paths that yours changed are visited
	spare   [][]spot        // lists for reuse
	out     *Result
}

func (m *merger) joined(path string, o Origin, b, y, t, result object.Entry) {
	m.out.Joined = append(grow(m.out.Joined), Joined{Path: path, Origin: o, Base: b, Yours: y, Theirs: t,
		Result: result})
	if !result.Same(y) {
		m.out.ofYours = append(grow(m.out.ofYours), Edit{path, result})
	}
	if !result.Same(t) {
		m.out.ofTheirs = append(grow(m.out.ofTheirs), Edit{path, result})
	}
}

func (m *merger) remark(path, words string) {
	m.out.Remarks = append(m.out.Remarks, Remark{Path: path, Words: words})
}

func (m *merger) conflict(c Conflict) { m.out.Conflicts = append(m.out.Conflicts, c) }

// grow doubles the capacity of a full list. append alone copies large elements several times.
func grow[T any](list []T) []T {
	if len(list) == cap(list) {
		return slices.Grow(list, max(16, len(list)))
	}
	return list
}

// rules returns the attributes of paths: those of the gitattributes files of the joined tree. A contested file counts
// as yours.
type rules struct {
	engine *Engine
	given  Three[object.ID]
	asked  bool // Outside was called
	below  *attr.Rules
	above  *attr.Rules
	files  map[string]*attr.Rules // by directory, nil if there is none
}

// spot is a name at which trees differ.
type spot struct {
	name    string
	b, y, t object.Entry
}

// errNotEnough reports that the paths of a change are not enough to join it.
var errNotEnough = errors.New("more than what was changed has to be looked at")
