package visible

import (
	"encoding/json"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestLine(t *testing.T) {
	for in, want := range map[string]string{
		"plain":                "plain",
		"ends\n":               "ends",
		"crlf\r\n":             "crlf␍",
		"a\tb":                 "a   b",
		"\tx":                  "    x",
		"\x1b[31mred\x1b[0m":   "␛[31mred␛[0m",
		"bell\a del\x7f":       "bell␇ del␡",
		"abc\u202etxt.exe":     "abc‹202e›txt.exe",
		"\u2066isolated\u200f": "‹2066›isolated‹200f›",
		"c1 \u009b31m":         "c1 ‹009b›31m",
		"bad \xff\xfe":         "bad ‹ff›‹fe›",
		"größe 日本 👩‍🚀":         "größe 日本 👩‍🚀",
		"two\nlines":           "two␊lines",
	} {
		assert.Equal(t, want, Line(in))
	}
	assert.Equal(t, "a\n␛b", Lines("a\n\x1bb"))
}

func FuzzLine(f *testing.F) {
	f.Add("\x1b]0;title\a")
	f.Fuzz(func(t *testing.T, s string) {
		out := Line(s)
		assert.True(t, utf8.ValidString(out))
		for _, r := range out {
			assert.False(t, r < 0x20 || r == 0x7f || hidden(r), "%q became %q", s, out)
		}
	})
}

// FuzzJSON checks that what is escaped has the same value and nothing that a terminal takes for an order.
func FuzzJSON(f *testing.F) {
	for _, s := range []string{"plain", "c1 \u009b31m", "del \x7f", "\u202egpj", "\U000e0041tag", "\\\u0085",
		"größe 👩‍🚀"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		data, err := json.Marshal(map[string]string{s: s})
		require.NoError(t, err)
		out := JSON(data)
		var want, got map[string]string
		require.NoError(t, json.Unmarshal(data, &want))
		require.NoError(t, json.Unmarshal(out, &got))
		assert.Equal(t, want, got)
		for _, r := range string(out) {
			assert.False(t, marked(r), "%q", out)
		}
	})
}
