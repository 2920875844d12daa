package settle

import (
	"cmp"
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"go/ast"
	"go/parser"
	"go/scanner"
	"go/token"
	"go/types"
	"io"
	"path"
	"strings"

	"github.com/BurntSushi/toml"
	"go.yaml.in/yaml/v3"
)

// language is what is known of the files of one language.
type language struct {
	problem func(text string) string // the first that a text has, or empty
	entries reader                   // nil where texts have no entries with keys
}

var languages = map[string]language{
	".go":   {goProblem, nil},
	".json": {jsonProblem, jsonEntries},
	".yaml": {yamlProblem, lineEntries(yamlMarks)},
	".toml": {tomlProblem, lineEntries(tomlMarks)},
	".xml":  {xmlProblem, xmlEntries},
	".csv":  {csvProblem, lineEntries(csvMarks)},
}

// sameLanguage tells endings of files that are of another's language.
var sameLanguage = map[string]string{
	".yml": ".yaml", ".tsv": ".csv",
	".csproj": ".xml", ".fsproj": ".xml", ".props": ".xml", ".targets": ".xml", ".svg": ".xml", ".resx": ".xml", ".plist": ".xml", ".xaml": ".xml",
}

// languageOf tells a file's language by its name. What is not known has neither
// problems nor entries.
func languageOf(name string) language {
	ext := strings.ToLower(path.Ext(name))
	return languages[cmp.Or(sameLanguage[ext], ext)]
}

// HasReader reports whether Problem can read files of this name's language.
func HasReader(name string) bool { return languageOf(name).problem != nil }

// Problem says what is wrong with a file's text, in a few words with the line;
// empty where nothing is, or where nothing here reads the language. That is the
// grammar, and what joined texts often bring about: names declared twice in one
// scope, and keys that are there twice.
func Problem(name, text string) string {
	if read := languageOf(name).problem; read != nil {
		return read(text)
	}
	return ""
}

func goProblem(text string) string {
	fset := token.NewFileSet()
	file, err := parser.ParseFile(fset, "", text, parser.SkipObjectResolution)
	var list scanner.ErrorList
	if errors.As(err, &list) && len(list) > 0 {
		return fmt.Sprintf("line %d: %s", list[0].Pos.Line, list[0].Msg)
	}
	if err != nil {
		return err.Error()
	}
	problem := ""
	conf := types.Config{FakeImportC: true, Error: func(err error) {
		var e types.Error
		if problem != "" || !errors.As(err, &e) {
			return
		}
		line := fset.Position(e.Pos).Line
		if name, ok := strings.CutSuffix(e.Msg, " redeclared in this block"); ok {
			problem = fmt.Sprintf("line %d: %s is declared twice", line, name)
		} else if strings.HasPrefix(e.Msg, "no new variables on left side") {
			problem = fmt.Sprintf("line %d: %s := twice", line, assigned(file, e.Pos))
		}
	}}
	// Only this one file is seen, so all other errors may be no errors at all.
	_, _ = conf.Check("joined", fset, []*ast.File{file}, nil)
	return problem
}

// assigned gives the names on the left of the assignment at a position.
func assigned(file *ast.File, pos token.Pos) string {
	names := ""
	ast.Inspect(file, func(n ast.Node) bool {
		if a, ok := n.(*ast.AssignStmt); ok && a.Pos() <= pos && pos <= a.End() {
			names = ""
			for _, l := range a.Lhs {
				if id, ok := l.(*ast.Ident); ok {
					names = strings.TrimPrefix(names+", "+id.Name, ", ")
				}
			}
		}
		return true
	})
	return names
}

func jsonProblem(text string) string {
	dec := json.NewDecoder(strings.NewReader(text))
	at := func(offset int64) int { return 1 + strings.Count(text[:min(int(offset), len(text))], "\n") }
	type level struct {
		keys  map[string]bool // of an object
		value bool            // the next token is a member's value
	}
	var open []level
	for values := 0; ; {
		token, err := dec.Token()
		if errors.Is(err, io.EOF) && values > 0 && len(open) == 0 {
			return ""
		}
		if err == nil && values > 0 && len(open) == 0 {
			err = errors.New("more text after the value")
		}
		if err != nil {
			offset := dec.InputOffset()
			var syntax *json.SyntaxError
			if errors.As(err, &syntax) {
				offset = syntax.Offset
			}
			return fmt.Sprintf("line %d: %v", at(offset), err)
		}
		if delim, ok := token.(json.Delim); ok && (delim == '}' || delim == ']') {
			open = open[:len(open)-1]
		} else if n := len(open); n > 0 && open[n-1].keys != nil && !open[n-1].value {
			key := token.(string)
			if open[n-1].keys[key] {
				return fmt.Sprintf("line %d: %q is there twice", at(dec.InputOffset()), key)
			}
			open[n-1].keys[key], open[n-1].value = true, true
			continue
		} else if ok {
			next := level{}
			if delim == '{' {
				next.keys = map[string]bool{}
			}
			open = append(open, next)
			continue
		}
		if n := len(open); n > 0 {
			open[n-1].value = false
		} else {
			values++
		}
	}
}

func yamlProblem(text string) string {
	dec := yaml.NewDecoder(strings.NewReader(text))
	for {
		var v any
		err := dec.Decode(&v)
		var types *yaml.TypeError
		switch {
		case errors.Is(err, io.EOF):
			return ""
		case errors.As(err, &types) && len(types.Errors) > 0:
			return types.Errors[0]
		case err != nil:
			return strings.TrimPrefix(err.Error(), "yaml: ")
		}
	}
}

func tomlProblem(text string) string {
	var v map[string]any
	_, err := toml.Decode(text, &v)
	var parse toml.ParseError
	if errors.As(err, &parse) {
		return fmt.Sprintf("line %d: %s", parse.Position.Line, parse.Message)
	}
	if err != nil {
		return err.Error()
	}
	return ""
}

func xmlProblem(text string) string {
	dec := xml.NewDecoder(strings.NewReader(text))
	dec.CharsetReader = func(_ string, r io.Reader) (io.Reader, error) { return r, nil }
	for {
		_, err := dec.Token()
		var syntax *xml.SyntaxError
		switch {
		case errors.Is(err, io.EOF):
			return ""
		case errors.As(err, &syntax):
			return fmt.Sprintf("line %d: %s", syntax.Line, syntax.Msg)
		case err != nil:
			return err.Error()
		}
	}
}

func csvProblem(text string) string {
	r := csv.NewReader(strings.NewReader(text))
	r.Comma = csvComma(text)
	for {
		_, err := r.Read()
		var parse *csv.ParseError
		switch {
		case errors.Is(err, io.EOF):
			return ""
		case errors.As(err, &parse):
			return fmt.Sprintf("line %d: %v", parse.Line, parse.Err)
		case err != nil:
			return err.Error()
		}
	}
}

// csvComma is what separates cells: of tabs, semicolons and commas the one that the
// first line has most of.
func csvComma(text string) rune {
	head, _, _ := strings.Cut(text, "\n")
	most := ','
	for _, c := range ";\t" {
		if strings.Count(head, string(c)) > strings.Count(head, string(most)) {
			most = c
		}
	}
	return most
}
