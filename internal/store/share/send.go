package share

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"
	"golang.org/x/time/rate"

	"omnivigil/internal/store/contents"
	"omnivigil/internal/text/format"
)

const (
	// maxWaiting is how many results wait to be sent.
	maxWaiting = 1000
	// listPause is how long nothing is sent before what was sent is added to the list.
	listPause = 2 * time.Second
)

// sending is what is sent in the background. Its lock guards all of it.
type sending struct {
	mu      sync.Mutex
	waiting chan Result // nil: nothing was to be sent yet
	closed  bool
	ended   chan struct{} // closed when all of it was sent, or was not
	cancel  context.CancelFunc
	dropped int
	why     error // the first reason
}

// drop counts a result that is not sent. The caller has the lock.
func (b *sending) drop(why error) {
	if b.dropped++; b.why == nil {
		b.why = why
	}
}

// Send stores a result with its contents in the background, if this share has a key to sign it. It does not block.
func (s *Share) Send(r Result) {
	if s.Sign == nil {
		return
	}
	b := &s.sending
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.closed {
		return
	}
	if b.waiting == nil {
		b.waiting, b.ended = make(chan Result, maxWaiting), make(chan struct{})
		var ctx context.Context
		ctx, b.cancel = context.WithCancel(context.Background())
		go s.sendAll(ctx, b.waiting, b.ended)
	}
	select {
	case b.waiting <- r:
	default:
		b.drop(fmt.Errorf("%d others had to be sent first", maxWaiting))
	}
}

// Unsent is how many results still have to be sent. It does not block.
func (s *Share) Unsent() int {
	s.sending.mu.Lock()
	defer s.sending.mu.Unlock()
	return len(s.sending.waiting)
}

// Close waits until everything is sent, or until the context is done, and reports what was not sent.
func (s *Share) Close(ctx context.Context) {
	b := &s.sending
	b.mu.Lock()
	waits := b.waiting != nil && !b.closed
	if b.closed = true; waits {
		close(b.waiting)
	}
	b.mu.Unlock()
	if waits {
		select {
		case <-b.ended:
		case <-ctx.Done():
			b.cancel()
			<-b.ended
		}
		b.cancel()
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.dropped > 0 {
		why := b.why
		if errors.Is(why, context.Canceled) {
			why = errors.New("there was no time for it")
		}
		s.report("%s not sent to the share: %v", format.Count(b.dropped, "result"), reason(why))
	}
}

// sendAll sends results until there are no more.
func (s *Share) sendAll(ctx context.Context, waiting <-chan Result, ended chan<- struct{}) {
	defer close(ended)
	var sent []Listed
	list := func() {
		if err := s.list(ctx, sent); err != nil && ctx.Err() == nil {
			s.failed(&s.telling, err)
		}
		sent = nil
	}
	pause := time.NewTimer(listPause)
	defer pause.Stop()
	for {
		select {
		case r, is := <-waiting:
			if !is {
				list()
				return
			}
			if err := s.Keep(ctx, r); err != nil {
				s.sending.mu.Lock()
				s.sending.drop(err)
				s.sending.mu.Unlock()
			} else {
				sent = append(sent, Listed{r.Unit, r.Key, r.At})
			}
			pause.Reset(listPause)
		case <-pause.C:
			list()
		}
	}
}

var errSilent = errors.New("the share does not answer")

// Keep stores a result with its contents. What the share has already is not sent.
func (s *Share) Keep(ctx context.Context, r Result) error {
	if s.isSilent(&s.telling) {
		return errSilent
	}
	if size := r.size(); size > maxContents {
		return fmt.Errorf("%s has made %s, and at most %s is sent", r.Unit, format.Bytes(float64(size)),
			format.Bytes(maxContents))
	}
	err := s.keepAll(ctx, r)
	if err != nil && ctx.Err() == nil && !errors.Is(err, contents.ErrAbsent) {
		s.failed(&s.telling, err)
	}
	return err
}

// keepAll stores the contents and then the result, so that all of it is there when the result is.
func (s *Share) keepAll(ctx context.Context, r Result) error {
	r.Project = s.Project
	data, err := Seal(r, s.Sign)
	if err == nil && len(data) > maxResult {
		err = fmt.Errorf("the result of %s has too many files", r.Unit)
	}
	if err != nil {
		return err
	}
	work, ctx := errgroup.WithContext(ctx)
	work.SetLimit(atOnce)
	for _, c := range r.contents() {
		work.Go(func() error { return s.keep(ctx, c) })
	}
	if err := work.Wait(); err != nil {
		return err
	}
	return s.put(context.WithoutCancel(ctx), resultName(r.Key), data)
}

func (s *Share) keep(ctx context.Context, c contents.Content) error {
	name := contentName(c.Sum)
	if has, err := s.Remote.Has(ctx, name); err != nil || has {
		return err
	}
	from, size, err := s.Store.Packed(c)
	if err != nil {
		return err
	}
	defer from.Close()
	return s.Remote.Put(ctx, name, limited{ctx, from, s.limiter()}, size)
}

// limiter limits what is sent.
func (s *Share) limiter() *rate.Limiter {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case s.limit != nil:
	case s.Rate > 0:
		s.limit = rate.NewLimiter(rate.Limit(s.Rate), piece)
	default:
		s.limit = rate.NewLimiter(rate.Inf, 0)
	}
	return s.limit
}

// maxPut is how long a result or a list may take to be stored.
const maxPut = 30 * time.Second

func (s *Share) put(ctx context.Context, name string, data []byte) error {
	ctx, stop := context.WithTimeout(ctx, maxPut)
	defer stop()
	return s.Remote.Put(ctx, name, bytes.NewReader(data), int64(len(data)))
}

// piece is how many bytes are read at once when the rate is limited.
const piece = 64 << 10

// limited reads at a limited rate.
type limited struct {
	ctx   context.Context
	from  io.Reader
	limit *rate.Limiter
}

func (l limited) Read(p []byte) (int, error) {
	p = p[:min(len(p), piece)]
	n, err := l.from.Read(p)
	if l.limit.Limit() != rate.Inf {
		if waited := l.limit.WaitN(l.ctx, n); waited != nil {
			return 0, waited
		}
	}
	return n, err
}
