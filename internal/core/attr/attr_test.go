package attr

import (
	"path"
	"slices"
	"strings"
	"testing"

	"dorvik.dev/dorvik/internal/gittest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// text is a Value as git check-attr prints it.
func text(v Value) string {
	switch v.State {
	case Set:
		return "set"
	case Unset:
		return "unset"
	case Valued:
		return v.Text
	}
	return "unspecified"
}

// TestAgreesWithGit asks git about every path under each set of files, given as
// "dir: line; line".
func TestAgreesWithGit(t *testing.T) {
	paths := []string{"a", "a.txt", "d/a.txt", "d/e/a.txt", "d/e/f/b.c", "b.c", "x y", "d/[z]", "[z]", "a-b", "q",
		"d/q/r", "é.txt", "A.TXT", "!n", "#h", "d/e/z9"}
	for _, files := range [][]string{
		{": *.txt merge=union"},
		{": *.txt merge=union; a.txt -merge; d/a.txt !merge"},
		{": * text=auto; *.c binary; b.c merge eol=lf"},
		{": d/*.txt merge=x", "d: a.txt merge=y; e/* merge=z", "d/e: *.c -text"},
		{": /a merge; /d/e text; e/ binary; q/ binary; d/** eol=crlf"},
		{": **/a.txt merge=m; d/**/b.c text; **/e/** x=1"},
		{`: "x y" merge=q; "\303\251.txt" text; ?-? merge=d; [a-c].c merge=r; [!b].c merge=n; d/[[]z] merge=b; \#h text; \!n text; !n merge`},
		{": [attr]mine -merge text=auto; [attr]more mine eol=lf; *.txt more; a mine=3",
			"d: [attr]no merge; a.txt no; *.txt -mine"},
		{": a  merge\tfoo=bar ; # nothing; ; = x; a -=y; a -merge merge=last; b.c merge=; [ merge; [z merge=open; a* " +
			"b*=c"},
		{": *a* one; *.* two; *?.c three; ** four; a** five; d**a.txt six; d/e/z[0-9] seven; d/e/z[[:digit:]] eight; " +
			"z[^0] nine; [0-] ten; a[-x]b eleven; \\a twelve"},
	} {
		git := gittest.New(t)
		var scopes []Scope
		for _, f := range files {
			dir, lines, _ := strings.Cut(f, ": ")
			body := strings.ReplaceAll(lines, "; ", "\n") + "\n"
			git.Write(path.Join(dir, ".gitattributes"), body)
			scopes = append(scopes, Scope{dir, Parse(body)})
		}
		names := []string{"merge", "text", "eol", "diff", "binary", "mine", "more", "no", "foo", "x", "one", "two",
			"three", "four", "five", "six", "seven", "eight", "nine", "ten", "eleven", "twelve", "b*"}
		names = slices.DeleteFunc(names, func(s string) bool { return !validName(s) })
		for _, p := range paths {
			out := git.Git(append(append([]string{"check-attr", "-z"}, names...), "--", p)...)
			fields := strings.Split(strings.TrimSuffix(out, "\x00"), "\x00")
			require.Len(t, fields, 3*len(names))
			got := Of(scopes, p)
			for i, name := range names {
				assert.Equal(t, fields[3*i+2], text(got[name]), "%s of %s under %v", name, p, files)
			}
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add("*.txt merge=union -text\n[attr]x y\n\"a b\" !z\n", "d/a.txt")
	f.Add("[!a-z[:alpha:]\\] x", "[")
	f.Add("**/x/** [", "a/x/b")
	f.Fuzz(func(t *testing.T, body, p string) {
		for name, v := range Of([]Scope{{"", Parse(body)}, {"d", Parse(body)}}, p) {
			assert.NotEmpty(t, name)
			assert.NotEqual(t, Unspecified, v.State)
		}
	})
}
