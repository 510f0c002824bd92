// Package members remembers the projects of directories outside of these that are members: a directory below its
// project finds it by itself. The state directory has a file members/HASH for each such directory, where HASH are
// digits of the SHA-256 of its path, with the path of the project's settings file.
package members

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"omnivigil/internal/files"
	"omnivigil/internal/plan"
)

func fileOf(state, dir string) string {
	sum := sha256.Sum256([]byte(dir))
	return filepath.Join(state, "members", hex.EncodeToString(sum[:16]))
}

// Remember records the members of a started project that are not below its directory. The error tells why one could not
// be recorded.
func Remember(state string, p *plan.Plan) error {
	for _, m := range p.Members {
		if !strings.HasPrefix(m.Path, "../") {
			continue
		}
		file := fileOf(state, filepath.Dir(m.File))
		err := os.MkdirAll(filepath.Dir(file), 0o700)
		if err == nil {
			err = files.Replace(file, []byte(p.File), 0o600)
		}
		if err != nil {
			return fmt.Errorf("remember the project of %s: %w", m.Name, err)
		}
	}
	return nil
}

// ProjectOf returns the settings file of the project that was started last with a directory as a member; empty: none
// was. It may no longer have that member.
func ProjectOf(state, dir string) string {
	data, err := files.Read(fileOf(state, dir), files.Sane)
	if err != nil {
		return ""
	}
	return string(data)
}
