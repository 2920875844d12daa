package plan

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestReferencesInMessages(t *testing.T) {
	rd := &Reader{}
	refs, err := rd.References(t.Context())
	require.NoError(t, err)
	for text, want := range map[string][]string{
		"Warn of ice #7":                      {"#7"},
		"#7 and #8, then #7 again":            {"#7", "#8"},
		"FERRY-12: warn of ice (#9)":          {"FERRY-12", "#9"},
		"UTF-8 is an encoding, too":           {"UTF-8"}, // nothing tells it from a task
		"https://host.example/crew#7 a&#39;b": nil,
		"no task; issue#7":                    nil,
		"":                                    nil,
	} {
		assert.Equal(t, want, refs.In(text), text)
	}
}

// The first group is the sign.
func TestAReferenceIsTheFirstGroup(t *testing.T) {
	refs, err := referencesBy(`task ([0-9]+)( done)?`)
	require.NoError(t, err)
	assert.Equal(t, []string{"7", "8"}, refs.In("task 7 done, task 8"))
	refs, err = referencesBy(`T[0-9]+`)
	require.NoError(t, err)
	assert.Equal(t, []string{"T7"}, refs.In("T7"))
}
