// Package lazyregexp compiles regular expressions on first use, since a command uses few of those
// that it is built with.
package lazyregexp

import (
	"regexp"
	"sync"
)

// Regexp is a regular expression that is compiled when it is used first. Its methods are those of
// the standard library's, and may be called at the same time.
type Regexp struct {
	expr string
	get  func() *regexp.Regexp
}

// New returns one. An expression that can't be parsed panics when it is used first.
func New(expr string) *Regexp {
	return &Regexp{expr, sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(expr) })}
}

// String returns the expression.
func (r *Regexp) String() string { return r.expr }

// MatchString reports whether a text has a match.
func (r *Regexp) MatchString(s string) bool { return r.get().MatchString(s) }

// FindString returns the first match, "" if there is none.
func (r *Regexp) FindString(s string) string { return r.get().FindString(s) }

// FindStringIndex returns where the first match begins and ends, nil if there is none.
func (r *Regexp) FindStringIndex(s string) []int { return r.get().FindStringIndex(s) }

// FindStringSubmatch returns the first match and its groups, nil if there is none.
func (r *Regexp) FindStringSubmatch(s string) []string { return r.get().FindStringSubmatch(s) }

// FindStringSubmatchIndex returns where the first match and its groups begin and end.
func (r *Regexp) FindStringSubmatchIndex(s string) []int { return r.get().FindStringSubmatchIndex(s) }

// FindAllString returns at most n matches, all if n is negative.
func (r *Regexp) FindAllString(s string, n int) []string { return r.get().FindAllString(s, n) }

// FindAllStringSubmatch returns at most n matches with their groups, all if n is negative.
func (r *Regexp) FindAllStringSubmatch(s string, n int) [][]string {
	return r.get().FindAllStringSubmatch(s, n)
}

// ReplaceAllString replaces each match by a text, in which $1 is the first group.
func (r *Regexp) ReplaceAllString(s, by string) string { return r.get().ReplaceAllString(s, by) }

// ReplaceAllStringFunc replaces each match by what a function makes of it.
func (r *Regexp) ReplaceAllStringFunc(s string, by func(string) string) string {
	return r.get().ReplaceAllStringFunc(s, by)
}

// FindSubmatch is FindStringSubmatch for bytes.
func (r *Regexp) FindSubmatch(b []byte) [][]byte { return r.get().FindSubmatch(b) }

// FindAllStringSubmatchIndex returns where at most n matches and their groups begin and end, all if
// n is negative.
func (r *Regexp) FindAllStringSubmatchIndex(s string, n int) [][]int {
	return r.get().FindAllStringSubmatchIndex(s, n)
}
