package plan

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestHasMarks: what a merge leaves in a text are marks, and an underlined title is none.
func TestHasMarks(t *testing.T) {
	for text, want := range map[string]bool{"<<<<<<< a\nx\n=======\ny\n>>>>>>> b\n": true, "Title\n=======\n": false,
		"<<<<<<< a\r\n=======\r\n>>>>>>> b\r\n": true, "======= no\n": false} {
		assert.Equal(t, want, hasMarks(text), "%q", text)
	}
}
