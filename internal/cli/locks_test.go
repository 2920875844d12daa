package cli

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/gittest"
)

// TestLocksByCommands goes through what two people do with one lock.
func TestLocksByCommands(t *testing.T) {
	gittest.Isolate(t)
	_, mine, other := gittest.Team(t, ".gitattributes", "*.png lockable\n", "pier.png", "\x00pier")
	for _, c := range []struct {
		in      *gittest.Repo
		args    []string
		code    int
		has, no string // of what is said
	}{
		{mine, []string{"lock"}, exitUsage, "name the files", ""},
		{mine, []string{"lock", "--ask"}, exitUsage, "name the files", ""},
		{mine, []string{"lock", "../pier.png"}, exitUsage, "pier.png", ""},
		{mine, []string{"lock", "-m", "new \x1b[31mcolours", "pier.png"}, exitDone, "pier.png", "\x1b"},
		{mine, []string{"lock", "--ask", "pier.png"}, exitDone, "Nobody else holds a lock of what you named.", "To "},
		{other, []string{"lock", "pier.png"}, exitRefused, "pier.png is locked by", "\x1b"},
		{other, []string{"unlock", "pier.png"}, exitFailed, "pier.png", "\x1b"},
		{other, []string{"lock", "--ask", "pier.png"}, exitDone, "- `pier.png`, since ", "\x1b"},
		{other, []string{"lock", "--ask", ".gitattributes"}, exitDone, "Nobody else holds", "To "},
		{mine, []string{"unlock", "pier.png"}, exitDone, "No file is locked", "\x1b"},
		{other, []string{"lock", "--json", "pier.png"}, exitDone, `"path": "pier.png"`, "\x1b"},
	} {
		code, out, errs := dorvik(append([]string{"-C", c.in.Dir}, c.args...)...)
		said := out + errs
		require.Equal(t, c.code, code, "%q: %s", c.args, said)
		assert.Contains(t, said, c.has, "%q", c.args)
		if c.no != "" {
			assert.NotContains(t, said, c.no, "%q", c.args)
		}
	}
}
