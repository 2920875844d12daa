package settle

import (
	"strings"
	"testing"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWeave(t *testing.T) {
	for _, c := range []struct{ name, base, yours, theirs, want string }{
		{"other words", "a b c d", "X b c d", "a b c Y", "X b c Y"},
		{"neighbouring words", "rate * v.Metres()", "rate * v.HalfMetres()", "roundUp(rate * v.Metres(), 10)",
			"roundUp(rate * v.HalfMetres(), 10)"},
		{"same word", "a b c", "a X c", "a Y c", "-"},
		{"same word, same edit", "a b c d", "a X c Y", "a X c d", "a X c Y"},
		{"both add at one point", "a b", "a X b", "a Y b", "-"},
		{"nothing to start from", "", "x", "y", "-"},
		{"one deletes what the other edits", "a b c", "a c", "a X c", "-"},
		{"deletion beside an edit", "one two three", "one three", "one two THREE", "one THREE"},
		{"lines", "a\nb\nc\n", "a\nX\nc\n", "a\nb\nc\nd\n", "a\nX\nc\nd\n"},
		{"an edit inside what the other replaced", "f(a, b, c)", "g(z)", "f(a, B, c)", "-"},
		{"broken encoding", "a \xff b", "X \xff b", "a \xff Y", "X \xff Y"},
	} {
		got, ok := WeaveText(c.base, c.yours, c.theirs)
		if !ok {
			got = "-"
		}
		assert.Equal(t, c.want, got, c.name)
		swapped, ok2 := WeaveText(c.base, c.theirs, c.yours)
		assert.Equal(t, ok, ok2, c.name)
		if ok {
			assert.Equal(t, got, swapped, "%s: weaving has no sides", c.name)
		}
	}
}

// conflictOf opens the only file of a merge of three texts.
func conflictOf(t *testing.T, path, base, yours, theirs string) *File {
	text := merge.Merge3(diff.Lines(base), diff.Lines(yours), diff.Lines(theirs))
	require.Positive(t, text.Conflicts(), "%q", yours)
	return Open(&merge.Conflict{Path: path, Kind: merge.Content, Subject: &merge.Lines{Text: &text,
		Mode: object.ModeFile}})
}

func names(c *Question) string {
	var out []string
	for _, o := range c.Ways {
		out = append(out, string(o.Way))
	}
	return strings.Join(out, " ")
}

func TestWaysOffered(t *testing.T) {
	const all = "weave yours theirs yours-theirs theirs-yours base"
	const plain = "yours theirs yours-theirs theirs-yours base"
	for _, c := range []struct{ name, path, base, yours, theirs, ways, suggested string }{
		{"other words of a sentence", "a.txt", "the old cat sat\n", "the new cat sat\n", "the old cat ran\n", all, ""},
		{"other words, apart", "a.env", "A=1 B=1\n", "A=2 B=1\n", "A=1 B=2\n", all, "weave"},
		{"same word", "a.txt", "the old cat\n", "the new cat\n", "the red cat\n", plain, ""},
		{"both added", "a.txt", "", "mine\n", "yours\n", plain, ""},
		{"both added an item", "a.md", "", "- mine\n", "- yours\n", plain, "theirs-yours"},
		{"one deleted", "a.txt", "the old cat\n", "", "the red cat\n", "yours theirs base", ""},
		{"yours holds theirs", "a.txt", "a b c\n", "X b c d e\n", "X b c\n", plain, "yours"},
		{"theirs holds yours", "a.txt", "a b c\n", "X b c\n", "X b c d e\n", plain, "theirs"},
		{"rewritten, not woven by suggestion", "a.txt", "one two three four five six\n", "1 2 3 4 5 six\n",
			"one two three four five six seven\n", all, ""},
		{"a weave that parses", "a.json", "[1, 2]\n", "[1, 2, 3]\n", "{\"a\": [1, 2]}\n", all, "weave"},
	} {
		f := conflictOf(t, c.path, c.base, c.yours, c.theirs)
		q := f.Questions[0]
		assert.Equal(t, c.ways, names(q), c.name)
		assert.Equal(t, c.suggested, string(q.Suggested), c.name)
		if q.Suggested != "" {
			assert.NotEmpty(t, q.Why, c.name)
		}
	}
}

func TestVetoOfWhatDoesNotParse(t *testing.T) {
	f := conflictOf(t, "a.go", "package a\n\nfunc f() {\n}\n",
		"package a\n\nfunc g() int { return 1 }\n\nfunc f() {\n}\n",
		"package a\n\nfunc g() int { return 2 }\n\nfunc f() {\n}\n")
	c := f.Questions[0]
	assert.Empty(t, c.Suggested, "both orders declare g twice")
	v := f.JudgeSuggested(c, Option{Text: c.Theirs + c.Yours})
	require.NotNil(t, v.Parses)
	assert.False(t, *v.Parses)
	assert.Contains(t, v.Problem, "g is declared twice")
}

func TestLeftOut(t *testing.T) {
	const base, yours, theirs = "return rate * v.Metres()\n", "return rate * v.HalfMetres()\n",
		"return roundUp(rate * v.Metres(), 10)\n"
	for _, c := range []struct {
		name, result          string
		lostYours, lostTheirs int
		keptYours, keptTheirs int
	}{
		{"weave", "return roundUp(rate * v.HalfMetres(), 10)\n", 0, 0, 0, 0},
		{"yours", yours, 0, 2, 0, 0},
		{"theirs", theirs, 1, 0, 1, 0},
		{"base", base, 1, 2, 1, 0},
		{"both", yours + theirs, 0, 0, 1, 0},
		{"nothing", "", 1, 2, 0, 0},
	} {
		out, kept := leftOut(base, yours, theirs, c.result)
		assert.Equal(t, c.lostYours, countWords(out, merge.Yours), c.name)
		assert.Equal(t, c.lostTheirs, countWords(out, merge.Theirs), c.name)
		assert.Equal(t, c.keptYours, countWords(kept, merge.Yours), c.name)
		assert.Equal(t, c.keptTheirs, countWords(kept, merge.Theirs), c.name)
	}
	out, _ := leftOut("", "one\ntwo\nthree\n", "", "one\n")
	require.Len(t, out, 2)
	assert.Equal(t, Piece{merge.Yours, "two", 1, true}, out[0])
	assert.Equal(t, Piece{merge.Yours, "three", 2, true}, out[1])
	// Signs that another line has, too, do not make it less of a line.
	out, _ = leftOut("", "- Ness, slip only\n", "- Holm, pier, all cars\n", "- Ness, slip only\n")
	assert.Equal(t, []Piece{{merge.Theirs, "- Holm, pier, all cars", 0, true}}, out)
}

func TestLineEndsBetweenTwoTexts(t *testing.T) {
	for _, c := range [][3]string{{"a", "b", "a\nb"}, {"a\n", "b", "a\nb"}, {"a", "b\n", "a\nb"}, {"", "b", "b"},
		{"a", "", "a"}, {"a", "b\r\n", "a\r\nb"}} {
		assert.Equal(t, c[2], concat(c[0], c[1]))
	}
}

func TestBook(t *testing.T) {
	o := object.NewOverlay(object.SHA1, nil)
	f := conflictOf(t, "a.txt", "x\nm\ny\n", "1\nm\n3\n", "2\nm\n4\n")
	a, b := f.Questions[0], f.Questions[1]
	book := &Decisions{}
	text := func() (string, bool) {
		set, all := f.Decided(o, book)
		data, err := o.Blob(t.Context(), set.Entries["a.txt"].ID)
		require.NoError(t, err)
		return string(data), all
	}
	got, all := text()
	assert.False(t, all)
	assert.Equal(t, "1\nm\n3\n", got, "yours stands in")

	book.Decide(Decision{Key: a.Key, Way: Theirs})
	book.Decide(Decision{Key: b.Key, Way: Written, Text: "own\n"})
	got, all = text()
	assert.True(t, all)
	assert.Equal(t, "2\nm\nown\n", got)

	book.Decide(Decision{Key: a.Key, Way: Base})
	got, _ = text()
	assert.Equal(t, "x\nm\nown\n", got, "the last decision stands")
	d, ok := book.Undo()
	assert.True(t, ok)
	assert.Equal(t, Base, d.Way)
	got, _ = text()
	assert.Equal(t, "2\nm\nown\n", got)
	book.Undo()
	book.Undo()
	_, ok = book.Undo()
	assert.False(t, ok)

	again := conflictOf(t, "a.txt", "new\nx\nm\ny\n", "new\n1\nm\n3\n", "new\n2\nm\n4\n")
	assert.Equal(t, a.Key, again.Questions[0].Key, "the same conflict elsewhere in the file has the same key")
	other := conflictOf(t, "b.txt", "x\nm\ny\n", "1\nm\n3\n", "2\nm\n4\n")
	assert.NotEqual(t, a.Key, other.Questions[0].Key)
	twice := conflictOf(t, "a.txt", "x\nm\nx\n", "1\nm\n1\n", "2\nm\n2\n")
	assert.NotEqual(t, twice.Questions[0].Key, twice.Questions[1].Key)
}

func TestWholePaths(t *testing.T) {
	o := object.NewOverlay(object.SHA1, nil)
	file := func(text string, m object.Mode) object.Entry {
		return object.Entry{Name: "a", Mode: m, ID: o.Put(object.KindBlob, []byte(text))}
	}
	one, two := file("1", object.ModeFile), file("2", object.ModeExec)
	for _, c := range []struct {
		kind          merge.ConflictKind
		yours, theirs object.Entry
		suggested     Way
	}{
		{merge.ModifyDelete, one, object.Entry{}, Yours},
		{merge.ModifyDelete, object.Entry{}, two, Theirs},
		{merge.Binary, one, two, ""},
		{merge.ModeBits, one, two, ""},
	} {
		r := &merge.Result{Conflicts: []merge.Conflict{{Path: "a", Kind: c.kind,
			Subject: &merge.Versions{Yours: c.yours, Theirs: c.theirs}}}}
		files := NewFiles(o)
		q := files.Open(t.Context(), &r.Conflicts[0]).Questions[0]
		assert.Equal(t, "yours theirs", names(q))
		assert.Equal(t, c.suggested, q.Suggested)
		_, all, err := files.Resolve(t.Context(), r, &Decisions{})
		require.NoError(t, err)
		assert.False(t, all)
		for way, want := range map[Way]object.Entry{Yours: c.yours, Theirs: c.theirs} {
			d, all, err := files.Resolve(t.Context(), r, &Decisions{List: []Decision{{Key: q.Key, Way: way}}})
			require.NoError(t, err)
			assert.True(t, all)
			assert.True(t, d.Entries["a"].Same(want), "%s %s", c.kind, way)
		}
		_, _, ok := (&Decisions{List: []Decision{{Key: q.Key, Way: Written, Text: "x"}}}).For(q)
		assert.False(t, ok, "a whole path cannot be written")
	}
}

func TestModeBesideText(t *testing.T) {
	o := object.NewOverlay(object.SHA1, nil)
	text := merge.Merge3(nil, []string{"1\n"}, []string{"2\n"})
	c := &merge.Conflict{Path: "a", Kind: merge.AddAdd, Subject: &merge.Lines{Text: &text, Mode: object.ModeFile,
		Modes: true,
		Yours: object.Entry{Mode: object.ModeFile}, Theirs: object.Entry{Mode: object.ModeExec}}}
	f := Open(c)
	require.Len(t, f.Questions, 2)
	book := &Decisions{}
	book.Decide(Decision{Key: f.Questions[0].Key, Way: TheirsYours})
	_, all := f.Decided(o, book)
	assert.False(t, all, "the mode is open")
	book.Decide(Decision{Key: f.Questions[1].Key, Way: Theirs})
	set, all := f.Decided(o, book)
	e := set.Entries["a"]
	assert.True(t, all)
	assert.Equal(t, object.ModeExec, e.Mode)
	data, err := o.Blob(t.Context(), e.ID)
	require.NoError(t, err)
	assert.Equal(t, "2\n1\n", string(data))
}

func TestPreference(t *testing.T) {
	ways, err := ParsePreference("weave, theirs-yours,suggested")
	require.NoError(t, err)
	f := conflictOf(t, "a.txt", "", "mine\n", "yours\n")
	w, ok := Prefer(f.Questions[0], ways)
	assert.True(t, ok)
	assert.Equal(t, TheirsYours, w)
	_, ok = Prefer(f.Questions[0], []Way{Weave, Sorted, AsBefore})
	assert.False(t, ok, "ways that are not offered settle nothing")
	for _, bad := range []string{"", "ours", "weave,,", "written"} {
		_, err := ParsePreference(bad)
		assert.Error(t, err, bad)
	}
}

func FuzzWeave(f *testing.F) {
	f.Add("a b c", "X b c", "a b Y")
	f.Fuzz(func(t *testing.T, base, yours, theirs string) {
		woven, ok := WeaveText(base, yours, theirs)
		if !ok {
			return
		}
		swapped, ok := WeaveText(base, theirs, yours)
		require.True(t, ok)
		require.Equal(t, woven, swapped)
		same, ok := WeaveText(base, yours, base)
		require.True(t, ok)
		require.Equal(t, yours, same)
	})
}

// TestAFileThatIsNotReadSaysSo: its conflicts can be settled as those of any text.
func TestAFileThatIsNotReadSaysSo(t *testing.T) {
	deep := strings.Repeat("[", 5000) + "\n"
	for path, plain := range map[string]bool{"a.json": true, "a.yaml": true, "a.none": false} {
		q := conflictOf(t, path, "one\n"+deep, "mine\n"+deep, "theirs\n"+deep).Questions[0]
		assert.Equal(t, plain, q.Plain, path)
		assert.NotEmpty(t, q.Ways)
	}
	assert.False(t, conflictOf(t, "a.json", "{\"a\": 1}\n", "{\"a\": 2}\n", "{\"a\": 3}\n").Questions[0].Plain)
}

// TestWholeFile takes a whole text file from one version: what joined by itself in it goes, too, until one of its places
// is settled otherwise.
func TestWholeFile(t *testing.T) {
	base := []string{"a\n", "b\n", "c\n", "d\n", "e\n", "f\n", "g\n"}
	yours := []string{"A\n", "b\n", "c\n", "d1\n", "e\n", "f\n", "g\n"}
	theirs := []string{"a\n", "b\n", "c\n", "d2\n", "e\n", "f\n", "G\n"}
	text := merge.Merge3(base, yours, theirs)
	f := Open(&merge.Conflict{Path: "a.txt", Kind: merge.Content, Subject: &merge.Lines{Text: &text,
		Mode: object.ModeFile}})
	q := f.Questions[0]
	all := func(w Way) string {
		o, ok := q.Option(w)
		require.True(t, ok, w)
		return f.Join(func(*Question) Option { return o })
	}
	for w, want := range map[Way][]string{YoursFile: yours, TheirsFile: theirs, BaseFile: base} {
		assert.Equal(t, strings.Join(want, ""), all(w))
		assert.NotContains(t, q.Ways, w, "it is no way of the place")
	}
	assert.Equal(t, "A\nb\nc\nd1\ne\nf\nG\n", all(Yours))
	require.Len(t, f.Wholly(), 3)
	out, _ := f.LeftOutWholly(f.Wholly()[0])
	assert.Equal(t, []Piece{{merge.Theirs, "d2", 3, true}, {merge.Theirs, "G", 6, true}}, out)
}
