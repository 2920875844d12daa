package settle

import (
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/rx"
)

// comparison matches one comparison of two plain operands, with the brackets and the sign around it.
var comparison = rx.New(`^(\(*)([\w.\[\]]+)\s*(<=|>=|<|>|==|!=)\s*([\w.\[\]]+)(\)*[:;]?)$`)

// mirrors has the comparison that means the same with its operands exchanged.
var mirrors = map[string]string{"<": ">", ">": "<", "<=": ">=", ">=": "<=", "==": "==", "!=": "!="}

// mirrored reports whether two lines differ in one comparison alone, which the second has the other way round.
func mirrored(a, b string) bool {
	x, y := strings.Fields(a), strings.Fields(b)
	for len(x) > 0 && len(y) > 0 && x[0] == y[0] {
		x, y = x[1:], y[1:]
	}
	for len(x) > 0 && len(y) > 0 && x[len(x)-1] == y[len(y)-1] {
		x, y = x[:len(x)-1], y[:len(y)-1]
	}
	m, n := comparison.FindStringSubmatch(strings.Join(x, " ")), comparison.FindStringSubmatch(strings.Join(y, " "))
	return m != nil && n != nil && slices.Equal(m[1:], []string{n[1], n[4], mirrors[n[3]], n[2], n[5]})
}
