package relay

import (
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"net/http/httputil"
	"net/netip"
	"strings"
	"time"
)

// proxied is the context of a request to a unit.
type proxied struct {
	unit string
	look Look
}

type proxiedKey struct{}

// proxy answers with a unit's answer. While the unit is starting, requests wait for it.
func (s *Server) proxy(unit string) http.Handler {
	transport := newTransport()
	context.AfterFunc(s.done, transport.CloseIdleConnections)
	forward := &httputil.ReverseProxy{
		Transport:     &waiting{s, transport},
		FlushInterval: -1, // streams are passed on immediately
		ErrorLog:      log.New(io.Discard, "", 0),
		Rewrite: func(r *httputil.ProxyRequest) {
			r.Out.URL.Scheme, r.Out.URL.Host = "http",
				r.In.Context().Value(proxiedKey{}).(*proxied).look.Address.String()
			r.Out.URL.RawQuery = r.In.URL.RawQuery // unchanged, even if it is not a list of parameters
			r.Out.Host = r.In.Host
			r.Out.Header["X-Forwarded-For"] = r.In.Header["X-Forwarded-For"]
			r.SetXForwarded()
			r.Out.Header.Set("Accept-Encoding", readable(r.In.Header.Get("Accept-Encoding")))
		},
		ModifyResponse: func(r *http.Response) error {
			leadBack(r)
			return s.addScript(r, unit)
		},
		ErrorHandler: func(w http.ResponseWriter, r *http.Request, err error) {
			if r.Context().Err() != nil && !errors.Is(context.Cause(r.Context()), errGivenUp) { // the client is gone
				return
			}
			s.fail(w, r, http.StatusBadGateway, s.troubleOf(unit, err))
		},
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		look, err := s.await(r.Context(), unit)
		if err != nil || !look.Ready || !look.Address.IsValid() {
			s.failUnit(w, r, unit, err)
			return
		}
		forward.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), proxiedKey{}, &proxied{unit, look})))
	})
}

func newTransport() *http.Transport {
	return &http.Transport{
		DialContext:         (&net.Dialer{Timeout: 5 * time.Second}).DialContext,
		MaxIdleConnsPerHost: 64, IdleConnTimeout: 30 * time.Second,
		DisableCompression: true, // compressed bodies are passed on unchanged
	}
}

// readable are the accepted encodings in which a script can be inserted.
func readable(accepted string) string {
	var kept []string
	for _, one := range strings.Split(accepted, ",") {
		name, _, _ := strings.Cut(strings.TrimSpace(one), ";")
		switch strings.ToLower(name) {
		case "gzip", "identity":
			kept = append(kept, strings.TrimSpace(one))
		}
	}
	if len(kept) == 0 {
		return "identity"
	}
	return strings.Join(kept, ", ")
}

// waiting is a transport that tries again if a connection is refused or lost before the first byte of an answer, and
// the request may be repeated: the listener is being restarted.
type waiting struct {
	server *Server
	to     *http.Transport
}

func (t *waiting) RoundTrip(r *http.Request) (*http.Response, error) {
	began := time.Now()
	at, _ := r.Context().Value(proxiedKey{}).(*proxied)
	for {
		response, err := t.to.RoundTrip(r)
		if err == nil || at == nil || r.Context().Err() != nil || !again(r, err) ||
			time.Since(began) > t.server.config.Wait {
			return response, err
		}
		look, waited := t.server.settled(r.Context(), at.unit, at.look)
		if waited != nil || !look.Ready || !look.Address.IsValid() {
			return nil, err
		}
		at.look = look
		r = r.Clone(r.Context())
		r.URL.Host = look.Address.String()
	}
}

// again reports whether a failed request may be repeated: nothing of it was sent, or repeating does no harm (RFC
// 9110, 9.2) and its body is not consumed.
func again(r *http.Request, err error) bool {
	var op *net.OpError
	if errors.As(err, &op) && op.Op == "dial" {
		return r.Body == nil || r.Body == http.NoBody
	}
	switch r.Method {
	case http.MethodGet, http.MethodHead, http.MethodOptions:
		return r.Body == nil || r.Body == http.NoBody
	}
	return false
}

// noticePause is how long it may take to notice that a service no longer listens.
const noticePause = 300 * time.Millisecond

// settled waits after a failure until the unit is another one than then, or until it is certain that it does not
// change.
func (s *Server) settled(ctx context.Context, unit string, was Look) (Look, error) {
	changed, end := s.config.Backend.Changed()
	defer end()
	deadline := time.After(noticePause)
	for {
		look := s.config.Backend.Look(unit)
		if look.Moving || look.Generation != was.Generation || look.Address != was.Address || !look.Ready {
			return s.await(ctx, unit)
		}
		select {
		case <-changed:
		case <-deadline:
			return look, nil
		case <-ctx.Done():
			return look, ctx.Err()
		}
	}
}

