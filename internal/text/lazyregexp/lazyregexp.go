// Package lazyregexp has regular expressions that are compiled when they are first used. The program knows hundreds;
// compiling them all takes longer than everything else that its commands do at their start, and most processes use
// none. The functions may be called from any goroutine. It is small because it only delays; see package regexp for
// what the methods do.
package lazyregexp

import (
	"os"
	"regexp"
	"strings"
	"sync"
)

// Regexp is a regular expression.
type Regexp struct {
	text    string
	compile func() *regexp.Regexp
}

// New returns an expression. One that does not compile panics when it is first used, in a test at once.
func New(text string) *Regexp {
	r := &Regexp{text, sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(text) })}
	if strings.HasSuffix(os.Args[0], ".test") {
		r.compile()
	}
	return r
}

func (r *Regexp) String() string { return r.text }

func (r *Regexp) MatchString(s string) bool { return r.compile().MatchString(s) }

func (r *Regexp) Match(b []byte) bool { return r.compile().Match(b) }

func (r *Regexp) FindString(s string) string { return r.compile().FindString(s) }

func (r *Regexp) FindStringIndex(s string) []int { return r.compile().FindStringIndex(s) }

func (r *Regexp) FindStringSubmatch(s string) []string { return r.compile().FindStringSubmatch(s) }

func (r *Regexp) FindIndex(b []byte) []int { return r.compile().FindIndex(b) }

func (r *Regexp) FindSubmatchIndex(b []byte) []int { return r.compile().FindSubmatchIndex(b) }

func (r *Regexp) FindSubmatch(b []byte) [][]byte { return r.compile().FindSubmatch(b) }

func (r *Regexp) FindStringSubmatchIndex(s string) []int {
	return r.compile().FindStringSubmatchIndex(s)
}

func (r *Regexp) FindAllString(s string, n int) []string { return r.compile().FindAllString(s, n) }

func (r *Regexp) FindAllStringSubmatch(s string, n int) [][]string {
	return r.compile().FindAllStringSubmatch(s, n)
}

func (r *Regexp) FindAllStringSubmatchIndex(s string, n int) [][]int {
	return r.compile().FindAllStringSubmatchIndex(s, n)
}

func (r *Regexp) ReplaceAllString(s, by string) string { return r.compile().ReplaceAllString(s, by) }

func (r *Regexp) ReplaceAllStringFunc(s string, by func(string) string) string {
	return r.compile().ReplaceAllStringFunc(s, by)
}

func (r *Regexp) SubexpIndex(name string) int { return r.compile().SubexpIndex(name) }
