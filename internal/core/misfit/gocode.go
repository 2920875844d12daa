package misfit

import (
	"go/types"
	"reflect"

	"dorvik.dev/dorvik/internal/core/rx"
)

// goCode is an error code of go/types. The package does not export its codes, but allows tools to read them; their
// numbers, in internal/types/errors, do not change from release to release.
type goCode int

// The codes of errors that two edits can bring about.
const (
	brokenImport       goCode = 6
	unusedImport       goCode = 8
	duplicateDecl      goCode = 10
	wrongAssignCount   goCode = 17
	invalidIfaceAssign goCode = 21
	incompatibleAssign goCode = 23
	fieldAndMethod     goCode = 33
	duplicateMethod    goCode = 34
	duplicateLitKey    goCode = 60
	missingLitField    goCode = 66
	undeclaredImported goCode = 73
	undeclaredName     goCode = 75
	missingMember      goCode = 76
	unusedVar          goCode = 101
	duplicateCase      goCode = 113
	wrongArgCount      goCode = 126
)

// goKinds has the kind of misfit of each code, and where in its message the name stands that it is about.
var goKinds = map[goCode]struct {
	kind Kind
	name *rx.Expr
}{
	invalidIfaceAssign: {Implements, rx.New(`\((?:missing method|wrong type for method) (\w+)\)`)},
	duplicateDecl:      {Duplicate, rx.New(`^(?:duplicate method )?(\w+)`)},
	duplicateMethod:    {Duplicate, rx.New(`^method (?:\w+\.)?(\w+)`)},
	fieldAndMethod:     {Duplicate, rx.New(`name (\w+)$`)},
	duplicateCase:      {Duplicate, rx.New(`^duplicate case "?([^"\s]+)"?`)},
	duplicateLitKey:    {Duplicate, rx.New(`^duplicate key "?([^"\s]+)"?`)},
	unusedImport:       {Import, rx.New(`^"([^"]+)"`)},
	brokenImport:       {Moved, rx.New(`^could not import (\S+) \(`)},
	undeclaredName:     {Removed, rx.New(`(\w+)$`)},
	undeclaredImported: {Removed, rx.New(`(\w+)$`)},
	missingMember:      {Removed, rx.New(`has no field or method (\w+)`)},
	missingLitField:    {Removed, rx.New(`^unknown field (\w+)`)},
	unusedVar:          {Removed, rx.New(`(\w+)$`)},
	wrongArgCount:      {Signature, rx.New(`^.* in call to (?:\S+\.)?(\w+)`)},
	wrongAssignCount:   {Signature, rx.New(` but (?:\S+\.)?(\w+)(?:\(.*\))? returns`)},
	incompatibleAssign: {Signature, rx.New(` in argument to (?:\S+\.)?(\w+)`)},
}

// codeOf returns the code of an error.
func codeOf(e types.Error) goCode {
	if f := reflect.ValueOf(e).FieldByName("go116code"); f.CanInt() {
		return goCode(f.Int())
	}
	return 0
}

// about returns the kind of misfit that an error with a message would be, and the name it is about. Each is empty where
// it is not known.
func (c goCode) about(msg string) (kind Kind, name string) {
	row, ok := goKinds[c]
	if !ok {
		return "", ""
	}
	if g := row.name.FindStringSubmatch(msg); g != nil {
		name = g[1]
	}
	return row.kind, name
}
