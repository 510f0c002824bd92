package impact

import (
	"os"
	"path/filepath"
	"strings"

	"omnivigil/internal/plan"
	"omnivigil/internal/plan/capture"
	"omnivigil/internal/watch"
)

// missing returns a file or directory that a reaction's command names by its captures and that does not exist, as far
// as its words look like paths: of removed files, or in an existing directory. Such a command could only fail.
func missing(p *plan.Plan, u *plan.Unit, c plan.Command, h watch.Hit) string {
	words := c.Words
	if words == nil {
		words = strings.Fields(strings.NewReplacer(`"`, "", "'", "").Replace(c.Shell))
	}
	hit := filepath.Join(p.Root, filepath.FromSlash(h.Path))
	for _, w := range words {
		at := capture.Expression.FindStringIndex(w)
		if at == nil {
			continue
		}
		filled := plan.Command{Words: []string{strings.TrimSuffix(w, "/...")}}.With(h.Captures).Words[0]
		file := filled
		if !filepath.IsAbs(file) {
			file = filepath.Join(u.Dir, file)
		}
		folder, _, named := cutLast(w[:at[0]], "/")
		inFolder := named && isFolder(filepath.Join(u.Dir, folder))
		ofRemoved := h.What == "removed" && (file == hit || strings.HasPrefix(hit, file+string(filepath.Separator)))
		if _, err := os.Lstat(file); os.IsNotExist(err) && (inFolder || ofRemoved) {
			return filled
		}
	}
	return ""
}

func cutLast(s, sep string) (before, after string, found bool) {
	if i := strings.LastIndex(s, sep); i >= 0 {
		return s[:i], s[i+len(sep):], true
	}
	return "", s, false
}

func isFolder(path string) bool {
	info, err := os.Stat(path)
	return err == nil && info.IsDir()
}
