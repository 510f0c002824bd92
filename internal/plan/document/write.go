package document

import (
	"fmt"
	"strings"
)

// QuotedText writes a text as a basic string of TOML 1.0.
func QuotedText(s string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range s {
		switch {
		case r == '"' || r == '\\':
			b.WriteRune('\\')
			b.WriteRune(r)
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\t':
			b.WriteString(`\t`)
		case r < 0x20 || r == 0x7f:
			fmt.Fprintf(&b, `\u%04X`, r)
		default:
			b.WriteRune(r)
		}
	}
	b.WriteByte('"')
	return b.String()
}

// QuotedList writes a list of texts in TOML.
func QuotedList(words []string) string {
	quoted := make([]string, len(words))
	for i, w := range words {
		quoted[i] = QuotedText(w)
	}
	return "[" + strings.Join(quoted, ", ") + "]"
}
