package relay

import (
	"net/http"
	"strings"
)

// allows reports whether a page's content security policies allow the script and its connection, and with which
// nonce; see "Content Security Policy Level 3", 6.7. What is not understood forbids.
func allows(h http.Header) (nonce string, ok bool) {
	ok = true
	for _, header := range h.Values("Content-Security-Policy") {
		for _, policy := range strings.Split(header, ",") {
			n, allowed := policyAllows(policy)
			if ok = ok && allowed; n != "" {
				nonce = n
			}
		}
	}
	return nonce, ok
}

func policyAllows(policy string) (nonce string, ok bool) {
	directives := map[string][]string{}
	for _, directive := range strings.Split(policy, ";") {
		words := strings.Fields(directive)
		if len(words) == 0 {
			continue
		}
		name := strings.ToLower(words[0])
		if _, twice := directives[name]; !twice { // the first of several counts
			directives[name] = words[1:]
		}
	}
	if words, sandboxed := directives["sandbox"]; sandboxed && !has(words, "allow-scripts") {
		return "", false
	}
	if _, trusted := directives["require-trusted-types-for"]; trusted {
		return "", false
	}
	source := func(names ...string) ([]string, bool) {
		for _, name := range names {
			if words, given := directives[name]; given {
				return words, true
			}
		}
		return nil, false
	}
	if words, given := source("connect-src", "default-src"); given && !has(words, "'self'") && !has(words, "*") {
		return "", false
	}
	words, given := source("script-src-elem", "script-src", "default-src")
	if !given {
		return "", true
	}
	for _, word := range words {
		if n, is := strings.CutPrefix(word, "'nonce-"); is {
			return strings.TrimSuffix(n, "'"), true
		}
	}
	if has(words, "'strict-dynamic'") {
		return "", false
	}
	return "", has(words, "'self'") || has(words, "*")
}

func has(words []string, word string) bool {
	for _, w := range words {
		if strings.EqualFold(w, word) {
			return true
		}
	}
	return false
}
