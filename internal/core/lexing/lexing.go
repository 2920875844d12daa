// Package lexing cuts code into tokens by the language that a file's name tells. The languages are those that chroma
// defines, read from lexers.zip when they are first needed, since reading all of them takes longer than all else that
// happens at the start of the program; Go is read by the scanner of the standard library.
package lexing

//go:generate sh -c "cd ../../.. && go run ./scripts/lexers"

import (
	"archive/zip"
	"bytes"
	_ "embed"
	"io"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/alecthomas/chroma/v2"

	"dorvik.dev/dorvik/internal/core/rx"
)

//go:embed lexers.zip
var packed []byte

// language is what the index says of one.
type language struct {
	file     string
	called   []string
	patterns []string
	priority float64
}

// library is what the archive holds.
type library struct {
	*zip.Reader
	list     []language
	byName   map[string][]int // languages by names that they are for
	byEnding map[string][]int // and by what follows the star of patterns such as *.py
	other    []int            // those with patterns of other kinds
}

// archive is opened once.
var archive = sync.OnceValues(func() (*library, error) {
	z, err := zip.NewReader(bytes.NewReader(packed), int64(len(packed)))
	if err != nil {
		return nil, err
	}
	index, err := read(z, "index")
	if err != nil {
		return nil, err
	}
	lib := &library{Reader: z, byName: map[string][]int{}, byEnding: map[string][]int{}}
	for line := range strings.Lines(string(index)) {
		f := strings.Split(strings.TrimSuffix(line, "\n"), "\t")
		if len(f) < 3 {
			continue
		}
		l := language{file: f[1], called: strings.Split(f[2], ",")}
		if l.priority, err = strconv.ParseFloat(f[0], 64); err != nil || l.priority == 0 {
			l.priority = 1
		}
		for _, p := range f[3:] {
			if p != "" {
				l.patterns = append(l.patterns, p)
				lib.add(p, len(lib.list))
			}
		}
		lib.list = append(lib.list, l)
	}
	return lib, nil
})

// add notes that a pattern is for a language.
func (lib *library) add(pattern string, language int) {
	const wild = "*?[\\"
	switch ending, star := strings.CutPrefix(pattern, "*"); {
	case !strings.ContainsAny(pattern, wild):
		lib.byName[pattern] = append(lib.byName[pattern], language)
	case star && strings.HasPrefix(ending, ".") && !strings.ContainsAny(ending, wild):
		lib.byEnding[ending] = append(lib.byEnding[ending], language)
	default:
		lib.other = append(lib.other, language)
	}
}

// of gives the language of a file's name, the one of the highest priority; nil where there is none.
func (lib *library) of(base string) (best *language) {
	consider := func(list []int) {
		for _, i := range list {
			if l := &lib.list[i]; best == nil || l.priority > best.priority {
				best = l
			}
		}
	}
	consider(lib.byName[base])
	for i := range base {
		if base[i] == '.' {
			consider(lib.byEnding[base[i:]])
		}
	}
	for _, i := range lib.other {
		if slices.ContainsFunc(lib.list[i].patterns, func(p string) bool {
			ok, err := path.Match(p, base)
			return err == nil && ok
		}) {
			consider([]int{i})
		}
	}
	return best
}

func read(z *zip.Reader, name string) ([]byte, error) {
	f, err := z.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(f)
}

var (
	mu     sync.Mutex
	loaded = map[string]chroma.Lexer{} // by file; nil for one that cannot be used
)

// lexerOf gives the lexer for a file's name; nil where none is known.
func lexerOf(name string) chroma.Lexer {
	lib, err := archive()
	if err != nil {
		return nil
	}
	l := lib.of(path.Base(name))
	if l == nil {
		return nil
	}
	mu.Lock()
	defer mu.Unlock()
	lexer, ok := loaded[l.file]
	if !ok {
		// Each has those that it uses beside it, complete before anybody has it: nothing is added while it is used.
		lexer = lib.load(l.file, chroma.NewLexerRegistry(), map[string]bool{})
		loaded[l.file] = lexer
	}
	return lexer
}

// using are the other languages that a definition hands parts of a text to.
var using = rx.New(`<using lexer="([^"]+)"`)

// load reads a definition, and those that it uses, into a registry; nil where one of them is not there. seen are the
// files that were begun.
func (lib *library) load(file string, into *chroma.LexerRegistry, seen map[string]bool) chroma.Lexer {
	seen[file] = true
	text, err := read(lib.Reader, file)
	if err != nil {
		return nil
	}
	for _, m := range using.FindAllSubmatch(text, -1) {
		called := strings.ToLower(string(m[1]))
		i := slices.IndexFunc(lib.list, func(l language) bool { return slices.Contains(l.called, called) })
		if i < 0 || !seen[lib.list[i].file] && lib.load(lib.list[i].file, into, seen) == nil {
			return nil
		}
	}
	l, err := chroma.NewXMLLexer(lib.Reader, file)
	if err != nil {
		return nil
	}
	return into.Register(l)
}

// Tokens cuts a text into tokens, which together are the text; ok is false where the language is not known, or the text
// is not of it.
func Tokens(name, text string) (out []chroma.Token, ok bool) {
	if path.Ext(name) == ".go" {
		return goTokens(text), true
	}
	l := lexerOf(name)
	if l == nil {
		return nil, false
	}
	defer func() {
		if recover() != nil { // a definition that does not go with a text
			out, ok = nil, false
		}
	}()
	it, err := chroma.Coalesce(l).Tokenise(&chroma.TokeniseOptions{State: "root"}, text)
	if err != nil {
		return nil, false
	}
	return it.Tokens(), true
}
