package attr_test

import (
	"fmt"

	"dorvik.dev/dorvik/internal/core/attr"
)

// Rules of a directory overrule those above it.
func ExampleOf() {
	top, docs := attr.Parse("*.txt merge=union\n"), attr.Parse("notes.txt -merge\n")
	scopes := []attr.Scope{{Dir: "", File: top}, {Dir: "docs", File: docs}}
	fmt.Println(attr.Of(scopes, "pier.txt")["merge"].Text)
	fmt.Println(attr.Of(scopes, "docs/notes.txt")["merge"].State == attr.Unset)
	// Output:
	// union
	// true
}
