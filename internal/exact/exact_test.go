package exact

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type kind string

type record struct {
	Name   string            `json:"name"`
	Kind   kind              `json:"kind,omitempty"`
	Paths  []string          `json:"paths,omitempty"`
	Copies map[string]string `json:"copies,omitempty"`
	When   time.Time         `json:"when"`
	Of     *record           `json:"of,omitempty"`
	Pair   [2]string         `json:"pair"`
	Any    any               `json:"any,omitempty"`
	own    string
}

func TestNothingIsLost(t *testing.T) {
	odd := "caf\xe9"
	of := record{Name: odd, Kind: kind(odd), Paths: []string{"plain", odd, ""}, Copies: map[string]string{odd: "x", "y": odd},
		When: time.Date(2026, 3, 4, 11, 0, 0, 0, time.UTC), Of: &record{Name: "\x00" + odd}, Pair: [2]string{odd, "b"},
		Any: odd, own: "not stored"}
	data, err := Marshal(of)
	require.NoError(t, err)
	assert.Equal(t, odd, of.Name, "it is not changed")
	assert.True(t, json.Valid(data))
	var is record
	require.NoError(t, Unmarshal(data, &is))
	is.own = of.own
	assert.Equal(t, of, is)
	for _, v := range []any{record{Name: "é"}, []string{"a"}, map[string]int{"x": 1}, nil, 3} {
		plain, err := json.Marshal(v)
		require.NoError(t, err)
		data, err := Marshal(v)
		require.NoError(t, err)
		assert.Equal(t, string(plain), string(data))
	}
	assert.Error(t, Unmarshal([]byte(`"\u0000!"`), new(string)))
	assert.Error(t, Unmarshal([]byte(`{`), new(record)))
}

func FuzzNothingIsLost(f *testing.F) {
	f.Add("caf\xe9", "\x00")
	f.Fuzz(func(t *testing.T, a, b string) {
		of := record{Name: a, Paths: []string{b, a}, Copies: map[string]string{a: b}}
		data, err := Marshal(of)
		require.NoError(t, err)
		var is record
		require.NoError(t, Unmarshal(data, &is))
		assert.Equal(t, of, is)
	})
}
