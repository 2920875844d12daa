package mergeinfo_test

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/core/mergeinfo"
)

func parse(t *testing.T, text string) mergeinfo.Info {
	in, err := mergeinfo.Parse(text)
	require.NoError(t, err)
	return in
}

func TestParse(t *testing.T) {
	for _, c := range []struct{ text, is string }{
		{"", ""},
		{"/trunk:5-9,12\n", "/trunk:5-9,12"},
		{"/b:2\n/a:1,2,3-4", "/a:1-4\n/b:2"},
		{"/with: colon:7*", "/with: colon:7*"},
		{"/trunk:5-9*,7", "/trunk:5-6*,7,8-9*"},
		{"/trunk:3\r\n/trunk:4\r\n", "/trunk:3-4"},
	} {
		assert.Equal(t, c.is, parse(t, c.text).String(), c.text)
	}
	for _, text := range []string{"trunk:5", "/trunk", "/trunk:", "/trunk:x", "/trunk:9-5", "/trunk:0", "/trunk:5-"} {
		_, err := mergeinfo.Parse(text)
		assert.Error(t, err, text)
	}
}

func TestJoin(t *testing.T) {
	for _, c := range []struct{ what, base, yours, theirs, is string }{
		{"both bring", "/t:2", "/t:2-5", "/t:2,9", "/t:2-5,9"},
		{"of two lines", "", "/t:5", "/b:7", "/b:7\n/t:5"},
		{"one takes out", "/t:2-9", "/t:2-9", "/t:2-4", "/t:2-4"},
		{"one takes out all, the other brings more", "/t:2-9", "", "/t:2-12", "/t:10-12"},
		{"the same", "/t:2", "/t:2-3", "/t:2-3", "/t:2-3"},
		{"alone becomes whole", "/t:2*", "/t:2", "/t:2*", "/t:2"},
	} {
		got := mergeinfo.Join(parse(t, c.base), parse(t, c.yours), parse(t, c.theirs))
		assert.Equal(t, c.is, got.String(), c.what)
	}
}

// TestRangesAreSets compares ranges with sets of single revisions.
func TestRangesAreSets(t *testing.T) {
	rnd := rand.New(rand.NewPCG(29, 1))
	some := func() (in mergeinfo.Info, set map[int64]bool) {
		in, set = mergeinfo.Info{}, map[int64]bool{}
		for range rnd.IntN(5) {
			from := rnd.Int64N(20)
			to := from + 1 + rnd.Int64N(6)
			in.Add("/t", mergeinfo.Range{After: from, Upto: to})
			for rev := from + 1; rev <= to; rev++ {
				set[rev] = true
			}
		}
		return in, set
	}
	for range 300 {
		base, b := some()
		yours, y := some()
		theirs, s := some()
		joined := mergeinfo.Join(base, yours, theirs)
		for rev := range int64(30) {
			want := (y[rev] || s[rev]) && (!b[rev] || y[rev] && s[rev])
			require.Equal(t, want, joined.Has("/t", rev), "%d of %s, %s and %s", rev, base, yours, theirs)
		}
		require.Equal(t, joined, parse(t, joined.String()))
	}
}
