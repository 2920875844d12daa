package rx

import (
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestNeeds(t *testing.T) {
	for expr, want := range map[string][]string{
		`^\s*(?:raise|throw new)\s+(\w+)`: {"raise", "throw new"},
		`\bport\b[:=]|^EXPOSE`:            {"port", "EXPOSE"},
		`a?bc+def`:                        {"def"},
		`(?:abc)+d`:                       {"abc"},
		`(?:abc){2}`:                      {"abc"},
		`(?i)port`:                        nil,
		`x|\d`:                            nil,
		`[a-z]+`:                          nil,
		`(`:                               nil,
	} {
		assert.Equal(t, want, needs(expr), expr)
	}
}

// FuzzNeeds: no match is passed over.
func FuzzNeeds(f *testing.F) {
	for _, expr := range []string{`ab|(?:c|d)e`, `(?i)a(?:b)+`, `a{0,2}b{2,}`, `(?s).*x$`, `ä\bü|\x60`, `()|a`, `[ab]cd?`} {
		f.Add(expr, "abcde ABB bb\nx äü` acd")
	}
	f.Fuzz(func(t *testing.T, expr, text string) {
		re, err := regexp.Compile(expr)
		if err != nil || len(expr) > 100 || len(text) > 1000 {
			return
		}
		assert.Equal(t, re.MatchString(text), New(expr).MatchString(text))
	})
}
