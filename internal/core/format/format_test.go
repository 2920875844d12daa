package format

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestProblem(t *testing.T) {
	for _, c := range []struct{ name, text, want string }{
		{"a.go", "package a\nfunc f() { x := 1; x = 2; _ = x }\n", ""},
		{"a.go", "package a\nfunc f( {\n", "line 2: "},
		{"a.go", "package a\nfunc f() {\n\trate := 1\n\t_ = rate\n\trate := 2\n}\n", "line 5: rate := twice"},
		{"a.go", "package a\nimport \"nowhere/at/all\"\nvar _ = all.X + undefined\n", ""},
		{"a.go", "package a\nvar x = 1\nvar x = 2\n", "line 3: x is declared twice"},
		{"a.JSON", `{"a": 1}`, ""},
		{"a.json", "{\"a\": 1\n\"b\": 2}", "line 2: "},
		{"a.json", "{} {}", "line 1: more text"},
		{"a.json", "", "line 1: "},
		{"a.json", "{\"a\": {\"b\": [1, {\"a\": 2}]},\n\"b\": 1}", ""},
		{"a.json", "{\"a\": 1,\n\"a\": 2}", "line 2: \"a\" is there twice"},
		{"a.yaml", "a: 1\n---\na: 2\n", ""},
		{"a.yml", "a: 1\nb: [\n", "line "},
		{"a.yaml", "a: 1\na: 2\n", "line 2: mapping key"},
		{"a.toml", "a = 1\n[b]\na = 1\n", ""},
		{"a.toml", "a = 1\na = 2\n", "line 2: Key 'a' has already"},
		{"a.csproj", "<?xml version=\"1.0\" encoding=\"latin1\"?>\n<a><b/></a>\n", ""},
		{"a.xml", "<a>\n<b></a>\n", "line 2: "},
		{"a.csv", "a;b\n1;\"2\n3\"\n", ""},
		{"a.tsv", "a\tb\n1\n", "line 2: wrong number of fields"},
		{"a.txt", "<<<<", ""},
	} {
		got := Problem(c.name, c.text)
		if c.want == "" {
			assert.Empty(t, got, c.text)
		} else {
			assert.Contains(t, got, c.want, c.text)
		}
	}
}
