package diff

import (
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"dorvik.dev/dorvik/internal/gittest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var algorithms = map[string]func(a, b []string) []Edit{"histogram": Histogram, "myers": Myers, "words": WordEdits}

// replay applies edits and so shows that they lead from a to b.
func replay(a, b []string, edits []Edit) []string {
	var out []string
	at := 0
	for _, e := range edits {
		out = append(out, a[at:e.A0]...)
		out = append(out, b[e.B0:e.B1]...)
		at = e.A1
	}
	return append(out, a[at:]...)
}

func checkEdits(t *testing.T, a, b []string, edits []Edit) {
	t.Helper()
	require.Equal(t, strings.Join(b, ""), strings.Join(replay(a, b, edits), ""))
	for i, e := range edits {
		require.True(t, e.A0 < e.A1 || e.B0 < e.B1, "edit %d is empty", i)
		if i > 0 {
			p := edits[i-1]
			require.True(t, p.A1 < e.A0 && p.B1 < e.B0 && e.A0-p.A1 == e.B0-p.B1, "edits %v and %v touch or drift",
				p, e)
		}
	}
}

func TestEdits(t *testing.T) {
	cases := []struct {
		name, a, b string
		want       []Edit
	}{
		{"equal", "a b c", "a b c", nil},
		{"both empty", "", "", nil},
		{"all new", "", "a b", []Edit{{0, 0, 0, 2}}},
		{"all gone", "a b", "", []Edit{{0, 2, 0, 0}}},
		{"one in the middle", "a b c", "a x c", []Edit{{1, 2, 1, 2}}},
		{"two apart", "a b c d e", "a x c y e", []Edit{{1, 2, 1, 2}, {3, 4, 3, 4}}},
		{"repeated block slides down", "f { } g { }", "f { } f { } g { }", []Edit{{3, 3, 3, 6}}},
		{"deleted repeat slides down", "x y x y z", "x y z", []Edit{{2, 4, 2, 2}}},
		{"nothing in common", "a b", "c d e", []Edit{{0, 2, 0, 3}}},
	}
	for _, c := range cases {
		for name, f := range algorithms {
			t.Run(c.name+"/"+name, func(t *testing.T) {
				a, b := strings.Fields(c.a), strings.Fields(c.b)
				got := f(a, b)
				checkEdits(t, a, b, got)
				if name != "words" {
					assert.Equal(t, c.want, got)
				}
			})
		}
	}
}

func randomLines(r *rand.Rand, n, alphabet int) []string {
	out := make([]string, n)
	for i := range out {
		out[i] = string(rune('a'+r.IntN(alphabet))) + "\n"
	}
	return out
}

func mutate(r *rand.Rand, a []string, edits, alphabet int) []string {
	b := append([]string(nil), a...)
	for range edits {
		at := r.IntN(len(b) + 1)
		drop := min(r.IntN(4), len(b)-at)
		b = append(b[:at:at], append(randomLines(r, r.IntN(4), alphabet), b[at+drop:]...)...)
	}
	return b
}

func TestNameWords(t *testing.T) {
	for text, want := range map[string]string{
		"keepDays = MAX_AGE2Years // HTTPServer": "keep days max age2 years httpserver",
		"über_x·y9Z":                             "ber x y9 z",
		"":                                       "",
		"--":                                     "",
	} {
		assert.Equal(t, want, strings.Join(slices.Collect(NameWords(text)), " "))
	}
}

func TestEveryScriptLeadsFromOneTextToTheOther(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 3000 {
		alphabet := 1 + r.IntN(20)
		a := randomLines(r, r.IntN(60), alphabet)
		b := mutate(r, a, r.IntN(8), alphabet)
		for _, f := range algorithms {
			checkEdits(t, a, b, f(a, b))
		}
	}
}

// lcs is the textbook dynamic programme, as a second opinion on Myers.
func lcs(a, b []string) int {
	row := make([]int, len(b)+1)
	for i := range a {
		diagonal := 0
		for j := range b {
			up := row[j+1]
			if a[i] == b[j] {
				row[j+1] = diagonal + 1
			} else {
				row[j+1] = max(up, row[j])
			}
			diagonal = up
		}
	}
	return row[len(b)]
}

func TestMyersIsShortest(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for range 1500 {
		a, b := randomLines(r, r.IntN(40), 4), randomLines(r, r.IntN(40), 4)
		kept := len(a)
		for _, e := range Myers(a, b) {
			kept -= e.A1 - e.A0
		}
		require.Equal(t, lcs(a, b), kept, "%q %q", a, b)
	}
}

func TestFarApartTextsAreBounded(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	a, b := randomLines(r, 4000, 3), randomLines(r, 4200, 3)
	for _, f := range algorithms {
		checkEdits(t, a, b, f(a, b))
	}
}

var hunkHead = regexp.MustCompile(`(?m)^@@ -(\d+)(?:,(\d+))? \+(\d+)(?:,(\d+))? @@`)

// TestHistogramAgreesWithGit compares with `git diff --histogram`, whose
// choice among equally good scripts a three-way merge inherits.
func TestHistogramAgreesWithGit(t *testing.T) {
	dir := t.TempDir()
	git := gittest.At(t, dir)
	write := func(name string, lines []string) string {
		p := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(p, []byte(strings.Join(lines, "")), 0o644))
		return p
	}
	number := func(s string, missing int) int {
		if s == "" {
			return missing
		}
		n, err := strconv.Atoi(s)
		require.NoError(t, err)
		return n
	}
	r := rand.New(rand.NewPCG(7, 8))
	for i := range 300 {
		alphabet := 2 + r.IntN(24)
		a := randomLines(r, 1+r.IntN(60), alphabet)
		b := mutate(r, a, 1+r.IntN(6), alphabet)
		out, _ := git.Try("diff", "--no-index", "--histogram", "--no-indent-heuristic", "-U0", write("a", a),
			write("b", b))
		var want []Edit
		for _, m := range hunkHead.FindAllStringSubmatch(out, -1) {
			an, bn := number(m[2], 1), number(m[4], 1)
			e := Edit{A0: number(m[1], 0), B0: number(m[3], 0)}
			if an > 0 {
				e.A0--
			}
			if bn > 0 {
				e.B0--
			}
			e.A1, e.B1 = e.A0+an, e.B0+bn
			want = append(want, e)
		}
		require.Equal(t, want, Histogram(a, b), "case %d\n%q\n%q", i, a, b)
	}
}

