package cli

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/prove"
)

// TestErrorsAreAnsweredByFlags: errors name facts, and the command adds the flag.
func TestErrorsAreAnsweredByFlags(t *testing.T) {
	merge := &replay.PickedMergeError{Commit: history.Node{Commit: &object.Commit{Message: "Join both"}}}
	unagreed := &prove.UnagreedError{Terms: &prove.Terms{Command: check.Command{Steps: []string{"make check"}}}}
	for flag, err := range map[string]error{
		"--unrelated":          &plan.Blocked{What: "Two histories.", Remedy: plan.JoinUnrelated},
		"undo 7 --by-commit":   &plan.Blocked{What: "It was pushed.", Remedy: plan.UndoPushed, Waypoint: "7"},
		"--theirs":             &plan.Blocked{What: "It follows nothing.", Remedy: plan.NameTheirs},
		"undo 3 --since":       fmt.Errorf("going back: %w", &change.MovedError{Branch: "main", Undo: "3"}),
		"--parent 1":           merge,
		"--check 'make check'": unagreed,
	} {
		assert.Contains(t, answered(err), flag)
		assert.NotContains(t, err.Error(), "--", "an error names no flag")
	}
	for _, err := range []error{&plan.Blocked{What: "Nothing to join."}, &change.MovedError{Branch: "main"}} {
		assert.Equal(t, err.Error(), answered(err))
	}
}
