package share

import (
	"context"
	"errors"
	"io"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"omnivigil/internal/store/contents"
)

// contents are the contents of a result.
func (r Result) contents() (all []contents.Content) {
	for _, e := range r.Tree {
		if e.Kind == "file" {
			all = append(all, e.Content)
		}
	}
	if r.Lines != nil {
		all = append(all, *r.Lines)
	}
	return all
}

// size is the size of the contents of a result, in bytes. Above maxContents it may be too small.
func (r Result) size() (n int64) {
	for _, c := range r.contents() {
		if n += c.Size; n > maxContents {
			break
		}
	}
	return n
}

// Missing are the contents of a result that are not in the store, and their size in bytes.
func (s *Share) Missing(r Result) (missing []contents.Content, size int64) {
	for _, c := range r.contents() {
		if !s.Store.Has(c) {
			missing = append(missing, c)
			size += c.Size
		}
	}
	return missing, size
}

// maxFetch is how long a result may take to be fetched, whatever it says of its task.
const maxFetch = 10 * time.Minute

// errSlow reports that a result would take longer to fetch than to make.
var errSlow = errors.New("it takes longer to fetch than to make")

// Fetch brings the contents of a result that are missing into the store. It gives up as soon as that is expected to
// take longer than a duration.
func (s *Share) Fetch(ctx context.Context, r Result, limit time.Duration) error {
	missing, size := s.Missing(r)
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	p := &progress{began: time.Now(), size: size, limit: min(limit, maxFetch)}
	go p.watch(ctx, stop)
	work, each := errgroup.WithContext(ctx)
	work.SetLimit(atOnce)
	for _, c := range missing {
		work.Go(func() error { return s.fetch(each, c, p) })
	}
	err := work.Wait()
	switch {
	case err == nil:
	case context.Cause(ctx) != nil: // it is slow, or was cancelled
		err = context.Cause(ctx)
	case errors.Is(err, ErrAbsent):
		s.report("the share lacks a part of a result of %s", r.Unit)
	default:
		s.failed(&s.asking, err)
	}
	return err
}

func (s *Share) fetch(ctx context.Context, c contents.Content, p *progress) error {
	from, err := s.Remote.Get(ctx, contentName(c.Sum))
	if err != nil {
		return err
	}
	defer from.Close()
	return s.Store.AddPacked(io.LimitReader(from, c.Size+maxOverhead), c, p)
}

// progress is how far a result has been fetched.
type progress struct {
	began time.Time
	size  int64 // of all of it
	limit time.Duration
	done  atomic.Int64
}

// Write counts bytes that have arrived.
func (p *progress) Write(b []byte) (int, error) {
	p.done.Add(int64(len(b)))
	return len(b), nil
}

// watch stops when too long is expected.
func (p *progress) watch(ctx context.Context, stop func(error)) {
	const look = 50 * time.Millisecond
	tick := time.NewTicker(look)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
		if p.isSlow() {
			stop(errSlow)
			return
		}
	}
}

// isSlow reports whether all of it is expected to take longer than the limit.
func (p *progress) isSlow() bool {
	took, done := time.Since(p.began), p.done.Load()
	switch {
	case took < lookUp:
		return false
	case done == 0: // nothing has arrived
		return took > p.limit/4
	}
	return float64(took)*float64(p.size)/float64(done) > float64(p.limit)
}