func TestWordsAndLinesJoinToTheText(t *testing.T) {
	for _, s := range []string{"", "a", "a\n", "a\r\nb", "x := f(y_1, \"größe\")\n\tz", "\xff\xfe bad", "日本語 text"} {
		assert.Equal(t, s, strings.Join(Words(s), ""))
		assert.Equal(t, s, strings.Join(Lines(s), ""))
	}
	assert.Equal(t, []string{"v", ".", "Half_2", "(", ")", " \t", "x", "\r\n", "\n"}, Words("v.Half_2() \tx\r\n\n"))
}

func FuzzDiff(f *testing.F) {
	f.Add("a\nb\nc\n", "a\nc\n")
	f.Add(strings.Repeat("x\n", 70)+"y\n", "y\n"+strings.Repeat("x\n", 70))
	f.Fuzz(func(t *testing.T, x, y string) {
		a, b := Lines(x), Lines(y)
		for _, alg := range algorithms {
			checkEdits(t, a, b, alg(a, b))
		}
		a, b = Words(x), Words(y)
		checkEdits(t, a, b, WordEdits(a, b))
	})
}

func BenchmarkHistogram(b *testing.B) {
	r := rand.New(rand.NewPCG(9, 9))
	base := make([]string, 20000)
	for i := range base {
		base[i] = strconv.Itoa(r.IntN(30000)) + "\n"
	}
	other := mutate(r, base, 400, 26)
	for b.Loop() {
		Histogram(base, other)
	}
}

// TestStanding: what an edit script leaves stands in both texts, in the same order, and is as many as Common says.
func TestStanding(t *testing.T) {
	for _, c := range []struct{ a, b, inA, inB string }{
		{"", "", "", ""},
		{"", "x", "", "-"},
		{"x", "", "-", ""},
		{"a b c", "a b c", "+++", "+++"},
		{"a b c", "a x c", "+-+", "+-+"},
		{"a b c", "b c d", "-++", "++-"},
		{"a b", "x y z", "--", "---"},
	} {
		a, b := strings.Fields(c.a), strings.Fields(c.b)
		edits := Myers(a, b)
		inA, inB := Standing(len(a), len(b), edits)
		sign := func(marks []bool) (s string) {
			for _, m := range marks {
				s += map[bool]string{true: "+", false: "-"}[m]
			}
			return s
		}
		assert.Equal(t, c.inA, sign(inA), "%q to %q", c.a, c.b)
		assert.Equal(t, c.inB, sign(inB), "%q to %q", c.a, c.b)
		assert.Equal(t, strings.Count(c.inA, "+"), Common(len(a), edits))
	}
	assert.Equal(t, map[string]int{"a": 1, "b": 0, "c": -1}, More([]string{"a", "a", "b"}, []string{"a", "b", "c"}))
}

func TestAtLines(t *testing.T) {
	a := Words("\tif old {\n\t\treturn x\n\t}\n\treturn y\n")
	b := Words("\treturn y\n")
	for _, c := range [][2][]string{{a, b}, {b, a}} {
		edits := AtLines(WordEdits(c[0], c[1]), c[0], c[1])
		require.Len(t, edits, 1)
		checkEdits(t, c[0], c[1], edits)
		e := edits[0]
		assert.Equal(t, "\tif old {\n\t\treturn x\n\t}\n", strings.Join(c[0][e.A0:e.A1], "")+strings.Join(
			c[1][e.B0:e.B1], ""))
	}
	r := rand.New(rand.NewPCG(3, 4))
	for range 500 {
		a := randomLines(r, r.IntN(30), 3)
		b := mutate(r, a, r.IntN(5), 3)
		checkEdits(t, a, b, AtLines(WordEdits(a, b), a, b))
	}
}
