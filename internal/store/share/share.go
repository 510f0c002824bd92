// Package share is the results of a team: what one machine has built is restored on the others. Results and contents
// are objects of a web server or in a bucket, as docs/store.md describes. Results are signed, and only those of trusted
// keys are used. Start reading at Share.
package share

import (
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"io"
	"net/url"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"omnivigil/internal/store/contents"
)

const (
	// lookUp is how long a question for a result may take.
	lookUp = 300 * time.Millisecond
	// pause is how long nothing is asked of a share that has not answered.
	pause = time.Minute
	// maxResult is the maximum size of a result without its contents, or of a list, in bytes.
	maxResult = 16 << 20
	// maxContents is the maximum size of the contents of a result, in bytes.
	maxContents = 1 << 30
	// maxOverhead is how much larger than its content a compressed one may be, in bytes.
	maxOverhead = 1 << 16
	// atOnce is how many objects are transferred at once.
	atOnce = 8
)

// Share is the results of a project's team. Its methods may be called from any goroutine, and block unless their
// comment says otherwise.
type Share struct {
	Project string
	Remote  Remote
	Store   *contents.Store
	Trusted Keys
	// Sign signs what is sent; nil: nothing is.
	Sign ed25519.PrivateKey
	// Secret is that of the team, for the keys of results that depend on secret values; empty: these are not shared.
	Secret []byte
	// Rate limits what is sent, in bytes per second; 0: it is not limited.
	Rate int
	// Report is called with what goes wrong, each thing once.
	Report func(problem string)

	mu       sync.Mutex
	asking   silence // of questions
	telling  silence // of what is sent
	reported map[string]bool
	limit    *rate.Limiter // of what is sent; nil: not made yet
	sending  sending
}

// report reports a problem, unless it was reported before.
func (s *Share) report(format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	s.mu.Lock()
	known := s.reported[text]
	if s.reported == nil {
		s.reported = map[string]bool{}
	}
	s.reported[text] = true
	s.mu.Unlock()
	if !known {
		s.Report(text)
	}
}

// silence is a time in which a share is not asked, because it has not answered.
type silence struct{ until time.Time }

// failed begins a silence, for questions or for what is sent.
func (s *Share) failed(of *silence, err error) {
	s.mu.Lock()
	already := time.Now().Before(of.until)
	of.until = time.Now().Add(pause)
	s.mu.Unlock()
	if already { // others were asking at the same time
		return
	}
	s.report("the share is not used for a minute: %v", reason(err))
}

// reason is why a request has failed, without its address.
func reason(err error) error {
	var at *url.Error
	switch {
	case errors.Is(err, context.DeadlineExceeded):
		return errors.New("it does not answer in time")
	case errors.As(err, &at):
		return at.Err
	}
	return err
}

func (s *Share) isSilent(of *silence) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return time.Now().Before(of.until)
}

func resultName(key string) string { return "results/" + key[:2] + "/" + key[2:] }

func contentName(sum contents.Sum) string {
	return "contents/" + sum.String()[:2] + "/" + sum.String()[2:] + ".zst"
}

// Find returns a result, and the trusted key that has signed it. False: there is none that can be used, or
// the share does not answer soon. The project of what is expected is that of the share.
func (s *Share) Find(ctx context.Context, expected Expected) (Result, Key, bool) {
	if s.isSilent(&s.asking) || len(s.Trusted) == 0 {
		return Result{}, Key{}, false
	}
	ctx, stop := context.WithTimeout(ctx, lookUp)
	defer stop()
	data, err := s.read(ctx, resultName(expected.Key))
	switch {
	case errors.Is(err, ErrAbsent):
		return Result{}, Key{}, false
	case err != nil:
		s.failed(&s.asking, err)
		return Result{}, Key{}, false
	}
	expected.Project = s.Project
	r, by, err := Open(data, s.Trusted, expected)
	if err != nil {
		s.report("a shared result of %s is not used: %v", expected.Unit, err)
		return Result{}, Key{}, false
	}
	return r, by, true
}

func (s *Share) read(ctx context.Context, name string) ([]byte, error) {
	from, err := s.Remote.Get(ctx, name)
	if err != nil {
		return nil, err
	}
	defer from.Close()
	data, err := io.ReadAll(io.LimitReader(from, maxResult+1))
	if err == nil && len(data) > maxResult {
		err = fmt.Errorf("%s has more than %d MB", name, maxResult>>20)
	}
	return data, err
}

// Private reports that the result of a unit is not shared, because only this user can compute its key.
func (s *Share) Private(unit string) {
	s.report("the result of %s is not shared: it depends on secret values, and the team's secret is not set", unit)
}
