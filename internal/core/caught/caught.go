// Package caught turns a panic into an error, so that a defect in one part does not end the job.
package caught

import (
	"fmt"
	"path"
	"runtime"
	"strings"
)

// Error is a caught panic. Its text describes the defect in one line.
type Error struct {
	Value any    // what panic was called with
	At    string // file and line of the code that panicked, such as misfit/golang.go:144; empty if unknown
}

func (e *Error) Error() string {
	at := ""
	if e.At != "" {
		at = ", at " + e.At
	}
	return fmt.Sprintf("a defect in Dorvik, not in your repository (%v%s)", e.Value, at)
}

// Do calls do and returns its error. If do panics, Do returns an *Error. A panic in a goroutine that do
// starts is not caught.
func Do(do func() error) (err error) {
	defer func() {
		if v := recover(); v != nil {
			err = From(v)
		}
	}()
	return do()
}

// From makes an *Error of a recovered value. Call it from the deferred function that recovered. An *Error is returned
// unchanged.
func From(value any) *Error {
	if e, ok := value.(*Error); ok {
		return e
	}
	return &Error{value, place()}
}

// place finds the function that panicked: the first frame that does not belong to the runtime.
func place() string {
	pcs := make([]uintptr, 64)
	frames := runtime.CallersFrames(pcs[:runtime.Callers(1, pcs)])
	panicked := false
	for {
		f, more := frames.Next()
		inRuntime := strings.HasPrefix(f.Function, "runtime.")
		if panicked && !inRuntime {
			return fmt.Sprintf("%s/%s:%d", path.Base(path.Dir(f.File)), path.Base(f.File), f.Line)
		}
		panicked = panicked || f.Function == "runtime.gopanic"
		if !more {
			return ""
		}
	}
}
