package settle

import (
	"strings"
	"testing"

	"dorvik.dev/dorvik/internal/core/merge"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// sidesOf holds that a board gives the three texts it was made from.
func sidesOf(t *testing.T, base, yours, theirs string) {
	b := NewBoard(base, yours, theirs)
	assert.Equal(t, base, b.Text())
	b.Take(true, false)
	assert.Equal(t, yours, b.Text())
	b.Take(false, true)
	assert.Equal(t, theirs, b.Text())
	for i := range b.Switches[:min(40, len(b.Switches))] { // whatever is taken, edits that clash are never on together
		b.Toggle(i)
		for k := range b.Switches[:i+1] {
			for m := range b.Switches[:i+1] {
				x, y := &b.Switches[k], &b.Switches[m]
				assert.False(t, x.On && y.On && x.clash(y), "%v and %v", x, y)
			}
		}
	}
}

func FuzzBoard(f *testing.F) {
	f.Add("a\nb\nc\n", "a\nx\nc\n", "a\nc\nd\n")
	f.Add("fare := 3\nreturn fare", "fare := 4\nreturn fare\n", "rate := 3\nreturn rate")
	f.Add("", "a\nb\n", "b\na\n")
	f.Add("x", "", "x\n\n")
	f.Fuzz(func(t *testing.T, base, yours, theirs string) { sidesOf(t, base, yours, theirs) })
}

// TestBoard takes single edits: + and − are lines, ~ words; y, t and b say whose.
func TestBoard(t *testing.T) {
	const base = "func fare() {\n\trate := band.PerMetre\n\treturn rate * metres\n}\n"
	yours := strings.Replace(base, "PerMetre", "PerHalfMetre", 1)
	theirs := strings.NewReplacer("rate * metres", "roundUp(rate * metres)", "{\n", "{\n\t// rounded\n").Replace(base)
	b := NewBoard(base, yours, theirs)
	show := func() (out []string) {
		for _, s := range b.Switches {
			sign := "~"
			if !s.Within {
				sign = "−"
				if s.New != "" {
					sign = "+"
				}
			}
			out = append(out, "bytbc"[s.Side:s.Side+1]+sign+strings.TrimSpace(s.Old+">"+s.New))
		}
		return out
	}
	assert.Equal(t, []string{"t+>\t// rounded", "y~PerMetre>PerHalfMetre", "t~>roundUp(", "t~>)"}, show())
	require.True(t, b.Start(strings.Replace(theirs, "PerMetre", "PerHalfMetre", 1)), "the weave is all of them")
	b.Toggle(0)
	assert.Equal(t, strings.Replace(strings.Replace(theirs, "\t// rounded\n", "", 1), "PerMetre", "PerHalfMetre", 1),
		b.Text())
	assert.Equal(t, []Fragment{{"roundUp(", merge.FromTheirs, 2}, {")", merge.FromTheirs, 3}}, of(b, merge.FromTheirs))

	b = NewBoard("f(a * b)\n", "f(round(a*b))\n", "f(a * c)\n")
	assert.Equal(t, []string{"y~>round(", "y~>", "y~>", "t~b>c", "y~>)"}, show())
	b.Toggle(3)
	b.Toggle(0)
	assert.Equal(t, "f(round(a*c)\n", b.Text(), "blanks go with it")

	b = NewBoard("timeout = 30\n", "timeout = 45\n", "timeout = 60\n")
	assert.Equal(t, []string{"y~30>45", "t~30>60"}, show())
	b.Toggle(0)
	b.Toggle(1)
	assert.Equal(t, "timeout = 60\n", b.Text(), "the same words are one or the other")
	assert.False(t, b.Switches[0].On)

	b = NewBoard("a\nz\n", "a\ny1\ny2\nz\n", "a\nt1\nz\n")
	assert.Equal(t, []string{"y+>y1", "y+>y2", "t+>t1"}, show())
	b.Take(true, true)
	assert.Equal(t, 1, b.Move(2, -1))
	assert.Equal(t, "a\ny1\nt1\ny2\nz\n", b.Text())
	assert.Equal(t, 2, b.Move(2, 1), "there is no neighbour")
	require.True(t, b.Start("a\nt1\ny1\ny2\nz\n"), "theirs, then yours")
	assert.Equal(t, []string{"t+>t1", "y+>y1", "y+>y2"}, show())
	assert.False(t, b.Start("other\n"))
	assert.Equal(t, "a\nt1\ny1\ny2\nz\n", b.Text())

	b = NewBoard("a\nb\nc\n", "a\nnew\nc\n", "a\nb!\nc\n")
	assert.Equal(t, []string{"y−b\n>", "t~>!", "y+>new"}, show())
	b.Toggle(1)
	b.Toggle(0)
	assert.False(t, b.Switches[1].On, "no words of a line that is gone")

	b = NewBoard("a\n", "a\nsame\n", "a\nsame\n")
	assert.Equal(t, []string{"b+>same"}, show())
}

// of is what of a result came by one side.
func of(b *Board, side merge.Origin) (out []Fragment) {
	for _, f := range b.Fragments() {
		if f.Origin == side {
			out = append(out, f)
		}
	}
	return out
}

func TestAnEditIsAdopted(t *testing.T) {
	b := NewBoard("a b c\nd\ne\n", "a B c\nd\ne\ny\n", "a b C\ne\n")
	for i, want := range map[int]string{0: "# a B c!\nd\ne\n", 1: "# a b C!\nd\ne\n", 2: "# a b c!\ne\n",
		3: "# a b c!\nd\ne\ny\n"} {
		got, ok := b.Adopt(i, "# a b c!\nd\ne\n")
		assert.True(t, ok, i)
		assert.Equal(t, want, got)
		again, ok := b.Adopt(i, got)
		assert.True(t, ok, i)
		assert.Equal(t, got, again, "it is there once")
	}
	_, ok := b.Adopt(0, "other\n")
	assert.False(t, ok)
}
