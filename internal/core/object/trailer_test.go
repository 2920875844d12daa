package object

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestWithTrailer goes by what git-interpret-trailers writes.
func TestWithTrailer(t *testing.T) {
	for _, c := range []struct{ message, now string }{
		{"Moor", "Moor\n\nAcked-by: Ada\n"},
		{"Moor: now\n", "Moor: now\n\nAcked-by: Ada\n"},
		{"Moor\n\nText.\n", "Moor\n\nText.\n\nAcked-by: Ada\n"},
		{"Moor\n\nSeen-by: Ilka\n", "Moor\n\nSeen-by: Ilka\nAcked-by: Ada\n"},
		{"Moor\n\nSeen-by: Ilka\n  at the pier\n", "Moor\n\nSeen-by: Ilka\n  at the pier\nAcked-by: Ada\n"},
		{"Moor\n\nAcked-by: Ada\n", "Moor\n\nAcked-by: Ada\n"},
		{"Moor\n\nText, too.\nSeen-by: Ilka\n", "Moor\n\nText, too.\nSeen-by: Ilka\n\nAcked-by: Ada\n"},
		{"Moor\n\nText, too.\nSigned-off-by: Ilka\n", "Moor\n\nText, too.\nSigned-off-by: Ilka\nAcked-by: Ada\n"},
		{"Moor\n\nhttp://pier: open\n", "Moor\n\nhttp://pier: open\n\nAcked-by: Ada\n"},
		{"Moor\n\nSeen-by:\n", "Moor\n\nSeen-by:\n\nAcked-by: Ada\n"},
	} {
		assert.Equal(t, c.now, WithTrailer(c.message, "Acked-by: Ada"), "%q", c.message)
	}
}
