package settle

import (
	"strings"
	"testing"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/lang"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestBetterWays(t *testing.T) {
	for _, c := range []struct{ name, path, base, yours, theirs, way, want string }{
		{"in order", "list.txt", "apple/cherry/plum", "apple/banana/cherry/plum", "apple/apricot/cherry/plum",
			"sorted", "apple/apricot/banana/cherry/plum"},
		{"in order, one the same", "list.txt", "apple/cherry", "apple/banana/cherry", "apple/apricot/banana/cherry",
			"", ""},
		{"in order but for case", "list.txt", "Apple/cherry", "Apple/Berry/cherry", "Apple/avocado/cherry", "sorted",
			"Apple/avocado/Berry/cherry"},
		{"not in order", "list.txt", "plum/cherry/apple", "plum/banana/cherry/apple", "plum/apricot/cherry/apple",
			"", ""},
		{"at the end of a list", "list.txt", "apple/cherry//text", "apple/cherry/plum//text",
			"apple/cherry/fig//text", "", ""},

		{"imports of Go", "a.go", "package a//import (/\t\"fmt\"/)//", "package a//import (/\t\"fmt\"/\t\"os\"/)//",
			"package a//import (/\t\"fmt\"/\t\"io\"/)//", "weave",
			"package a//import (/\t\"fmt\"/\t\"io\"/\t\"os\"/)//"},
		{"one removed, one added", "a.py", "import b/import a", "import a", "import b/import c/import a", "weave",
			"import c/import a"},
		{"no imports", "a.py", "b/a", "a", "b/c/a", "", ""},
		{"ignored patterns", ".gitignore", "bin", "bin/*.o", "bin/*.a", "weave", "bin/*.a/*.o"},
		{"patterns that take back", ".gitignore", "bin", "bin/!x", "bin/*.a", "", ""},

		{"indented against an edit", "a.c", "one();/two();/three();", "if (x) {/  one();/  two();/  three();/}",
			"one();/TWO();/three();", "weave", "if (x) {/  one();/  TWO();/  three();/}"},
		{"lines around, and one between", "a.c", "one();/two();", "if (x) {/  one();/  more();/  two();/}",
			"one();/new();/two();", "", ""},
		{"only indented", "a.c", "one();/two();/three();", "\tone();/\ttwo();/\tthree();",
			"one();/TWO();/more();/three();", "weave", "\tone();/\tTWO();/\tmore();/\tthree();"},
		{"tabs for blanks, deeper", "a.c", "  if (x)/    y();", "\tif (x)/\t\ty();",
			"  if (x) {/    y();/      z();/  }", "weave", "\tif (x) {/\t\ty();/\t\t  z();/\t}"},
		{"they indented", "a.c", "a/b/c", "a/B/c", "  a/  b/  c", "weave", "  a/  B/  c"},
		{"both indented", "a.c", "a/b", " a/ b", "  a/  b", "", ""},

		{"members at the end", "a.json", "{/  \"a\": 1/}", "{/  \"a\": 1,/  \"b\": 2/}",
			"{/  \"a\": 1,/  \"c\": 3/}", "weave", "{/  \"a\": 1,/  \"b\": 2,/  \"c\": 3/}"},
		{"members in the middle", "a.json", "{/  \"a\": 1,/  \"z\": 1/}",
			"{/  \"a\": 1,/  \"b\": {/    \"x\": 2/  },/  \"z\": 1/}",
			"{/  \"a\": 1,/  \"c\": [/    3/  ],/  \"z\": 1/}", "weave",
			"{/  \"a\": 1,/  \"c\": [/    3/  ],/  \"b\": {/    \"x\": 2/  },/  \"z\": 1/}"},
		{"the same member twice", "a.json", "{/  \"a\": 1/}", "{/  \"a\": 1,/  \"b\": 2/}",
			"{/  \"a\": 1,/  \"b\": 3/}", "", ""},
	} {
		text := func(s string) string { return strings.ReplaceAll(s, "/", "\n") + "\n" }
		assertBetter(t, c.name, c.path, text(c.base), text(c.yours), text(c.theirs), c.way, text(c.want))
	}
}

