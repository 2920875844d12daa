// Package rx compiles regular expressions at their first use. The program has a hundred, and a command needs few of
// them; compiling all took a third of the start.
package rx

import (
	"regexp"
	"sync"
)

// Expr is a regular expression with the methods of regexp.Regexp that are used here. It is safe for concurrent use.
type Expr struct{ compiled func() *regexp.Regexp }

// New returns an Expr. The first use of an invalid expression panics. A test compiles all of them.
func New(expr string) *Expr {
	return &Expr{sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(expr) })}
}

// MatchString calls regexp.Regexp.MatchString.
func (e *Expr) MatchString(s string) bool { return e.compiled().MatchString(s) }

// FindString calls regexp.Regexp.FindString.
func (e *Expr) FindString(s string) string { return e.compiled().FindString(s) }

// FindStringSubmatch calls regexp.Regexp.FindStringSubmatch.
func (e *Expr) FindStringSubmatch(s string) []string { return e.compiled().FindStringSubmatch(s) }

// FindStringSubmatchIndex calls regexp.Regexp.FindStringSubmatchIndex.
func (e *Expr) FindStringSubmatchIndex(s string) []int {
	return e.compiled().FindStringSubmatchIndex(s)
}

// FindAllString calls regexp.Regexp.FindAllString.
func (e *Expr) FindAllString(s string, n int) []string { return e.compiled().FindAllString(s, n) }

// FindAllStringIndex calls regexp.Regexp.FindAllStringIndex.
func (e *Expr) FindAllStringIndex(s string, n int) [][]int {
	return e.compiled().FindAllStringIndex(s, n)
}

// FindAllStringSubmatch calls regexp.Regexp.FindAllStringSubmatch.
func (e *Expr) FindAllStringSubmatch(s string, n int) [][]string {
	return e.compiled().FindAllStringSubmatch(s, n)
}

// FindAllStringSubmatchIndex calls regexp.Regexp.FindAllStringSubmatchIndex.
func (e *Expr) FindAllStringSubmatchIndex(s string, n int) [][]int {
	return e.compiled().FindAllStringSubmatchIndex(s, n)
}

// ReplaceAllString calls regexp.Regexp.ReplaceAllString.
func (e *Expr) ReplaceAllString(s, with string) string { return e.compiled().ReplaceAllString(s, with) }

// FindAllSubmatch calls regexp.Regexp.FindAllSubmatch.
func (e *Expr) FindAllSubmatch(b []byte, n int) [][][]byte { return e.compiled().FindAllSubmatch(b, n) }
