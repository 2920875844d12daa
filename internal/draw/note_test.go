package draw

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
)

// TestNote: a note says who, where, both edits, and what one means; nothing in it becomes Markdown of its own.
func TestNote(t *testing.T) {
	node := func(name, subject string) history.Node {
		who := object.Signature{Name: name, Email: name, When: 1767000000, Zone: "+0100"}
		return history.Node{Commit: &object.Commit{AuthorLine: who.String(), Message: subject}}
	}
	q := &settle.Question{Path: "fares/*.go", Subject: &merge.Lines{}, Base: "rate\n", Yours: "half ``` rate\n"}
	mean := settle.Option{Way: settle.Weave, Text: "woven\n"}
	got := Note(&plan.Position{Branch: vcs.Branch{Name: "main", Upstream: "origin/ma`in"}}, []Matter{{
		About: &plan.Attributed{Question: q, Yours: node("Runa", "Charge [halves]"),
			Theirs: node("Ilka Renn", "Round")},
		Place: "in func Fare, was line 3", Mean: &mean}, {About: &plan.Attributed{Question: q}}})
	assert.Contains(t, got, "I am joining `main` with `origin/ma'in`. Both of us changed 2 places.\n")
	assert.Contains(t, got, "## fares/\\*.go, in func Fare, was line 3\n\n- ◐ I: “Charge \\[halves\\]” (``, 29 Dec 2025)\n"+
		"- ◑ Ilka Renn: “Round” (``, 29 Dec 2025)\n")
	assert.Contains(t, got, "Both started from:\n\n```\nrate\n```\n\nI made of it:\n\n````\nhalf ``` rate\n````\n\nIlka Renn made of it: nothing.\n")
	assert.Contains(t, got, "I want to settle it like this (weave):\n\n```\nwoven\n```\n\nIs that right?\n")
	assert.Contains(t, got, "somebody made of it: nothing.\n\nI have not decided. What is right here?\n")
}