// assertBetter holds that the first way of the first conflict is one that knows more
// than words, is suggested with its reason, and makes the wanted text; or, with no
// way wanted, that there is none.
func assertBetter(t *testing.T, name, path, base, yours, theirs, way, want string) {
	f := conflictOf(t, path, base, yours, theirs)
	q := f.Questions[0]
	o := q.Ways[0]
	if o.Way == Yours || o.Way == Weave && strings.HasPrefix(o.Reason, "takes “") {
		assert.Empty(t, way, name)
		return
	}
	assert.NotEmpty(t, o.Reason, name)
	assert.Equal(t, way, string(o.Way), name)
	assert.Equal(t, o.Way, q.Suggested, name)
	assert.Equal(t, o.Reason, q.Why, name)
	assert.Equal(t, want, f.Join(f.placeholder), name)
	for _, side := range []string{yours, theirs} {
		for _, w := range diff.Words(side) {
			assert.True(t, !diff.IsWord(w) || strings.Contains(base, w) || strings.Contains(f.Join(f.placeholder), w),
				"%s: %s is left out", name, w)
		}
	}
}

func TestByKey(t *testing.T) {
	const pom = "<p>|  <d>|    <dependency>|      <artifactId>a</artifactId>|      <version>1</version>|    " +
		"</dependency>|"
	for _, c := range []struct{ name, path, base, yours, theirs, want string }{
		{"both add the same and more", "a.json", "{|  'a': 1|}", "{|  'a': 1,|  'b': {|    'x': 1|  },|  'm': 1|}",
			"{|  'a': 1,|  'b': {|    'x': 1|  },|  'c': 2|}",
			"{|  'a': 1,|  'b': {|    'x': 1|  },|  'c': 2,|  'm': 1|}"},
		{"one changed, its neighbour removed", "a.json", "{|  'z': 1,|  'a': 1,|  'b': 1|}",
			"{|  'z': 2,|  'a': 1,|  'b': 1|}", "{|  'z': 1,|  'b': 3|}", "{|  'z': 2,|  'b': 3|}"},
		{"one object, other members", "a.json", "{|  'a': {'x': 1, 'y': 2}|}", "{|  'a': {'x': 3, 'y': 2}|}",
			"{|  'a': {'x': 1, 'y': 4, 'z': 5}|}", "{|  'a': {'x': 3, 'y': 4, 'z': 5}|}"},
		{"elements with names", "a.json", "[|  {'name': 'a', 'v': 1}|]",
			"[|  {'name': 'a', 'v': 2},|  {'name': 'c', 'v': 1}|]",
			"[|  {'name': 'a', 'v': 1},|  {'name': 'b', 'v': 1}|]",
			"[|  {'name': 'a', 'v': 2},|  {'name': 'b', 'v': 1},|  {'name': 'c', 'v': 1}|]"},
		{"one version, changed by both", "a.json", "{|  'a': '1.0'|}", "{|  'a': '1.1',|  'b': 1|}",
			"{|  'a': '2.0',|  'c': 1|}", ""},
		{"elements without names, exchanged", "a.json", "[|  1|]", "[|  2|]", "[|  3|]", ""},

		{"keys at one place", "a.yaml", "a:|  x: 1|z: 1", "a:|  x: 1|  # why|  b: 1|z: 1",
			"a:|  x: 1|  c:|    - 1|z: 1", "a:|  x: 1|  c:|    - 1|  # why|  b: 1|z: 1"},
		{"the same key and others", "a.yml", "z: 1", "n: 1|a: 1|z: 1", "m: 1|a: 1|z: 1", "m: 1|n: 1|a: 1|z: 1"},
		{"within keys next to each other", "a.yaml", "z:|  image: one two|  tag: 1|b:|  image: three|  tag: 1",
			"z:|  image: one two|  tag: 2|b:|  image: three|  tag: 3",
			"z:|  image: four|  tag: 1|b:|  image: five|  tag: 1",
			"z:|  image: four|  tag: 2|b:|  image: five|  tag: 3"},
		{"items with names", "a.yaml", "l:|  - name: a|    v: 1",
			"l:|  - name: a|    v: 1|    w: 2|  - name: c|    v: 1", "l:|  - name: a|    v: 5|  - name: b|    v: 7",
			"l:|  - name: a|    v: 5|    w: 2|  - name: b|    v: 7|  - name: c|    v: 1"},
		{"one key, two values", "a.yaml", "z: 1", "z: 2|a: 1", "z: 3|b: 1", ""},
		{"a block of text is no keys", "a.yaml", "run: |||  a: 1|  q: 1", "run: |||  a: 2|  q: 2|  n: 1",
			"run: |||  a: 1|  q: 3", ""},
		{"first of all", "a.xml", "<p>|  <z/>|</p>", "<p>|  <b/>|  <z/>|</p>",
			"<p>|  <a>|    <c/>|  </a>|  <z/>|</p>", "<p>|  <a>|    <c/>|  </a>|  <b/>|  <z/>|</p>"},
		{"line ends that only its readers know", "a.yaml", "a: 1|z: 1", "a: \u20281\u2028b: 2|z: 1", "a: 3|z: 1", ""},
		{"cuts through another document", "a.yaml", "a: 1", "a: 1|---|b: 1", "a: 1|c: 1", ""},

		{"keys of a table", "a.toml", "[t]|z = 1|a = 1", "[t]|z = 2|a = 1|b = [|  1,|]", "[t]|z = 1|a = 3|c = 1",
			"[t]|z = 2|a = 3|c = 1|b = [|  1,|]"},
		{"tables", "a.toml", "x = 1||[a]|y = 1", "x = 1||[a]|y = 1||[c]|z = 1", "x = 1||[a]|y = 2||[b]|z = 1",
			"x = 1||[a]|y = 2||[b]|z = 1||[c]|z = 1"},
		{"tables with names", "a.toml", "[[p]]|name = 'a'|v = 1", "[[p]]|name = 'a'|v = 1||[[p]]|name = 'c'|v = 1",
			"[[p]]|name = 'a'|v = 2||[[p]]|name = 'b'|v = 7",
			"[[p]]|name = 'a'|v = 2||[[p]]|name = 'b'|v = 7||[[p]]|name = 'c'|v = 1"},
		{"a text of several lines is no keys", "a.toml", "t = @|a = 1|@", "t = @|a = 2|b = 1|@",
			"t = @|a = 3|c = 1|@", ""},

		{"elements that share lines", "a.xml", pom + "  </d>|</p>",
			pom + "    <dependency>|      <artifactId>c</artifactId>|      <version>1</version>|    </dependency>|  " +
				"</d>|</p>",
			pom + "    <dependency>|      <artifactId>b</artifactId>|      <version>1</version>|    </dependency>|  " +
				"</d>|</p>",
			pom + "    <dependency>|      <artifactId>b</artifactId>|      <version>1</version>|    </dependency>|    " +
				"<dependency>|      <artifactId>c</artifactId>|      <version>1</version>|    </dependency>|  " +
				"</d>|</p>"},
		{"attributes", "a.csproj", "<P>|  <R Include='a' V='1'/>|</P>",
			"<P>|  <R Include='a' V='1'/>|  <R Include='c' V='1'/>|</P>",
			"<P>|  <R Include='a' V='2'/>|  <R Include='b' V='1'/>|</P>",
			"<P>|  <R Include='a' V='2'/>|  <R Include='b' V='1'/>|  <R Include='c' V='1'/>|</P>"},
		{"names that are there once", "a.xml", "<p>|  <z>1</z>|  <y>1</y>|</p>",
			"<p>|  <z>2</z>|  <y>1</y>|  <w>1</w>|</p>", "<p>|  <z>1</z>|  <y>3</y>|</p>",
			"<p>|  <z>2</z>|  <y>3</y>|  <w>1</w>|</p>"},
		{"text and elements", "a.xml", "<p>|text|</p>", "<p>|text <b>a</b>|</p>", "<p>|text <b>b</b>|</p>", ""},

		{"rows", "a.csv", "id,name,at|9,x,10|7,y,20", "id,name,at|9,x,11|7,y,20|5,w,50",
			"id,name,at|9,'x, and more',10|7,y,21|4,v,40", "id,name,at|9,'x, and more',11|7,y,21|4,v,40|5,w,50"},
		{"rows known by the second column", "a.csv", "k;id|a;1|a;2", "k;id|b;1|a;2|c;4", "k;id|a;1|a;2|a;3",
			"k;id|b;1|a;2|a;3|c;4"},
		{"no key", "a.csv", "k,v|a,1|a,1", "k,v|a,2|a,2", "k,v|a,3|a,1", ""},
		{"one cell, two values", "a.csv", "id,v|1,1|2,2", "id,v|1,2|2,2|3,3", "id,v|1,3|2,2|4,4", ""},
	} {
		text := strings.NewReplacer("|||", "|\n", "|", "\n", "'", `"`, "@", `"""`).Replace
		end := func(s string) string { return text(s) + "\n" }
		way := ""
		if c.want != "" {
			way = "weave"
		}
		assertBetter(t, c.name, c.path, end(c.base), end(c.yours), end(c.theirs), way, end(c.want))
	}
}

