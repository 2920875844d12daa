// Package rx has regular expressions that are compiled when they are first used. There are a hundred in the program,
// and a command needs few of them: compiling all took a third of the time that it takes to start.
package rx

import (
	"regexp"
	"sync"
)

// Expr is an expression of package regexp, whose methods it has as far as they are used. It is safe for concurrent
// use.
type Expr struct{ compiled func() *regexp.Regexp }

// New takes an expression, which has to be a valid one: the first use of another panics. A test compiles all there are.
func New(expr string) *Expr {
	return &Expr{sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(expr) })}
}

// MatchString is that of regexp.Regexp.
func (e *Expr) MatchString(s string) bool { return e.compiled().MatchString(s) }

// FindString is that of regexp.Regexp.
func (e *Expr) FindString(s string) string { return e.compiled().FindString(s) }

// FindStringSubmatch is that of regexp.Regexp.
func (e *Expr) FindStringSubmatch(s string) []string { return e.compiled().FindStringSubmatch(s) }

// FindStringSubmatchIndex is that of regexp.Regexp.
func (e *Expr) FindStringSubmatchIndex(s string) []int {
	return e.compiled().FindStringSubmatchIndex(s)
}

// FindAllString is that of regexp.Regexp.
func (e *Expr) FindAllString(s string, n int) []string { return e.compiled().FindAllString(s, n) }

// FindAllStringIndex is that of regexp.Regexp.
func (e *Expr) FindAllStringIndex(s string, n int) [][]int {
	return e.compiled().FindAllStringIndex(s, n)
}

// FindAllStringSubmatch is that of regexp.Regexp.
func (e *Expr) FindAllStringSubmatch(s string, n int) [][]string {
	return e.compiled().FindAllStringSubmatch(s, n)
}

// ReplaceAllString is that of regexp.Regexp.
func (e *Expr) ReplaceAllString(s, with string) string { return e.compiled().ReplaceAllString(s, with) }

// FindAllSubmatch is that of regexp.Regexp.
func (e *Expr) FindAllSubmatch(b []byte, n int) [][][]byte { return e.compiled().FindAllSubmatch(b, n) }
