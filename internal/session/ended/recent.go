package ended

import (
	"context"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/output/logbook"
	"omnivigil/internal/session/history"
	"omnivigil/internal/store/contents"
	"omnivigil/internal/text/escape"
)

// Recent keeps the sessions open that were read last. Its methods may be called from any goroutine.
type Recent struct {
	mu  sync.Mutex
	all []*Session // the one that was read last comes last
}

// maxRecent is how many are kept open.
const maxRecent = 4

// Open returns the session with a name, whose log is in a directory of logs.
func (r *Recent) Open(ctx context.Context, from *history.Reading, store *contents.Store, logs, name string,
) (*Session, error) {
	if _, err := time.Parse(logbook.SessionForm, name); err != nil {
		return nil, api.Refuse("a session is named by the time when it began, such as %s, not %q", logbook.SessionForm,
			escape.Text(name))
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	dir := filepath.Join(logs, name)
	if i := slices.IndexFunc(r.all, func(s *Session) bool { return s.dir == dir }); i >= 0 {
		s := r.all[i]
		r.all = append(slices.Delete(r.all, i, i+1), s)
		return s, nil
	}
	s, err := Open(ctx, from, store, dir, nil)
	if err != nil || !s.state.Ended { // one that was not ended may still run, in another process
		return s, err
	}
	r.all = append(r.all, s)
	r.all = r.all[max(len(r.all)-maxRecent, 0):]
	return s, nil
}
