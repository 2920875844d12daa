package settle

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestMirrored(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want bool
	}{
		{"if depth <= need {\n", "if need >= depth {\n", true},
		{"while (a < b[0]) {", "while (b[0] > a) {", true},
		{"return p.x == y;", "return y == p.x;", true},
		{"if open && a < b {", "if open && b > a {", true},
		{"if a < b {", "if b < a {", false},
		{"if a <= b {", "if b > a {", false},
		{"if a < b {", "if c > a {", false},
		{"if (a < b {", "if b > a {", false},
		{"a := b", "b := a", false},
		{"if a < b {", "if a < b {", false},
		{"", "", false},
	} {
		assert.Equal(t, c.want, mirrored(c.a, c.b), "%q and %q", c.a, c.b)
	}
}
