package supervisor

import (
	"os"
	"path/filepath"

	"omnivigil/internal/plan"
	"omnivigil/internal/store/contents"
	"omnivigil/internal/store/paths"
	"omnivigil/internal/store/share"
)

// sendRate limits what is sent to a share while users work, in bytes per second.
const sendRate = 8 << 20

// ShareFiles are this user's files for shares.
func ShareFiles() share.Files { return share.FilesIn(filepath.Dir(paths.Personal())) }

// Share returns the share that a project names; nil: it names none. The error tells why it is not used.
func Share(p *plan.Plan, store *contents.Store) (*share.Share, error) {
	if p.Share.URL == "" {
		return nil, nil
	}
	own, err := share.ReadOwn(ShareFiles(), os.Getenv)
	if err != nil {
		return nil, err
	}
	return share.New(share.Config{URL: p.Share.URL, Project: p.Name, Send: p.Share.Write, Store: store, Own: own},
		os.Getenv)
}
