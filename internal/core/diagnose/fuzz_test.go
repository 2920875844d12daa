package diagnose

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// FuzzOutput: whatever a tool prints, each place is in a file of the project, once, and what is missing has a name.
func FuzzOutput(f *testing.F) {
	for _, seed := range []string{"web/app.js:3\nError: x", "  Failure/Error: x\n     # ./a.rb:5:in", "a.rs:1\n^",
		"   Error Message:\n x\n   at f in a.cs:line 3", "✘ [ERROR] x\n\n    a.ts:3:17:", "\x1b[31msh: 1: a: not found"} {
		f.Add(seed)
	}
	own := map[string]bool{"web/app.js": true, "a.rb": true, "a.rs": true, "a.cs": true, "a.ts": true}
	f.Fuzz(func(t *testing.T, output string) {
		lines := strings.Split(output, "\n")
		seen := map[Place]bool{}
		for _, p := range Places(lines, "/tmp/check", func(base string) (out []string) {
			for path := range own {
				if strings.HasSuffix("/"+path, "/"+base) {
					out = append(out, path)
				}
			}
			return out
		}) {
			assert.True(t, own[p.Path], p.Path)
			assert.Positive(t, p.Line)
			assert.False(t, seen[p], "once")
			seen[p] = true
		}
		for _, m := range NotFound(lines) {
			assert.NotEmpty(t, m.Name)
		}
	})
}
