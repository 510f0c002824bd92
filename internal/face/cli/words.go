package cli

import (
	"encoding/json"
	"path/filepath"

	"omnivigil/internal/files"
	"omnivigil/internal/store/paths"
)

// wordsFile has the words that the user has added to commands, as a list in JSON.
func wordsFile() string { return filepath.Join(paths.State(), "words.json") }

// typedWords returns what was added to commands in earlier sessions, none where that cannot be
// read: it is a convenience.
func typedWords() []string {
	var words []string
	if text, err := files.Read(wordsFile(), files.Sane); err == nil {
		json.Unmarshal(text, &words)
	}
	return words
}

// rememberWords keeps them for the next screen. They may be secret: the file is for this user only.
func rememberWords(words []string) {
	if text, err := json.Marshal(words); err == nil {
		files.KeepCache(wordsFile(), files.Bytes(text)) // else they are typed again
	}
}
