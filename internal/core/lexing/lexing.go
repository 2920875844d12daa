// Package lexing cuts code into tokens by the language that a file's name implies. The languages are those of chroma;
// their definitions are read from lexers.zip at their first use, because reading all takes longer than the rest of the
// start. Go is read by the scanner of the standard library.
package lexing

//go:generate sh -c "cd ../../.. && go run ./scripts/lexers"

import (
	"archive/zip"
	"bytes"
	_ "embed"
	"errors"
	"io"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/alecthomas/chroma/v2"

	"dorvik.dev/dorvik/internal/core/rx"
)

//go:embed lexers.zip
var packed []byte

// language is the entry of a language in the index.
type language struct {
	file     string
	called   []string
	patterns []string
	priority float64
}

// library is the content of the archive.
type library struct {
	*zip.Reader
	list     []language
	byName   map[string][]int // indexes of languages, by whole file name
	byEnding map[string][]int // and by the ending in patterns such as *.py
	other    []int            // languages with other patterns
}

// archive opens the archive once.
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

// add records that a pattern belongs to a language.
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

// of returns the language of a file's name with the highest priority, or nil.
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
	loaded = map[string]chroma.Lexer{} // by file; nil for an unusable definition
)

// lexerOf returns the lexer for a file's name, or nil.
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
		// Each lexer gets its own registry with the lexers it uses, complete before anybody sees it. Nothing is added
		// while it is in use.
		lexer = lib.load(l.file, chroma.NewLexerRegistry(), map[string]bool{})
		loaded[l.file] = lexer
	}
	return lexer
}

// using matches the other languages that a definition uses for parts of a text.
var using = rx.New(`<using lexer="([^"]+)"`)

// load reads a definition and those that it uses into a registry. It returns nil if one of them is missing. seen has
// the files that are being read.
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

// Limits of a text that is cut into tokens: definitions of languages go over some texts again and again.
const (
	largest = 1 << 20                // bytes
	longest = 250 * time.Millisecond // time limit for the whole text
)

// Tokens cuts a text into tokens that together are the text. ok is false if the language is unknown, the text is not
// of it, or the text is too much for its definition.
func Tokens(name, text string) (out []chroma.Token, ok bool) {
	out, err := Cut(name, text)
	return out, err == nil
}

// Errors of Cut.
var (
	ErrUnknown = errors.New("its language is not known")
	ErrSlow    = errors.New("it is more than can be read as code in a moment")
)

// Cut is Tokens with an error. It takes at most a quarter of a second; the lexer may go on in the background until it
// ends.
func Cut(name, text string) (out []chroma.Token, err error) {
	if path.Ext(name) == ".go" {
		return goTokens(text), nil
	}
	l := lexerOf(name)
	switch {
	case l == nil:
		return nil, ErrUnknown
	case len(text) > largest:
		return nil, ErrSlow
	}
	end := time.Now().Add(longest)
	type outcome struct {
		tokens []chroma.Token
		err    error
	}
	done := make(chan outcome, 1)
	go func() {
		tokens, err := cutWithin(l, text, end)
		done <- outcome{tokens, err}
	}()
	late := time.NewTimer(longest)
	defer late.Stop()
	select {
	case o := <-done:
		return o.tokens, o.err
	case <-late.C:
		return nil, ErrSlow
	}
}

// cutWithin cuts a text by a lexer within a time limit. It merges consecutive tokens of one kind.
func cutWithin(l chroma.Lexer, text string, end time.Time) (out []chroma.Token, err error) {
	defer func() {
		if recover() != nil { // the definition cannot handle the text
			out, err = nil, ErrUnknown
		}
	}()
	it, err := l.Tokenise(&chroma.TokeniseOptions{State: "root"}, text)
	if err != nil {
		return nil, ErrUnknown
	}
	var value strings.Builder
	kind := chroma.TokenType(0)
	put := func() {
		if value.Len() > 0 {
			out = append(out, chroma.Token{Type: kind, Value: value.String()})
			value.Reset()
		}
	}
	for n := 0; ; n++ {
		t := it()
		if t == chroma.EOF {
			put()
			return out, nil
		}
		if n%16 == 0 && time.Now().After(end) {
			return nil, ErrSlow
		}
		if t.Value == "" {
			continue
		}
		if t.Type != kind || value.Len() > longestToken {
			put()
			kind = t.Type
		}
		value.WriteString(t.Value)
	}
}

// longestToken is the length in bytes above which tokens are not merged.
const longestToken = 8 << 10
