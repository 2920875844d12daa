package lang

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestOf(t *testing.T) {
	for name, want := range map[string]*Language{
		"a/b.go": Go, "B.PY": Python, "go.sum": GoSum, "x/Makefile": Make, "rules.mk": Make, ".env": Env,
		"deploy/.env.local": Env, "CMakeLists.txt": CMake, "notes.txt": Text, "deck.svg": XMLData, "LICENSE": bare,
		"x.unheard": unknown,
	} {
		assert.Equal(t, want.Name, Of(name).Name, name)
		assert.Same(t, want, Of(name), name)
		assert.Equal(t, want != bare && want != unknown, Of(name).IsKnown(), name)
	}
	assert.True(t, Of("pier.json").Is(Settings))
	assert.False(t, Of("pier.json").Is(Prose|Tags))
}

// TestEveryFileHasOneLanguage: no ending and no name stands in two rows.
func TestEveryFileHasOneLanguage(t *testing.T) {
	of := map[string]string{}
	for _, l := range All {
		for key := range strings.FieldsSeq(l.endings + " " + l.names) {
			assert.Empty(t, of[key], "%s: %s", l.Name, key)
			of[key] = l.Name
			assert.Same(t, l, Of(strings.ReplaceAll(key, "*", "x")), key)
		}
	}
}
