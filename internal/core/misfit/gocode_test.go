package misfit

import (
	"errors"
	"go/ast"
	"go/parser"
	"go/token"
	"go/types"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestGoCodes compiles code for each row: with another numbering of the codes, or another message, it would fail.
func TestGoCodes(t *testing.T) {
	tried := map[goCode]bool{}
	for src, want := range map[string]struct {
		code goCode
		name string
	}{
		`import "no/where"`:            {brokenImport, "no/where"},
		`import "unsafe"`:              {unusedImport, "unsafe"},
		`var x = 1; var x = 2`:         {duplicateDecl, "x"},
		`type I interface{ M(); M() }`: {duplicateDecl, "M"},
		`type T struct{ A int; A int}`: {duplicateDecl, "A"},
		`func f() (int, int) { return 1, 2 }; func g() { a := f(); _ = a }`:           {wrongAssignCount, "f"},
		`type I interface{ M() }; type T struct{}; var _ I = T{}`:                     {invalidIfaceAssign, "M"},
		`type I interface{ M() }; type T struct{}; func (T) M(int) {}; var _ I = T{}`: {invalidIfaceAssign, "M"},
		`type S struct{}; func (S) F(int) {}; func g() { S{}.F("") }`:                 {incompatibleAssign, "F"},
		`var a int = ""`: {incompatibleAssign, ""},
		`type T struct{ M int }; func (T) M() {}`:           {fieldAndMethod, "M"},
		`type T struct{}; func (T) M() {}; func (T) M() {}`: {duplicateMethod, "M"},
		`var m = map[string]int{"a": 1, "a": 2}`:            {duplicateLitKey, "a"},
		`func f(i int) { switch i { case 1: case 1: } }`:    {duplicateCase, "1"},
		`type T struct{}; var a = T{B: 1}`:                  {missingLitField, "B"},
		`import "unsafe"; var a = unsafe.Nope`:              {undeclaredImported, "Nope"},
		`var a = b`:                                         {undeclaredName, "b"},
		`type T struct{}; var a = T{}.B`:                    {missingMember, "B"},
		`func f() { v := 1 }`:                               {unusedVar, "v"},
		`func f(int) {}; func g() { f() }`:                  {wrongArgCount, "f"},
		`func f(int) {}; func g() { f(1, 2) }`:              {wrongArgCount, "f"},
	} {
		fset := token.NewFileSet()
		f, err := parser.ParseFile(fset, "a.go", "package a\n"+src, 0)
		require.NoError(t, err, src)
		var first *types.Error
		conf := types.Config{Importer: nowhereImporter{}, Error: func(err error) {
			var e types.Error
			if errors.As(err, &e) && first == nil {
				first = &e
			}
		}}
		conf.Check("a", fset, []*ast.File{f}, nil) //nolint:errcheck // the errors are what is looked at
		require.NotNil(t, first, src)
		code := codeOf(*first)
		_, name := code.about(first.Msg)
		assert.Equal(t, want.code, code, "%s: %s", src, first.Msg)
		assert.Equal(t, want.name, name, "%s: %s", src, first.Msg)
		tried[want.code] = true
	}
	for code := range goKinds {
		assert.True(t, tried[code], code)
	}
}

type nowhereImporter struct{}

func (nowhereImporter) Import(path string) (*types.Package, error) {
	if path == "unsafe" {
		return types.Unsafe, nil
	}
	return nil, errors.New("not there")
}
