package remote

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httputil"
	"net/netip"
	"net/url"
	"strings"
	"sync"

	"omnivigil/internal/api/bridge"
)

// Forwarder makes ports of another machine ports of this one. Its methods may be called from any goroutine.
type Forwarder struct {
	Link *bridge.Link

	mu    sync.Mutex
	local map[int]netip.AddrPort // by the port there
}

// Forward returns an address of this machine that leads to a port of the other one. It has the same number unless that
// is in use here: then it has another one, and only HTTP can use it, because Host and Origin of requests are rewritten
// to those that the other side expects.
func (f *Forwarder) Forward(port int) (netip.AddrPort, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if at, is := f.local[port]; is {
		return at, nil
	}
	l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	same := err == nil
	if !same {
		if l, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
			return netip.AddrPort{}, fmt.Errorf("forward port %d: %w", port, err)
		}
	}
	if same {
		go f.connect(l, port)
	} else {
		go http.Serve(l, f.rewriting(port)) //nolint:gosec // of this user's browser
	}
	at := l.Addr().(*net.TCPAddr).AddrPort()
	if f.local == nil {
		f.local = map[int]netip.AddrPort{}
	}
	f.local[port] = at
	return at, nil
}

// connect carries the bytes of all connections to a port of the other machine.
func (f *Forwarder) connect(l net.Listener, port int) {
	for {
		here, err := l.Accept()
		if err != nil {
			return
		}
		go func() {
			defer here.Close()
			there, err := f.Link.Dial(context.Background(), port)
			if err != nil {
				return
			}
			defer there.Close()
			go func() {
				io.Copy(there, here)
				if half, is := there.(interface{ CloseWrite() error }); is {
					half.CloseWrite()
				}
			}()
			io.Copy(here, there)
		}()
	}
}

// rewriting passes requests on to a port of the other machine, as if they were for that port.
func (f *Forwarder) rewriting(port int) http.Handler {
	host := fmt.Sprintf("127.0.0.1:%d", port)
	return &httputil.ReverseProxy{
		Rewrite: func(r *httputil.ProxyRequest) {
			r.Out.URL.Scheme, r.Out.URL.Host, r.Out.Host = "http", host, host
			origin, err := url.Parse(r.In.Header.Get("Origin"))
			if err == nil && strings.EqualFold(origin.Host, r.In.Host) {
				r.Out.Header.Set("Origin", "http://"+host)
			}
		},
		Transport: &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			there, err := f.Link.Dial(context.WithoutCancel(ctx), port)
			if err != nil {
				return nil, err
			}
			return bridge.Conn(there), nil
		}},
		FlushInterval: -1,
	}
}
