// Package rx compiles regular expressions at their first use. The program has hundreds, and a command needs few of
// them; compiling all took a third of the start. It also passes over texts that lack what every match contains.
package rx

import (
	"regexp"
	"sync"
)

// Expr is a regular expression with the methods of regexp.Regexp that are used here. It is safe for concurrent use.
type Expr struct{ compiled func() *compiled }

// compiled is an expression with the texts of which a match contains at least one.
type compiled struct {
	*regexp.Regexp
	needs []string
}

// New returns an Expr. The first use of an invalid expression panics. A test compiles all of them.
func New(expr string) *Expr {
	return &Expr{sync.OnceValue(func() *compiled { return &compiled{regexp.MustCompile(expr), needs(expr)} })}
}

// on returns the expression, or nil if the text surely has no match.
func (e *Expr) on(s string) *regexp.Regexp {
	c := e.compiled()
	if lacks(s, c.needs) {
		return nil
	}
	return c.Regexp
}

// MatchString calls regexp.Regexp.MatchString.
func (e *Expr) MatchString(s string) bool {
	re := e.on(s)
	return re != nil && re.MatchString(s)
}

// FindString calls regexp.Regexp.FindString.
func (e *Expr) FindString(s string) string {
	if re := e.on(s); re != nil {
		return re.FindString(s)
	}
	return ""
}

// FindStringSubmatch calls regexp.Regexp.FindStringSubmatch.
func (e *Expr) FindStringSubmatch(s string) []string {
	if re := e.on(s); re != nil {
		return re.FindStringSubmatch(s)
	}
	return nil
}

// FindStringSubmatchIndex calls regexp.Regexp.FindStringSubmatchIndex.
func (e *Expr) FindStringSubmatchIndex(s string) []int {
	if re := e.on(s); re != nil {
		return re.FindStringSubmatchIndex(s)
	}
	return nil
}

// FindAllString calls regexp.Regexp.FindAllString.
func (e *Expr) FindAllString(s string, n int) []string {
	if re := e.on(s); re != nil {
		return re.FindAllString(s, n)
	}
	return nil
}

// FindAllStringIndex calls regexp.Regexp.FindAllStringIndex.
func (e *Expr) FindAllStringIndex(s string, n int) [][]int {
	if re := e.on(s); re != nil {
		return re.FindAllStringIndex(s, n)
	}
	return nil
}

// FindAllStringSubmatch calls regexp.Regexp.FindAllStringSubmatch.
func (e *Expr) FindAllStringSubmatch(s string, n int) [][]string {
	if re := e.on(s); re != nil {
		return re.FindAllStringSubmatch(s, n)
	}
	return nil
}

// FindAllStringSubmatchIndex calls regexp.Regexp.FindAllStringSubmatchIndex.
func (e *Expr) FindAllStringSubmatchIndex(s string, n int) [][]int {
	if re := e.on(s); re != nil {
		return re.FindAllStringSubmatchIndex(s, n)
	}
	return nil
}

// ReplaceAllString calls regexp.Regexp.ReplaceAllString.
func (e *Expr) ReplaceAllString(s, with string) string {
	if re := e.on(s); re != nil {
		return re.ReplaceAllString(s, with)
	}
	return s
}

// FindAllSubmatch calls regexp.Regexp.FindAllSubmatch.
func (e *Expr) FindAllSubmatch(b []byte, n int) [][][]byte { return e.compiled().FindAllSubmatch(b, n) }