// failUnit answers that a unit has no page, or that the wait for it was too long.
func (s *Server) failUnit(w http.ResponseWriter, r *http.Request, unit string, err error) {
	switch {
	case err != nil && r.Context().Err() != nil: // the client is gone
	case err != nil:
		s.fail(
			w,
			r,
			http.StatusGatewayTimeout,
			Trouble{Unit: unit, Text: fmt.Sprintf("%s was not ready within %s", unit, s.config.Wait)},
		)
	default:
		s.fail(w, r, http.StatusServiceUnavailable, s.troubleOf(unit, nil))
	}
}

// troubleOf tells why a unit has no page.
func (s *Server) troubleOf(unit string, err error) Trouble {
	look := s.config.Backend.Look(unit)
	switch {
	case look.Trouble != nil:
		t := *look.Trouble
		t.Lines, t.Places = s.config.Backend.Explain(t.Unit)
		return t
	case err != nil:
		return Trouble{Unit: unit, Text: fmt.Sprintf("%s did not answer: %v", unit, err)}
	case !look.Ready:
		return Trouble{Unit: unit, Text: unit + " is not running"}
	case look.Address == (netip.AddrPort{}):
		return Trouble{Unit: unit, Text: unit + " listens nowhere: give it an endpoint, or let it listen"}
	}
	return Trouble{Unit: unit, Text: unit + " is not ready"}
}

// addScript inserts the script into a page, and forbids browsers to store it without asking.
func (s *Server) addScript(r *http.Response, unit string) error {
	if kept := r.Header.Get("Cache-Control"); kept != "" && !strings.Contains(kept, "no-store") {
		r.Header.Set("Cache-Control", "no-cache") // otherwise an imported style sheet would stay outdated
	}
	if !isNavigation(r.Request) || r.StatusCode == http.StatusSwitchingProtocols ||
		!strings.HasPrefix(strings.ToLower(r.Header.Get("Content-Type")), "text/html") ||
		r.StatusCode == http.StatusPartialContent ||
		r.StatusCode == http.StatusNotModified ||
		r.StatusCode == http.StatusNoContent {
		return nil
	}
	nonce, ok := allows(r.Header)
	if !ok {
		s.noteOnce(
			"pages of " + unit + " have a content security policy that lets no script of this server in: they do " +
				"not refresh by themselves",
		)
		return nil
	}
	body, encoded, err := decoded(r)
	if err != nil {
		s.noteOnce(
			fmt.Sprintf(
				"pages of %s are encoded as %s: they do not refresh by themselves",
				unit,
				r.Header.Get("Content-Encoding"),
			),
		)
		return nil
	}
	page := &replaced{Reader: Inject(body, nonce), closes: []io.Closer{r.Body}}
	if encoded {
		z := compressed(page.Reader)
		page = &replaced{Reader: z, closes: []io.Closer{z, r.Body}}
	}
	r.Body = page
	r.ContentLength = -1
	// they are of the page without the script
	for _, name := range []string{"Content-Length", "Content-MD5", "Digest", "ETag", "Accept-Ranges"} {
		r.Header.Del(name)
	}
	r.Header.Set("Cache-Control", "no-store")
	return nil
}

// replaced is a changed body; Close closes the original.
type replaced struct {
	io.Reader
	closes []io.Closer
}

func (b *replaced) Close() (err error) {
	for _, c := range b.closes {
		err = errors.Join(err, c.Close())
	}
	return err
}

// decoded is a decompressed body.
func decoded(r *http.Response) (body io.Reader, encoded bool, err error) {
	switch encoding := strings.ToLower(strings.TrimSpace(r.Header.Get("Content-Encoding"))); encoding {
	case "", "identity":
		return r.Body, false, nil
	case "gzip", "x-gzip":
		r.Header.Set("Content-Encoding", "gzip")
		body := r.Body // replaced later
		return &lazy{open: func() (io.Reader, error) { return gzip.NewReader(body) }}, true, nil
	default:
		return nil, false, fmt.Errorf("encoding %s", encoding)
	}
}

// lazy opens a reader at the first read: a streamed page has not begun yet.
type lazy struct {
	open func() (io.Reader, error)
	in   io.Reader
}

func (l *lazy) Read(p []byte) (int, error) {
	if l.in == nil {
		in, err := l.open()
		if err != nil {
			return 0, err
		}
		l.in = in
	}
	return l.in.Read(p)
}

// compressed is a page compressed with gzip, flushed in pieces.
func compressed(page io.Reader) io.ReadCloser {
	out, in := io.Pipe()
	go func() {
		z := gzip.NewWriter(in)
		buffer := make([]byte, 32<<10)
		for {
			n, err := page.Read(buffer)
			if n > 0 {
				if _, werr := z.Write(buffer[:n]); werr != nil {
					return
				}
				z.Flush()
			}
			if err != nil {
				z.Close()
				if err == io.EOF {
					err = nil
				}
				in.CloseWithError(err)
				return
			}
		}
	}()
	return out
}
