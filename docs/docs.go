// Package docs has the chapters of the documentation, for omnivigil help. It is here because a program can only embed
// files that are next to its sources.
package docs

import (
	"embed"
	"io/fs"
	"slices"
	"strings"
)

//go:embed *.md
var files embed.FS

// Topics are the names of the chapters.
func Topics() []string {
	names, err := fs.Glob(files, "*.md")
	if err != nil {
		panic(err) // the pattern is valid
	}
	for i, name := range names {
		names[i] = strings.TrimSuffix(name, ".md")
	}
	slices.Sort(names)
	return names
}

// Chapter returns a chapter as Markdown; false: there is none of that name.
func Chapter(topic string) (string, bool) {
	data, err := files.ReadFile(topic + ".md")
	return string(data), err == nil
}
