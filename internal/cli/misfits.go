package cli

import (
	"strings"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/misfit"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/words"
)

// misfitJSON is two edits that join as text but will not work together.
type misfitJSON struct {
	Kind    string   `json:"kind"`
	Name    string   `json:"name"`
	Now     string   `json:"now"`
	Changed madeJSON `json:"changed"`
	Used    madeJSON `json:"used"`
	Certain bool     `json:"certain"`
}

// madeJSON is a line that a side added or, with its number in the base, removed.
type madeJSON struct {
	Side   string     `json:"side"`
	Commit *object.ID `json:"commit"`
	Path   string     `json:"path"`
	Line   int        `json:"line"`
}

func misfitsJSON(list []plan.Misfit) []misfitJSON {
	out := []misfitJSON{}
	made := func(at misfit.Place, n history.Node) madeJSON {
		m := madeJSON{Side: string(at.Side), Path: at.Path, Line: at.Line}
		if n.Commit != nil {
			m.Commit = &n.ID
		}
		return m
	}
	for i := range list {
		m := &list[i]
		out = append(out, misfitJSON{string(m.Kind), m.Name, m.Now, made(m.Changed, m.ChangedIn), made(m.Used,
			m.UsedIn),
			m.Certain})
	}
	return out
}

// sayMisfits describes misfits for people.
func (e *env) sayMisfits(list []plan.Misfit) {
	who := func(n history.Node, side merge.Side) string {
		switch {
		case side == merge.Yours:
			return "you"
		case n.Commit == nil:
			return "somebody"
		}
		return words.First(n.Author().Name)
	}
	for i := range list {
		m := &list[i]
		e.say("▲ May not work together: %s, in %s:%d: %s", words.Misfit(m.Misfit, who(m.ChangedIn, m.Changed.Side),
			who(m.UsedIn, m.Used.Side)), m.Used.Path, m.Used.Line, strings.TrimSpace(m.Used.Text))
	}
}
