package settle_test

import (
	"fmt"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/settle"
)

// A conflict is opened as questions, each with ways to settle it.
func ExampleOpen() {
	text := merge.Merge3(diff.Lines("fare := rate * metres\n"), diff.Lines("fare := rate * halfMetres\n"),
		diff.Lines("fare := roundUp(rate * metres)\n"))
	f := settle.Open(&merge.Conflict{Path: "fares.txt", Kind: merge.Content, Subject: &merge.Lines{Text: &text}})
	q := f.Questions[0]
	for _, o := range q.Ways {
		out, _ := f.LeftOut(q, o)
		fmt.Printf("%s, leaving out %d: %s", o.Way, len(out), o.Text)
	}
	fmt.Println("suggested:", q.Suggested, "as", q.Why)
	// Output:
	// weave, leaving out 0: fare := roundUp(rate * halfMetres)
	// yours, leaving out 2: fare := rate * halfMetres
	// theirs, leaving out 1: fare := roundUp(rate * metres)
	// yours-theirs, leaving out 0: fare := rate * halfMetres
	// fare := roundUp(rate * metres)
	// theirs-yours, leaving out 0: fare := roundUp(rate * metres)
	// fare := rate * halfMetres
	// base, leaving out 3: fare := rate * metres
	// suggested: weave as takes “halfMetres” and “roundUp(” to be independent
}