// TestJoinColumn: the new column's values go with the row, whatever the other side changed in it.
func TestJoinColumn(t *testing.T) {
	table := func(s string) table {
		rows, ok := tableOf(lang.Of("a.csv"), diff.Lines(strings.ReplaceAll(s, "|", "\n")+"\n"))
		require.True(t, ok, s)
		return rows
	}
	for _, c := range []struct{ name, base, wide, narrow, want string }{
		{"a changed cell", "id,v|1,1|2,2", "id,v,at|1,1,x|2,2,y", "id,v|1,5|2,2", "id,v,at|1,5,x|2,2,y|"},
		{"before the key", "id,v|1,1|2,2", "at,id,v|x,1,1|y,2,2", "id,v|1,5|2,2", "at,id,v|x,1,5|y,2,2|"},
		{"a row more", "id,v|1,1", "id,v,at|1,1,x", "id,v|1,1|3,3", "id,v,at|1,1,x|3,3,|"},
		{"rows that nothing tells apart", "k,v|1,1|1,2", "k,v,at|1,1,x|1,2,y", "k,v|1,5|1,2", ""},
	} {
		o, ok := joinColumn(table(c.base), table(c.wide), table(c.narrow))
		assert.Equal(t, c.want != "", ok, c.name)
		assert.Equal(t, c.want, strings.ReplaceAll(o.Text, "\n", "|"), c.name)
	}
}

