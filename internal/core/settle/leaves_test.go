package settle

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
)

// TestLeaves tells, for each shape, what each way leaves.
func TestLeaves(t *testing.T) {
	o := object.NewOverlay(object.SHA1, nil)
	tree := func(files ...string) object.ID {
		set := map[string]object.Entry{}
		for i := 0; i < len(files); i += 2 {
			set[files[i]] = object.Entry{Mode: object.ModeFile, ID: o.Put(object.KindBlob, []byte(files[i+1]))}
		}
		id, err := o.Edit(t.Context(), o.EmptyTree(), set)
		require.NoError(t, err)
		return id
	}
	text := "one\ntwo\nthree\nfour\nfive\n"
	for _, c := range []struct {
		base, yours, theirs []string
		want                string
	}{
		{[]string{"a", "1"}, []string{"a", "2"}, nil, "yours: a yours | theirs: a theirs gone"},
		{[]string{"a", "\x001"}, []string{"a", "\x002"}, []string{"a", "\x003"},
			"yours: a yours | theirs: a theirs | both: a theirs, a-yours yours"},
		{nil, []string{"d", "1"}, []string{"d/x", "1"},
			"yours: d yours | theirs: d theirs / | both: d theirs /, d-yours yours"},
		{[]string{"a", text}, []string{"b", text}, []string{"c", text}, "yours: b | theirs: c"},
		{[]string{"a", text, "b", strings.ToUpper(text)}, []string{"c", text, "b", strings.ToUpper(text)},
			[]string{"a", text, "c",
				strings.ToUpper(text)},
			"yours: c | theirs: c | yours-theirs: c | theirs-yours: c | base: c | both: c theirs, c-yours yours"},
	} {
		r, err := merge.NewEngine(o).Trees(t.Context(), tree(c.base...), tree(c.yours...), tree(c.theirs...))
		require.NoError(t, err)
		require.NotEmpty(t, r.Conflicts, c.want)
		var q *Question
		for i := range r.Conflicts {
			q = NewFiles(o).Open(t.Context(), &r.Conflicts[i]).Questions[0]
		}
		require.NotNil(t, q, "%+v %+v", r.Conflicts[0].Kind, r.Conflicts[0].Subject)
		var all []string
		for _, w := range q.Ways {
			var list []string
			for _, l := range q.Leaves(w) {
				s := l.Path
				for _, p := range []string{string(l.Side), map[bool]string{true: "/"}[l.Tree],
					map[bool]string{true: "gone"}[l.Gone]} {
					if p != "" {
						s += " " + p
					}
				}
				list = append(list, s)
			}
			all = append(all, fmt.Sprintf("%s: %s", w.Way, strings.Join(list, ", ")))
		}
		assert.Equal(t, c.want, strings.Join(all, " | "))
	}
}

func TestFindLines(t *testing.T) {
	const text = "first line\n}\nsecond line\n\nthird line\n"
	for _, c := range []struct {
		name     string
		old, now map[string]string
		want     string
		n        int
	}{
		{"all of it", nil, map[string]string{"b": "x\n" + text, "c": "first line\n"}, "b", 3},
		{"most of it", nil, map[string]string{"b": "first line\n  third line\n"}, "b", 2},
		{"not enough", nil, map[string]string{"b": "first line\n}\n"}, "", 1},
		{"it was there before", map[string]string{"b": text}, map[string]string{"b": text + "y\n"}, "", 0},
		{"no text", nil, map[string]string{"b": "\x00" + text}, "", 0},
		{"nowhere", nil, map[string]string{"b": "other\n"}, "", 0},
	} {
		o := object.NewOverlay(object.SHA1, nil)
		tree := func(files map[string]string) object.ID {
			set := map[string]object.Entry{}
			for p, text := range files {
				set[p] = object.Entry{Mode: object.ModeFile, ID: o.Put(object.KindBlob, []byte(text))}
			}
			id, err := o.Edit(t.Context(), o.EmptyTree(), set)
			require.NoError(t, err)
			return id
		}
		old := map[string]string{"a": text}
		for p, text := range c.old {
			old[p] = text
		}
		got, ok, err := FindLines(t.Context(), o, tree(old), tree(c.now), text)
		require.NoError(t, err)
		assert.Equal(t, c.want != "", ok, c.name)
		if assert.Equal(t, c.n, got.Lines, c.name); ok {
			assert.Equal(t, Whereabouts{c.want, c.n, 3}, got, c.name)
		}
	}
	_, ok, err := FindLines(t.Context(), object.NewOverlay(object.SHA1, nil), object.ID{}, object.ID{}, "}\n")
	assert.False(t, ok || err != nil, "nothing that says anything")
}
