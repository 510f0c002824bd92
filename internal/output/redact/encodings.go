package redact

import (
	"encoding/json"
	"fmt"
	"html"
	"net/url"
	"strings"
	"unicode/utf16"

	"omnivigil/internal/text/escape"
)

// shortestCased is the length of the shortest value that is also hidden in small and in capital letters. A
// shorter one is too often a word.
const shortestCased = 8

// encodings returns a value as it may appear within one line.
func encodings(v string) []string {
	out := []string{v, escape.Strip(v)}
	if len(v) >= shortestCased {
		out = append(out, strings.ToLower(v), strings.ToUpper(v))
	}
	out = append(out, inAddresses(v)...)
	for _, quoted := range inJSON(v) {
		out = append(out, quoted)
		out = append(out, inJSON(quoted)...) // as a log of lines in JSON has an answer in JSON
	}
	out = append(out, inPages(v)...)
	return append(
		out,
		strings.ReplaceAll(v, "'", `'\''`),
		strings.ReplaceAll(v, "'", `'"'"'`),
	) // as shells tell what they run
}

// Characters that stand for themselves in web addresses apart from letters and digits: those that RFC 3986,
// section 2.3, calls unreserved, and those that encoders of some languages leave as well.
const (
	unreserved  = "-_.~"
	ofComponent = unreserved + "!'()*"             // encodeURIComponent of ECMAScript
	ofPath      = unreserved + "/"                 // for a whole path
	ofAddress   = ofComponent + "/" + ";,?:@&=+$#" // encodeURI of ECMAScript
)

// inAddresses returns a value as it may be in a web address.
func inAddresses(v string) []string {
	query := url.QueryEscape(v)
	out := []string{query, url.PathEscape(v)}
	for _, kept := range []string{"", unreserved, ofComponent, ofPath, ofAddress} {
		out = append(out, percent(v, kept, "%%%02X"), percent(v, kept, "%%%02x"))
	}
	return append(
		out,
		strings.ReplaceAll(percent(v, "*-._ ", "%%%02X"), " ", "+"),
		strings.ReplaceAll(percent(v, unreserved+" ", "%%%02x"), " ", "+"),
	)
}

// percent writes all bytes but letters, digits and those that are kept in hexadecimal.
func percent(v, kept, format string) string {
	var b strings.Builder
	for i := range len(v) {
		c := v[i]
		if c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.IndexByte(kept, c) >= 0 {
			b.WriteByte(c)
		} else {
			fmt.Fprintf(&b, format, c)
		}
	}
	return b.String()
}

// inPages returns a value as it may be in HTML: template engines write quotation marks in several ways.
func inPages(v string) []string {
	whole := html.EscapeString(v)
	out := []string{whole, strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;").Replace(v)}
	for _, marks := range [][]string{
		{"&#34;", "&quot;"},
		{"&#34;", "&quot;", "&#39;", "'"},
		{"&#34;", "&quot;", "&#39;", "&apos;"},
		{"&#34;", "&quot;", "&#39;", "&#x27;"},
		{"&#34;", "&quot;", "&#39;", "&#x27;", "/", "&#x2F;"},
	} {
		out = append(out, strings.NewReplacer(marks...).Replace(whole))
	}
	return out
}

// inJSON returns a value as it may stand within a string of JSON.
func inJSON(v string) []string {
	out := []string{inASCII(v, `\u%04x`), inASCII(v, `\u%04X`)}
	for _, html := range []bool{true, false} {
		var b strings.Builder
		e := json.NewEncoder(&b)
		e.SetEscapeHTML(html)
		if e.Encode(v) == nil {
			quoted := strings.TrimSuffix(b.String(), "\n")
			quoted = quoted[1 : len(quoted)-1]
			out = append(out, quoted, strings.ReplaceAll(quoted, "/", `\/`))
		}
	}
	return out
}

// inASCII returns a value as the inside of a JSON string in which all that is not
// ASCII stands as UTF-16 in hexadecimal (RFC 8259, section 7).
func inASCII(v, format string) string {
	quoted, err := json.Marshal(v)
	if err != nil {
		return v
	}
	var b strings.Builder
	for _, r := range string(quoted[1 : len(quoted)-1]) {
		if r < 0x80 {
			b.WriteRune(r)
			continue
		}
		for _, unit := range utf16.Encode([]rune{r}) {
			fmt.Fprintf(&b, format, unit)
		}
	}
	return b.String()
}
