package words

import (
	"testing"

	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestEveryShapeHasWords asks for every sentence about every shape, from either side.
func TestEveryShapeHasWords(t *testing.T) {
	entry := func(text string, m object.Mode) object.Entry {
		return object.Entry{Mode: m, ID: object.SHA1.Sum(object.KindBlob, []byte(text))}
	}
	file, other, link := entry("1", object.ModeFile), entry("2", object.ModeFile), entry("x", object.ModeLink)
	directory, none := entry("", object.ModeTree), object.Entry{}
	moved := func(from, to string) []merge.Move { return []merge.Move{{From: from, To: to}} }
	for _, c := range []struct {
		kind    merge.ConflictKind
		subject merge.Subject
		says    string
		takes   [2]string // what taking yours, and theirs, does
	}{
		{merge.ModifyDelete, &merge.Versions{Base: file, Yours: other},
			"Ilka deleted this file in 4598a1c, and you changed 2 lines of it in 1234567.", [2]string{"it is a file",
				"the file is deleted"}},
		{merge.ModifyDelete, &merge.Versions{Base: file, Theirs: other},
			"You deleted this file in 1234567, and Ilka changed 2 lines of it in 4598a1c.", [2]string{"the file is deleted", "it is a file"}},
		{merge.RenameDelete, &merge.Versions{Base: file, Theirs: other, From: "old"},
			"Ilka renamed old to this, and you deleted it.", [2]string{"the file is deleted", "it is a file"}},
		{merge.Binary, &merge.Versions{Base: file, Yours: other, Theirs: file},
			"both changed this file. It is not text", [2]string{"it is a file", "it is a file"}},
		{merge.AddAdd, &merge.Versions{Yours: other, Theirs: file, Why: "it is large"},
			"both added a file of this name. It is not joined line by line: it is large", [2]string{"it is a file",
				"it is a file"}},
		{merge.ModeBits, &merge.Versions{Yours: file, Theirs: entry("1", object.ModeExec)},
			"a program that can be run", [2]string{"a file", "an executable file"}},
		{merge.Type, &merge.Versions{Base: file, Yours: link, Theirs: other}, "different kinds of thing",
			[2]string{"it is a symbolic link", "it is a file"}},
		{merge.Symlink, &merge.Versions{Yours: link, Theirs: link}, "pointed this link elsewhere",
			[2]string{"it is a symbolic link", "it is a symbolic link"}},
		{merge.Submodule, &merge.Versions{Yours: entry("1", object.ModeSubmodule), Theirs: entry("2",
			object.ModeSubmodule)}, "moved this submodule", [2]string{"it is a submodule", "it is a submodule"}},
		{merge.FileDirectory, &merge.Clash{Base: none, Yours: file, Theirs: directory},
			"You have a file of this name, and Ilka has a directory",
			[2]string{"the file; the directory is left out", "the directory; the file is left out"}},
		{merge.FileDirectory, &merge.Clash{Base: none, Yours: directory, Theirs: file},
			"Ilka has a file of this name, and you have a directory",
			[2]string{"the directory; the file is left out", "the file; the directory is left out"}},
		{merge.FileDirectory, &merge.Naming{At: "old", From: "old", Yours: merge.Placing{Name: "new",
			Moves: moved("old", "new")}, Theirs: merge.Placing{Name: "old"}},
			"You renamed old to this, and Ilka has a directory of this name", [2]string{"the file is new",
				"the file is old"}},
		{merge.RenameRename, &merge.Naming{At: "a", From: "old", Also: "b", Yours: merge.Placing{Name: "a"},
			Theirs: merge.Placing{Name: "b", Moves: moved("a", "b")}}, "both renamed old, to different names",
			[2]string{"the file is a", "the file is b"}},
		{merge.RenameAdd, &merge.Naming{At: "old", From: "old", Yours: merge.Placing{Name: "old"},
			Theirs: merge.Placing{Name: "new", Moves: append(moved("old", "new"), moved("new", "new-yours")...)}},
			"Ilka renamed old to this, and you have another file of this name", [2]string{"the file is old",
				"the file is new; what is there becomes new-yours"}},
		{merge.DirectoryRename, &merge.Naming{At: "d/new", Also: "d/new", Placer: merge.Theirs,
			Yours:  merge.Placing{Name: "e/new", Moves: moved("d/new", "e/new")},
			Theirs: merge.Placing{Name: "d/new"}}, "Ilka put this file at d/new, and you moved that directory. " +
			"Neither", [2]string{"the file is e/new", "the file is d/new"}},
		{merge.DirectoryRename, &merge.Naming{At: "d/new", Placer: merge.Yours, Yours: merge.Placing{Name: "d/new"},
			Theirs: merge.Placing{Moves: moved("d/new", "")}}, "It cannot follow", [2]string{"the file is d/new",
			"the file is left out"}},
	} {
		q := settle.Open(&merge.Conflict{Path: "here", Kind: c.kind, Subject: c.subject}).Questions[0]
		assert.Contains(t, About(q, Credits{"Ilka", "1234567", "4598a1c", 2}), c.says, c.kind)
		assert.NotEmpty(t, Hint(q), c.kind)
		assert.Equal(t, q.Suggested != "", Why(q) != "", c.kind)
		b, y, th := Has(q)
		for _, has := range []string{b, y, th} {
			assert.NotEmpty(t, has, c.kind)
		}
		for i, way := range []settle.Way{settle.Yours, settle.Theirs} {
			_, offered := q.Option(way)
			require.True(t, offered, "%s %s", c.kind, way)
			assert.Contains(t, Outcome(q, way), c.takes[i], c.kind)
		}
	}
}

func TestSizes(t *testing.T) {
	for n, want := range map[int]string{0: "0 bytes", 1: "1 byte", 999: "999 bytes", 4100: "4.1 kB",
		5300000: "5.3 MB"} {
		assert.Equal(t, want, bytesOf(n))
	}
}

func TestLeftOutSaysWhatItIs(t *testing.T) {
	assert.Equal(t, "timeout = 20", LeftOut("timeout = 20", "", false))
	assert.Equal(t, "deleted, but kept: x", LeftOut("deleted", "x", false))
	assert.Equal(t, "deleted, but still there", LeftOut("deleted", "", false))
	assert.Equal(t, "x   (changed by your mend)", LeftOut("x", "", true))
	assert.Equal(t, "your mode", Given(merge.Yours, "mode"))
}