func TestMovedLines(t *testing.T) {
	text := strings.NewReplacer("|", "\n").Replace
	const block, rest = "func fare() int {|	total := 1|	return total|}||",
		"func a() {|}||func b() {|}||func c() {|}||"
	edited := strings.Replace(block, "1", "base + 1", 1)
	for _, c := range []struct{ name, base, yours, theirs, want string }{
		{"you moved it down", block + rest, rest + block, edited + rest, rest + edited},
		{"they moved it up", rest + block, rest + edited, block + rest, edited + rest},
		{"moved and edited, elsewhere in it", block + rest, rest + strings.Replace(block, "return total",
			"return total * 2", 1), edited + rest, rest + strings.Replace(edited, "return total", "return total * 2",
			1)},
		{"with something in its place", block + rest, "func new() {|}||" + rest + block, edited + rest,
			"func new() {|}||" + rest + edited},
		{"moved into a block", "total := fare()|add(total)||x|y|z|",
			"x|y|z|if late {|	total := fare()|	add(total)|}|", "total := fare(1)|add(total)||x|y|z|",
			"x|y|z|if late {|	total := fare(1)|	add(total)|}|"},
		{"moved, indented and more lines", "one|two|three||x|y|z|", "x|y|z|	one|	two|	three|",
			"one|TWO|and|three||x|y|z|", "x|y|z|	one|	TWO|	and|	three|"},
		{"the same line", block + rest, rest + strings.Replace(block, "1", "2", 1), strings.Replace(block, "1", "3",
			1) + rest, ""},
		{"removed, not moved", block + rest, rest, edited + rest, ""},
		{"only what is there often", "x|}||" + rest, rest + "}||", "x y|}||" + rest, ""},
	} {
		way := ""
		if c.want != "" {
			way = "weave"
		}
		assertBetter(t, c.name, "a.txt", text(c.base), text(c.yours), text(c.theirs), way, text(c.want))
	}

	f := conflictOf(t, "a.txt", text(block+rest), text(rest+block), text(edited+rest))
	q := f.Questions[0]
	theirs, _ := q.Option(Theirs)
	assert.Equal(t, "the lines you moved are there twice", theirs.Reason)
	book := &Decisions{}
	book.Decide(Decision{Key: q.Key, Way: Written, Text: "by hand\n", Moved: true})
	o, ok := f.Chosen(q, book)
	require.True(t, ok)
	assert.Equal(t, text(rest)+"by hand\n", f.Join(func(*Question) Option { return o }))
	out, _ := f.LeftOut(q, o)
	require.NotEmpty(t, out)
	for _, p := range out {
		assert.Equal(t, merge.Theirs, p.Side, "what you wrote was in the base: it is no loss of an edit")
		line, words := f.Where(q, o, p)
		assert.Equal(t, f.Text.Theirs[line-1], words)
		assert.Contains(t, words, p.Text)
	}
}

