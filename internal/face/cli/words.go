package cli

import (
	"encoding/json"
	"os"
	"path/filepath"

	"omnivigil/internal/files"
	"omnivigil/internal/store/paths"
)

// wordsFile has the words that the person has added to commands, as a list in JSON.
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

func rememberWords(words []string) {
	text, err := json.Marshal(words)
	if err != nil || os.MkdirAll(paths.State(), 0o700) != nil {
		return
	}
	// Renamed into place, so that no other screen reads half of it. Words may be secret.
	if beside := wordsFile() + ".new"; os.WriteFile(beside, text, 0o600) == nil {
		os.Rename(beside, wordsFile())
	}
}
