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
	"regexp"
	"strconv"
	"strings"
	"sync"

	"github.com/alecthomas/chroma/v2"
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

// archive is opened once.
var archive = sync.OnceValues(func() (*zip.Reader, []language) {
	z, err := zip.NewReader(bytes.NewReader(packed), int64(len(packed)))
	if err != nil {
		return nil, nil
	}
	index, err := read(z, "index")
	if err != nil {
		return nil, nil
	}
	var list []language
	for line := range strings.Lines(string(index)) {
		f := strings.Split(strings.TrimSuffix(line, "\n"), "\t")
		if len(f) < 3 {
			continue
		}
		l := language{file: f[1], called: strings.Split(f[2], ",")}
		for _, p := range f[3:] {
			if p != "" {
				l.patterns = append(l.patterns, p)
			}
		}
		if l.priority, err = strconv.ParseFloat(f[0], 64); err != nil || l.priority == 0 {
			l.priority = 1
		}
		list = append(list, l)
	}
	return z, list
})

func read(z *zip.Reader, name string) ([]byte, error) {
	f, err := z.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(f)
}

var (
	mu       sync.Mutex
	registry = chroma.NewLexerRegistry()
	loaded   = map[string]chroma.Lexer{} // by file; nil for one that cannot be used
	known    = map[string]chroma.Lexer{} // by what of a name tells the language
)

// lexerOf gives the lexer for a file's name; nil where none is known.
func lexerOf(name string) chroma.Lexer {
	base := path.Base(name)
	mu.Lock()
	defer mu.Unlock()
	key := path.Ext(base)
	if key == "" {
		key = base
	}
	if l, ok := known[key]; ok && key != base {
		return l
	}
	z, list := archive()
	best := -1
	for i, l := range list {
		for _, p := range l.patterns {
			if ok, err := path.Match(p, base); err == nil && ok && (best < 0 || l.priority > list[best].priority) {
				best = i
			}
		}
	}
	var l chroma.Lexer
	plain := key != base // its ending alone tells
	if best >= 0 {
		l = load(z, list, list[best].file)
		_, err := path.Match("*"+key, base)
		plain = plain && err == nil && hasPattern(list[best].patterns, "*"+key)
	}
	if plain {
		known[key] = l
	}
	return l
}

func hasPattern(list []string, p string) bool {
	for _, one := range list {
		if one == p {
			return true
		}
	}
	return false
}

// using are the other languages that a definition hands parts of a text to.
var using = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`<using lexer="([^"]+)"`) })

// load reads a definition, and those that it uses; nil where one of them is not there.
func load(z *zip.Reader, list []language, file string) chroma.Lexer {
	if l, ok := loaded[file]; ok {
		return l
	}
	loaded[file] = nil // while it is read
	text, err := read(z, file)
	if err != nil {
		return nil
	}
	for _, m := range using().FindAllSubmatch(text, -1) {
		found := false
		for _, other := range list {
			if hasPattern(other.called, strings.ToLower(string(m[1]))) && (other.file == file || load(z, list,
				other.file) != nil) {
				found = true
				break
			}
		}
		if !found {
			return nil
		}
	}
	l, err := chroma.NewXMLLexer(z, file)
	if err != nil {
		return nil
	}
	loaded[file] = registry.Register(l)
	return loaded[file]
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
