package format

import "strings"

// Typed returns words as a user would type them for a POSIX shell.
func Typed(words []string) string {
	quoted := make([]string, len(words))
	for i, w := range words {
		quoted[i] = Quoted(w)
	}
	return strings.Join(quoted, " ")
}

// Quoted puts a word in single quotes if a POSIX shell would otherwise split or interpret it.
func Quoted(word string) string {
	const plain = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_./:=,@%+"
	if word != "" && strings.Trim(word, plain) == "" {
		return word
	}
	return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'"
}
