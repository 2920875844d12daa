package term

import (
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
)

// keyNames are the keys of the tests by their names.
var keyNames = map[string]tea.KeyPressMsg{
	"left": {Code: tea.KeyLeft}, "right": {Code: tea.KeyRight}, "up": {Code: tea.KeyUp}, "down": {Code: tea.KeyDown},
	"end": {Code: tea.KeyEnd}, "enter": {Code: tea.KeyEnter}, "backspace": {Code: tea.KeyBackspace},
	"delete":    {Code: tea.KeyDelete},
	"ctrl+left": {Code: tea.KeyLeft, Mod: tea.ModCtrl}, "ctrl+right": {Code: tea.KeyRight, Mod: tea.ModCtrl},
}

// pressed returns the message of a key.
func pressed(name string) tea.KeyPressMsg {
	if k, ok := keyNames[name]; ok {
		return k
	}
	return tea.KeyPressMsg{Text: name}
}

func TestEditor(t *testing.T) {
	for _, c := range []struct{ name, text, keys, want string }{
		{"typing", "ab", "right x", "axb"},
		{"tabs stay", "\ta\n\tb", "down end !", "\ta\n\tb!"},
		{"a new line keeps the indent", "\ta", "end enter b", "\ta\n\tb"},
		{"carriage returns stay", "a\r\nb\r\n", "end x enter y", "ax\r\ny\r\nb\r\n"},
		{"backspace joins lines", "a\nb", "down backspace", "ab"},
		{"delete joins lines", "a\nb", "end delete", "ab"},
		{"word by word", "one two", "ctrl+right X ctrl+left Y", "YoneX two"},
		{"delete a line", "a\nb\nc", "down ctrl+k", "a\nc"},
		{"undo", "a", "x enter ctrl+z ctrl+z", "a"},
		{"what is typed in a row is undone together", "", "a b c ctrl+z", ""},
		{"redo", "a", "x enter y ctrl+z ctrl+z ctrl+y", "x\na"},
		{"after a new edit there is nothing to redo", "a", "x ctrl+z y ctrl+y", "ya"},
		{"wide letters", "日本", "right 語", "日語本"},
		{"a letter of several runes is one", "e\u0301x", "right backspace", "x"},
		{"so is a sign of several", "👩‍🚀!", "delete", "!"},
		{"up and down stay at the column seen", "日本\nabcd", "end down X", "日本\nabcdX"},
		{"at the edges nothing happens", "", "left up backspace delete down right ctrl+left", ""},
	} {
		e := NewEditor(c.text, 1)
		for _, k := range strings.Fields(c.keys) {
			switch k {
			case "ctrl+z":
				e.Undo()
			case "ctrl+y":
				e.Redo()
			case "ctrl+k":
				e.DeleteLine()
			default:
				e.Key(pressed(k))
			}
			assert.NotEmpty(t, e.View(40, 10), c.name)
		}
		assert.Equal(t, c.want, e.Text(), c.name)
		for e.At > 0 {
			e.Undo()
		}
		assert.Equal(t, c.text, e.Text(), "%s: all undone", c.name)
	}
	e := NewEditor("ab\ncd", 1)
	e.GoTo(2, 2)
	e.Paste("1\r\n2")
	assert.Equal(t, "ab\nc1\n2d", e.Text())
	e.Undo()
	assert.Equal(t, "ab\ncd", e.Text(), "a paste is undone as one")
	assert.False(t, e.Dirty())
	assert.True(t, NewEditor("a\xff", 1).Invalid)
}

// TestRender checks that every ink leaves the text as it is, and that no two inks look alike.
func TestRender(t *testing.T) {
	for _, name := range []string{"dark", "light"} {
		th := ThemeOf(name)
		for n := range 16 {
			for _, h := range []Hue{Plain, Yours, Trouble} {
				for _, g := range []Ground{NoGround, OnYours} {
					k := Ink{Hue: h, Ground: g, Bold: n&1 > 0, Strike: n&2 > 0, Under: n&4 > 0, Invert: n&8 > 0}
					drawn := th.Render(Line{}.Put(k, "text _ of a row"))
					assert.Equal(t, "text _ of a row", ansi.Strip(drawn), "%+v", k)
					k.Strike = !k.Strike
					assert.NotEqual(t, drawn, th.Render(Line{}.Put(k, "text _ of a row")), "%+v", k)
				}
			}
		}
	}
}

func TestWrap(t *testing.T) {
	for _, c := range []struct {
		text  string
		width int
		want  []string
	}{
		{"one two three", 8, []string{"one two ", "three"}}, {"abcdefgh", 3, []string{"abc", "def", "gh"}},
		{"", 5, []string{""}}, {"日本語 x", 4, []string{"日本", "語 x"}},
	} {
		var got []string
		for _, l := range Wrap(Text(Plain, c.text), c.width) {
			assert.LessOrEqual(t, l.Width(), c.width+1)
			got = append(got, ansi.Strip(ThemeOf("dark").Render(l)))
		}
		assert.Equal(t, c.want, got)
	}
}
