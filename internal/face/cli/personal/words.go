package personal

import (
	"encoding/json"
	"path/filepath"

	"omnivigil/internal/files"
	"omnivigil/internal/store/paths"
)

// wordsFile has the arguments that the user has added to commands, as a JSON list.
func wordsFile() string { return filepath.Join(paths.State(), "words.json") }

// Words returns the arguments of earlier sessions; none if they cannot be read: they are a convenience.
func Words() []string {
	var words []string
	if text, err := files.Read(wordsFile(), files.Sane); err == nil {
		json.Unmarshal(text, &words)
	}
	return words
}

// Remember stores them for the next screen. They may be secret: the file is for this user only.
func Remember(words []string) {
	if text, err := json.Marshal(words); err == nil {
		files.KeepCache(wordsFile(), files.Bytes(text)) // on failure they are typed again
	}
}
