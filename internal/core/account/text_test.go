package account

import (
	"fmt"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
)

// TestTexts takes files of one letter a line where nothing else is said; "" stands for nothing left out.
func TestTexts(t *testing.T) {
	for name, c := range map[string]struct{ base, side, other, result, want string }{
		"held":                        {"a b c", "a x c", "a b c", "a x c", ""},
		"a line of the side is gone":  {"a b c", "a x c", "a y c", "a y c", "2 x"},
		"both lines of it are gone":   {"a c", "a x y c", "a c", "a c", "2 x, 3 y"},
		"one of two copies is gone":   {"a c", "a x x c", "a c", "a x c", "3 x"},
		"moved further down":          {"a c", "a x c", "a c y", "a c y x", ""},
		"only the order was changed":  {"a b c", "c b a", "a b c", "a b c", ""},
		"a deleted line stands again": {"a b c", "a c", "a B b c", "a B b c", "stands b"},
		"deleted by both":             {"a b c", "a c", "a c", "a c", ""},
		"only blanks differ":          {"a c", "a x c", "a c", "a\n  x\nc", ""},
		"only line ends differ":       {"a\nc", "a\nx\nc", "a\nc", "a\r\nx\r\nc", ""},
		"both in one line": {"fare := 3", "fare := 4", "fare := 3 // of a car", "fare := 4 // of a car",
			""},
		"only theirs in the line": {"fare := 3 + 1", "fare := 4 + 1", "fare := 3 + 2", "fare := 3 + 2",
			"1 fare := 4 + 1"},
		"theirs has its words and more":  {"d/j 1", "d/j 1\nd/j 11", "n/d/j 11\nd/j 1", "n/d/j 11\nd/j 1", "2 d/j 11"},
		"theirs has its fields":          {"x = 0", "x = 1", "x = 1 + y", "x = 1 + y", ""},
		"half of its words are a line's": {"d/e 6", "a 9\na 6", "d/e 7", "a 9\na 2", "2 a 6"},
		"a word that its line has anyway": {"z-1 8\nz-1 2\nz-1 2\nz-1 3\nz-1 5\nz-1 4\nz-1 10\nz-1 5\nz-1 2\nz-1 5\nz-1 11", "z-1 4\nz-1 9\nz-1 9\nz-1 1\nz-1 7\nz-1 1\nz-1 7", "z-1 8\nz-1 11\nz-1 4\nz-1 2\nz-1 3\nz-1 5\nz-1 4\nz-1 10\nz-1 5\nz-1 2\nz-1 5\nz-1 4",
			"z-1 4\nz-1 9\nz-1 9\nz-1 1\nz-1 7\nz-1 6", "6 z-1 1, 7 z-1 7"},
		"a copy is no other line's": {"", "z 1\nz 3\nz 3\nz 2", "", "z 2\nz 3\nz 6", "1 z 1, 3 z 3"},
		"the whole text is gone":    {"", "x y", "", "", "1 x, 2 y"},
	} {
		t.Run(name, func(t *testing.T) {
			assert.Equal(t, c.want, told(Texts(lines(c.base), lines(c.side), lines(c.other), lines(c.result))))
		})
	}
}

// TestSideHoldsItself: against itself a side never misses a thing, and against the base it misses all it put in.
func TestSideHoldsItself(t *testing.T) {
	texts := []string{"", "a", "a b c", "a a a", "x b y", "a b c d e f"}
	for _, base := range texts {
		for _, side := range texts {
			b, s := lines(base), lines(side)
			assert.Empty(t, Texts(b, s, b, s), "%q to %q", base, side)
			if base != side {
				assert.NotEmpty(t, Texts(b, s, b, b), "%q to %q, taken back", base, side)
			}
		}
	}
}

// lines puts each letter on a line of its own; a text that has longer words is left as it is.
func lines(text string) string {
	fields := strings.Fields(text)
	for _, f := range fields {
		if len(f) > 1 || strings.Contains(text, "\n") {
			return text + "\n"
		}
	}
	return strings.Join(fields, "\n") + strings.Repeat("\n", min(len(fields), 1))
}

func told(entries []Entry) string {
	var out []string
	for _, e := range entries {
		if e.Kind == Deletion {
			out = append(out, "stands "+e.Kept)
			continue
		}
		out = append(out, fmt.Sprintf("%d %s", e.Line, e.Text))
	}
	return strings.Join(out, ", ")
}

// TestFiles takes trees of a few files, one a field: a name, its mode where that is not 644, and its text.
func TestFiles(t *testing.T) {
	const long, other = "a b c d e f", "u v w x y z"
	for name, c := range map[string]struct{ base, side, other, result, want string }{
		"put over another": {"f=" + long + "  g=" + other, "g=" + strings.Replace(long, "c", "C", 1),
			"f=" + long + "  g=" + other,
			"g=" + long + "  h=" + other, "g line 3 C"},
		"moved, and gone":                    {"f=" + long, "g=" + long, "f=" + long, "g=" + other, "g file"},
		"moved, and the other side's by now": {"f=" + long, "g=" + long, "f=" + other, "g=" + other, ""},
		"moved, and there under its old name": {"f=" + long, "g=" + long, "f=" + other, "f=" + other + "  g=" + long,
			"f deletion"},
		"gone, beside a file like it": {"f=k 1\nk 2\nk 3\nk 4", "f=k 1\nk 2\nk 3\nk 9 x  g=k 1\nk 2\nk 3\nm 9 x",
			"h=" + other, "g=k 1\nk 2\nk 3\nm 9 x  h=" + other, "f file"},
		"executable where there was a link": {"f:120000=x", "f:100755=" + long, "f:120000=x", "f=" + long, "f mode"},
		"executable on the other side":      {"f:120000=x", "f=" + long, "f:100755=" + long, "f:100755=" + long, ""},
	} {
		t.Run(name, func(t *testing.T) {
			o := object.NewOverlay(object.SHA1, nil)
			tree := func(files string) object.ID {
				set := map[string]object.Entry{}
				for _, f := range strings.Split(files, "  ") {
					name, text, _ := strings.Cut(f, "=")
					name, mode, _ := strings.Cut(name, ":")
					e := object.Entry{Mode: object.ModeFile, ID: o.Put(object.KindBlob, []byte(lines(text)))}
					if mode != "" {
						n, err := strconv.ParseUint(mode, 8, 32)
						require.NoError(t, err)
						e.Mode = object.Mode(n)
					}
					set[name] = e
				}
				id, err := o.Edit(t.Context(), o.EmptyTree(), set)
				require.NoError(t, err)
				return id
			}
			out, err := Of(t.Context(), merge.NewEngine(o), tree(c.base), tree(c.side), tree(c.other), tree(c.result))
			require.NoError(t, err)
			var said []string
			for _, e := range out {
				s := e.Path + " " + string(e.Kind)
				if e.Kind == Line {
					s += fmt.Sprintf(" %d %s", e.Line, e.Text)
				}
				said = append(said, s)
			}
			assert.Equal(t, c.want, strings.Join(said, ", "))
		})
	}
}
