package lexing

import (
	"errors"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/alecthomas/chroma/v2"
	"github.com/alecthomas/chroma/v2/lexers"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func joined(tokens []chroma.Token) string {
	var b strings.Builder
	for _, t := range tokens {
		b.WriteString(t.Value)
	}
	return b.String()
}

// TestTokensAreChromas: read from the archive, a language is cut as the library cuts it.
func TestTokensAreChromas(t *testing.T) {
	for name, text := range map[string]string{
		"a.py":    "# tide\ndef depth(at):\n    \"\"\"How deep.\"\"\"\n    return f'{at}' + \"m\" * 2\n",
		"a.ts":    "// tide\nexport const depth = (at: number): string => `${at} m`;\n",
		"a.js":    "/* tide */ function depth(at) { return at > 2 ? 'm' : null }\n",
		"a.rs":    "// tide\nfn depth(at: u32) -> String { format!(\"{} m\", at) }\n",
		"A.java":  "class A { /* tide */ String depth(int at) { return at + \"m\"; } }\n",
		"a.c":     "#include <stdio.h>\nint depth(int at) { return 'm' + at; } // tide\n",
		"a.sh":    "# tide\ndepth() { echo \"$1 m\"; }\n",
		"a.yaml":  "tide: # deep\n  - depth: 'm'\n",
		"a.json":  "{\"depth\": [1, null]}\n",
		"a.html":  "<p class=\"tide\">deep</p><script>let a = 'm'</script>\n",
		"a.sql":   "-- tide\nselect depth from piers where name = 'm';\n",
		"a.proto": "// tide\nmessage Depth { int32 at = 1; }\n", "a.kt": "fun depth(at: Int) = \"$at m\" // tide\n",
		"Makefile": "# tide\ndepth: at\n\techo $@\n", "Dockerfile": "FROM tide # deep\nRUN echo m\n",
		"a.toml":         "tide = 'm' # deep\n",
		"CMakeLists.txt": "# tide\nadd_library(depth at.c)\n", "a.css": ".tide { color: \"m\" } /* deep */\n",
		"a.unknown": "x",
	} {
		lexer := lexers.Match(name)
		got, ok := Tokens(name, text)
		require.Equal(t, lexer != nil, ok, name)
		if !ok {
			continue
		}
		it, err := chroma.Coalesce(lexer).Tokenise(&chroma.TokeniseOptions{State: "root"}, text)
		require.NoError(t, err)
		assert.Equal(t, it.Tokens(), got, name)
	}
}

// TestTheNameTells: a name goes before an ending that it has too, in whatever order they are asked for.
func TestTheNameTells(t *testing.T) {
	lib, err := archive()
	require.NoError(t, err)
	for _, name := range []string{"a.txt", "CMakeLists.txt", "a.txt", "Makefile", "a.mk", "x.tar.gz", "Dockerfile",
		"a.py", ".bashrc",
		"PKGBUILD", "a.d.ts", "nginx.conf", "a.conf"} {
		want := ""
		if l := lexers.Match(name); l != nil {
			want = l.Config().Name
		}
		got := ""
		if l := lib.of(name); l != nil {
			got = lexerOf(name).Config().Name
		}
		assert.Equal(t, want, got, name)
	}
}

// TestGo: the tokens are the text, whatever it is, and each is what it is.
func TestGo(t *testing.T) {
	const text = "// tide\npackage a\n\n/* deep\n*/ func depth(at int) string {\n\treturn fmt.Sprint(at, 'm', " +
		"\"x\", `r\r\nw`, 0x1f, nil)\n}\n"
	got, ok := Tokens("d/a.go", text)
	require.True(t, ok)
	assert.Equal(t, text, joined(got))
	kinds := map[string]chroma.TokenType{}
	for _, one := range got {
		kinds[one.Value] = one.Type
	}
	for value, want := range map[string]chroma.TokenType{"// tide": chroma.CommentSingle,
		"/* deep\n*/": chroma.CommentSingle,
		"package":     chroma.Keyword, "depth": chroma.NameFunction, "at": chroma.NameOther, "int": chroma.KeywordType,
		"'m'": chroma.LiteralStringChar, "\"x\"": chroma.LiteralString, "`r\r\nw`": chroma.LiteralString,
		"0x1f": chroma.LiteralNumber,
		"nil":  chroma.KeywordConstant, "{": chroma.Operator, "Sprint": chroma.NameFunction} {
		assert.Equal(t, want, kinds[value], value)
	}
	for _, odd := range []string{"", "\n", "\"open", "`open\n", "/* open", "a\x00b", "\xff\xfe", "func (", "'"} {
		got, _ := Tokens("a.go", odd)
		assert.Equal(t, odd, joined(got), "%q", odd)
	}
}

// TestEveryLanguageLoads, from several goroutines at a time; but those that are cut by ones that are not in the archive.
func TestEveryLanguageLoads(t *testing.T) {
	lib, err := archive()
	require.NoError(t, err)
	require.Greater(t, len(lib.list), 200)
	var wait sync.WaitGroup
	var mu sync.Mutex
	var without []string
	for _, l := range lib.list {
		if len(l.patterns) == 0 {
			continue
		}
		wait.Go(func() {
			name := strings.NewReplacer("*", "a", "?", "a", "[", "", "]", "").Replace(l.patterns[0])
			if lexerOf(name) == nil {
				mu.Lock()
				defer mu.Unlock()
				without = append(without, name)
				return
			}
			const text = "tide 1\n"
			if got, ok := Tokens(name, text); ok { // it ends
				assert.Equal(t, strings.TrimSpace(text), strings.TrimSpace(joined(got)), l.file)
			}
		})
	}
	wait.Wait()
	assert.ElementsMatch(t, []string{"a.1-9", "a.templ"}, without, "a name that is none, and one that is cut by "+
		"another's Go")
}

// TestNoTextTakesLong: whatever a definition makes of it, it ends in about a moment, and says that it was too much.
func TestNoTextTakesLong(t *testing.T) {
	slow := 0
	for name, text := range map[string]string{
		"Makefile": "a:\n" + strings.Repeat("$(", 7500), "a.c": strings.Repeat("\n", 5000), "b.c": strings.Repeat("#",
			5000),
		"a.py": strings.Repeat("f\"{", 4000), "a.js": strings.Repeat("`${", 4000), "a.html": strings.Repeat("<a ", 9000),
		"a.sh": strings.Repeat("$((", 4000), "a.rb": strings.Repeat("%w(", 4000), "a.css": strings.Repeat("a{", 9000),
		"a.yaml": strings.Repeat("- ", 9000), "a.sql": strings.Repeat("('", 9000), "a.md": strings.Repeat("[(", 9000),
		"a.json": strings.Repeat("[", 90000), "a.toml": strings.Repeat("[", 9000), "a.kt": strings.Repeat("\"${", 4000),
		"a.pl": strings.Repeat("m{", 4000), "a.php": "<?php " + strings.Repeat("{$",
			4000), "big.py": strings.Repeat("x", 2<<20),
	} {
		begun := time.Now()
		_, err := Cut(name, text)
		assert.Less(t, time.Since(begun), 5*time.Second, name)
		if errors.Is(err, ErrSlow) {
			slow++
		}
	}
	assert.Positive(t, slow)
}
