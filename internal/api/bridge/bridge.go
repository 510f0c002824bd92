// Package bridge carries the socket of a project over one stream of bytes, such as the input and output of a program on
// another machine.
//
// The far side runs Serve. It writes a line that begins with Greeting, before which there may be anything that a shell
// prints, and then speaks HTTP/2 without encryption (RFC 9113, with prior knowledge). It passes every request on to the
// project's socket, except for POST /forward?port=N: the body of that request and of its answer are the two directions
// of a connection to a port of the far machine. The near side has a Link.
package bridge

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httputil"
	"strconv"
	"sync"
	"time"
)

// Greeting begins the line with which the far side begins.
const Greeting = "\x00omnivigil bridge 1 "

// gone is a header of the answer to a request that could not be passed on, because the project is gone.
const gone = "Omnivigil-Gone"

// protocols is HTTP/2 without encryption.
func protocols() *http.Protocols {
	p := &http.Protocols{}
	p.SetUnencryptedHTTP2(true)
	return p
}

// Serve carries the requests that arrive on a stream until it is closed. Dial connects to the project. Version is that
// of this program, for people.
func Serve(stream io.ReadWriteCloser, dial func(ctx context.Context) (net.Conn, error), version string) error {
	if _, err := fmt.Fprintf(stream, "%s%s\n", Greeting, version); err != nil {
		return err
	}
	proxy := &httputil.ReverseProxy{
		Rewrite: func(r *httputil.ProxyRequest) {
			r.Out.URL.Scheme, r.Out.URL.Host = "http", "omnivigil"
		},
		Transport: &http.Transport{
			DialContext:        func(ctx context.Context, _, _ string) (net.Conn, error) { return dial(ctx) },
			DisableCompression: true,
		},
		FlushInterval: -1, // events and lines are wanted at once
		ErrorHandler: func(w http.ResponseWriter, _ *http.Request, err error) {
			w.Header().Set(gone, "yes")
			http.Error(w, err.Error(), http.StatusBadGateway)
		},
	}
	mux := http.NewServeMux()
	mux.HandleFunc("POST /forward", forward)
	mux.Handle("/", proxy)
	one := &once{conn: newConn(stream), closed: make(chan struct{})}
	one.conn.onClose = func() { close(one.closed) }
	server := &http.Server{Handler: mux, Protocols: protocols(), HTTP2: &http.HTTP2Config{
		SendPingTimeout: pingAfter, PingTimeout: pingAfter,
	}}
	go func() {
		<-one.closed
		server.Close()
	}()
	if err := server.Serve(one); err != http.ErrServerClosed { //nolint:errorlint // it is never wrapped
		return err
	}
	return nil
}

// forward connects a request to a port of this machine.
func forward(w http.ResponseWriter, r *http.Request) {
	port, err := strconv.ParseUint(r.URL.Query().Get("port"), 10, 16)
	if err != nil {
		http.Error(w, "that is not a port", http.StatusBadRequest)
		return
	}
	address := net.JoinHostPort("127.0.0.1", strconv.FormatUint(port, 10))
	to, err := (&net.Dialer{}).DialContext(r.Context(), "tcp", address)
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadGateway)
		return
	}
	defer to.Close()
	flush := http.NewResponseController(w)
	w.WriteHeader(http.StatusOK)
	flush.Flush()
	go func() {
		io.Copy(to, r.Body)
		if half, is := to.(*net.TCPConn); is {
			half.CloseWrite()
		}
	}()
	for buffer := make([]byte, 32<<10); ; {
		n, err := to.Read(buffer)
		if n > 0 {
			if _, err := w.Write(buffer[:n]); err != nil {
				return
			}
			flush.Flush()
		}
		if err != nil {
			return
		}
	}
}

// once is a listener with one connection.
type once struct {
	conn   *conn
	mu     sync.Mutex
	taken  bool
	closed chan struct{}
}

func (o *once) Accept() (net.Conn, error) {
	o.mu.Lock()
	taken := o.taken
	o.taken = true
	o.mu.Unlock()
	if !taken {
		return o.conn, nil
	}
	<-o.closed
	return nil, net.ErrClosed
}

func (*once) Close() error   { return nil }
func (*once) Addr() net.Addr { return address{} }

// conn is a stream as a connection.
type conn struct {
	io.ReadWriteCloser
	closing sync.Once
	onClose func()
}

// Conn returns a stream as a connection without deadlines.
func Conn(stream io.ReadWriteCloser) net.Conn { return newConn(stream) }

func newConn(stream io.ReadWriteCloser) *conn { return &conn{ReadWriteCloser: stream} }

func (c *conn) Close() (err error) {
	c.closing.Do(func() {
		err = c.ReadWriteCloser.Close()
		if c.onClose != nil {
			c.onClose()
		}
	})
	return err
}

func (*conn) LocalAddr() net.Addr  { return address{} }
func (*conn) RemoteAddr() net.Addr { return address{} }

// Deadlines are not needed: both sides ping each other.
func (*conn) SetDeadline(time.Time) error      { return nil }
func (*conn) SetReadDeadline(time.Time) error  { return nil }
func (*conn) SetWriteDeadline(time.Time) error { return nil }

type address struct{}

func (address) Network() string { return "bridge" }
func (address) String() string  { return "bridge" }
