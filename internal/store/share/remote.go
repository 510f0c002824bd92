package share

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"path"
	"strings"
	"time"
)

// Remote is where a team's results are. Its methods may be called from any goroutine.
type Remote interface {
	// Get returns an object, which the caller closes. ErrAbsent: there is none.
	Get(ctx context.Context, name string) (io.ReadCloser, error)
	// Has reports whether there is an object.
	Has(ctx context.Context, name string) (bool, error)
	// Put stores an object of a size.
	Put(ctx context.Context, name string, from io.Reader, size int64) error
}

// ErrAbsent reports that the share does not have an object.
var ErrAbsent = errors.New("the share does not have it")

// webServer is a web server that supports GET, HEAD and PUT (RFC 9110).
type webServer struct {
	base   *url.URL
	client http.Client
	// credentials, "USER:PASSWORD" or a token; empty: none.
	credentials string
}

// NewWebServer returns what is below an address of a web server. Credentials are "USER:PASSWORD" or a bearer token, and
// are sent only to the host of the address.
func NewWebServer(address, credentials string) (Remote, error) {
	base, err := url.Parse(address)
	if err != nil || base.Host == "" || base.Scheme != "https" && base.Scheme != "http" {
		return nil, fmt.Errorf("%q is no address of a web server", address)
	}
	w := &webServer{base: base, credentials: credentials}
	w.client.CheckRedirect = func(r *http.Request, via []*http.Request) error {
		if r.URL.Host != base.Host || r.URL.Scheme != base.Scheme || len(via) > 5 {
			return fmt.Errorf("the share redirects to %s: only its own host is asked", r.URL.Host)
		}
		return nil
	}
	w.client.Transport = transport()
	return w, nil
}

// transport carries requests to a share. An answer of ten seconds is one that hangs.
func transport() *http.Transport {
	return &http.Transport{
		Proxy: http.ProxyFromEnvironment, MaxIdleConnsPerHost: atOnce, ResponseHeaderTimeout: 10 * time.Second,
		MaxResponseHeaderBytes: 64 << 10, DisableCompression: true,
	}
}

// do sends a request and returns the answer, unless its status is an error.
func (w *webServer) do(ctx context.Context, method, name string, body io.Reader, size int64) (*http.Response, error) {
	to := *w.base
	to.Path = path.Join("/", to.Path, name)
	r, err := http.NewRequestWithContext(ctx, method, to.String(), body)
	if err != nil {
		return nil, err
	}
	r.ContentLength = size
	if user, password, is := strings.Cut(w.credentials, ":"); is {
		r.SetBasicAuth(user, password)
	} else if w.credentials != "" {
		r.Header.Set("Authorization", "Bearer "+w.credentials)
	}
	answer, err := w.client.Do(r)
	if err != nil {
		return nil, err
	}
	if answer.StatusCode/100 == 2 {
		return answer, nil
	}
	io.Copy(io.Discard, io.LimitReader(answer.Body, 1<<16)) // so that the connection can be used again
	answer.Body.Close()
	if answer.StatusCode == http.StatusNotFound || answer.StatusCode == http.StatusGone {
		return nil, ErrAbsent
	}
	return nil, fmt.Errorf("the share answers %s %s with %s", method, name, answer.Status)
}

func (w *webServer) Get(ctx context.Context, name string) (io.ReadCloser, error) {
	answer, err := w.do(ctx, http.MethodGet, name, nil, 0)
	if err != nil {
		return nil, err
	}
	return answer.Body, nil
}

func (w *webServer) Has(ctx context.Context, name string) (bool, error) {
	answer, err := w.do(ctx, http.MethodHead, name, nil, 0)
	if errors.Is(err, ErrAbsent) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	return true, answer.Body.Close()
}

func (w *webServer) Put(ctx context.Context, name string, from io.Reader, size int64) error {
	answer, err := w.do(ctx, http.MethodPut, name, from, size)
	if err != nil {
		return err
	}
	return answer.Body.Close()
}