// FuzzBetter holds that what is offered never leaves out a word that a side added
// alone, whatever the texts are.
func FuzzBetter(f *testing.F) {
	f.Add("a.json", "{\n\"a\": 1\n}\n", "{\n\"a\": 1,\n\"b\": 2\n}\n", "{\n\"a\": 1,\n\"c\": 2\n}\n")
	f.Add("a.go", "\"b\"\n", "\"b\"\n\"a\"\n", "\"c\"\n\"b\"\n")
	f.Add("a.c", "a\n b\n", "  a\n   b\n", "a\n b\nc\n")
	f.Add("a.yaml", "a:\n  - name: 1\n", "a:\n  - name: 1\n    b: 2\n", "a:\n  - name: 1\n    c: 2\n")
	f.Add("a.toml", "[a]\nb = 1\n", "[a]\nb = 2\nc = [\n1]\n", "[a]\nb = 1\nd = 2\n")
	f.Add("a.xml", "<a>\n<b>1</b>\n</a>\n", "<a>\n<b>2</b>\n<c/>\n</a>\n", "<a>\n<b>1</b>\n<d/>\n</a>\n")
	f.Add("a.csv", "a,b\n1,2\n", "a,b\n1,3\n2,1\n", "a,b\n1,2\n3,1\n")
	f.Add("a.txt", "a b\nc d\nx\ny\n", "x\ny\na b\nc d\n", "a e\nc d\nx\ny\n")
	f.Fuzz(func(t *testing.T, path, base, yours, theirs string) {
		text := merge.Merge3(diff.Lines(base), diff.Lines(yours), diff.Lines(theirs))
		if text.Conflicts() == 0 {
			return
		}
		file := Open(&merge.Conflict{Path: path, Kind: merge.Content, Subject: &merge.Lines{Text: &text,
			Mode: object.ModeFile}})
		for _, q := range file.Questions {
			if o := q.Ways[0]; o.Way == Weave || o.Way == Sorted {
				assert.NotEmpty(t, o.Reason)
				assert.NotPanics(t, func() { file.JudgeSuggested(q, o) })
				whole := o.Text
				if o.Moved != nil {
					whole += o.Moved.Text
				}
				for _, side := range []string{q.Yours, q.Theirs} {
					for _, w := range diff.Words(side) {
						if diff.IsWord(w) && !strings.Contains(base, w) {
							assert.Contains(t, whole, w)
						}
					}
				}
			}
		}
	})
}

