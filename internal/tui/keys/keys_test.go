package keys

import (
	"testing"

	"charm.land/bubbles/v2/key"
	"github.com/stretchr/testify/assert"
)

// TestNoKeyHasTwoMeanings checks that no two bindings of the screens, and no two of the editor, have a key in common.
func TestNoKeyHasTwoMeanings(t *testing.T) {
	for place, list := range map[string][]key.Binding{"screens": declared.screens, "editor": declared.editor} {
		meaning := map[string]string{}
		for _, b := range list {
			assert.NotEmpty(t, b.Keys(), "%s: %s", place, b.Help().Desc)
			for _, name := range b.Keys() {
				other, taken := meaning[name]
				assert.False(t, taken, "%s: %s is %q and %q", place, name, other, b.Help().Desc)
				meaning[name] = b.Help().Desc
			}
		}
		assert.Greater(t, len(meaning), 20, place)
	}
}

// TestSections checks that every key of a list is written and explained.
func TestSections(t *testing.T) {
	for _, s := range Sections() {
		for _, b := range s.Keys {
			assert.NotEmpty(t, b.Help().Key, s.Name)
			assert.NotEmpty(t, b.Help().Desc, "%s: %s", s.Name, b.Help().Key)
		}
	}
}

// TestFree checks the list of free keys, which this test prints with -v.
func TestFree(t *testing.T) {
	free := Free()
	t.Log("free keys:", free)
	assert.NotContains(t, free, "q")
	assert.NotContains(t, free, "=")
	assert.Subset(t, free, []string{"Q", "~"})
}
