package diagnose_test

import (
	"fmt"

	"dorvik.dev/dorvik/internal/core/diagnose"
)

// What a build prints names places in the project's files.
func ExamplePlaces() {
	find := func(base string) []string {
		if base == "sailing.go" {
			return []string{"timetable/sailing.go"}
		}
		return nil
	}
	for _, p := range diagnose.Places([]string{"# skerry/timetable", "./sailing.go:29:9: undefined: DepthAt"},
		"/build", find) {
		fmt.Println(p.Path, p.Line, p.Col, p.Text)
	}
	// Output: timetable/sailing.go 29 9 undefined: DepthAt
}