func TestCut(t *testing.T) {
	text := func(s string) []string { return diff.Lines(strings.ReplaceAll(s, "/", "\n")) }
	for _, c := range []struct{ base, remover, edited, want string }{
		{"a/b/c/", "a/c/", "a/B/C/", "a/C/"},
		{"a/b/c/", "a/c/", "a/B/B2/c/", "a/c/"},
		{"a/b/c/", "a/c/", "a/b/c/d/", "a/c/d/"},
		{"a/b/c/", "a/c/", "a/b/C/C2/C3/", "a/C/C2/C3/"},
		{"a/b/c/", "a/c/", "a/X/Y/Z/", ""}, // which of the lines stands for c is not known
		{"a/b/c/", "a/x/c/", "a/B/c/", ""},
		{"a/b/c/", "", "a/B/c/", ""},
		{"a/b/c/", "a/b/c/", "a/B/c/", ""},
	} {
		got, ok := without(text(c.base), text(c.remover), text(c.edited))
		assert.Equal(t, c.want != "", ok, c)
		assert.Equal(t, strings.Join(text(c.want), ""), got, c)
	}
}

// TestWhatWasMovedIsChangedThere: what one side changed is offered where the other put it, in the place or elsewhere in
// the file.
func TestWhatWasMovedIsChangedThere(t *testing.T) {
	for _, c := range []struct{ base, yours, theirs, want string }{
		{"return 3 * zone\n", "const rate = 3\nreturn rate * zone\n", "return 4 * zone\n",
			"const rate = 4\nreturn rate * zone\n"},
		{"a\nb\nreturn 3 * zone\n", "rate = 3\na\nb\nreturn rate * zone\n", "a\nb\nreturn 4 * zone\n",
			"rate = 4\na\nb\nreturn rate * zone\n"},
		{"a\nb\nreturn 3 * zone\n", "rate = 13\na\nb\nreturn rate * zone\n", "a\nb\nreturn 4 * zone\n", ""},
		{"a\nb\nreturn 3 * zone\n", "other = 3\na\nb\nreturn rate * zone\n", "a\nb\nreturn 4 * zone\n", ""},
	} {
		for _, turned := range []bool{false, true} {
			yours, theirs := c.yours, c.theirs
			if turned {
				yours, theirs = theirs, yours
			}
			f := conflictOf(t, "fare.py", c.base, yours, theirs)
			o, ok := f.Questions[0].Option(Weave)
			assert.Equal(t, c.want != "", ok, c)
			if ok {
				assert.Equal(t, c.want, f.Join(func(*Question) Option { return o }))
				assert.Empty(t, f.Questions[0].Suggested)
			}
		}
	}
}

// TestARenamingBesideAConflict: where the edits collide even with the new name, nothing is joined.
func TestARenamingBesideAConflict(t *testing.T) {
	f := conflictOf(t, "a.go", "a(old)\nb(old)\nv := 1\n", "a(now)\nb(now)\nv := 2\n",
		"a(old)\nb(old)\nc(old)\nv := 3\n")
	for _, o := range f.Questions[0].Ways {
		assert.NotEqual(t, Weave, o.Way)
	}
}
