// Package relay is a page server for front ends: it serves a directory or proxies a service, and inserts a small
// script into each page that reloads it or swaps its style sheets. While a unit is starting, requests wait instead of
// failing.
//
// The package knows nothing of units and processes. A Backend reports the state behind the pages, and the Server is
// told which files to refresh. Start reading at Start and Backend.
package relay

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"
)

// Backend is the state of what pages come from. Its methods may be called from any goroutine.
type Backend interface {
	// Look returns the state of a unit and everything that it needs and follows.
	Look(unit string) Look
	// Explain returns the last lines of a broken unit, and the locations in files that they name, as
	// "file:line:column: message".
	Explain(unit string) (lines, places []string)
	// Changed returns a channel that has a value whenever that state may have changed, and a function that ends this.
	Changed() (<-chan struct{}, func())
}

// Look is the state of a unit.
type Look struct {
	Address netip.AddrPort // its address; invalid: unknown
	Ready   bool           // it runs and answers
	Moving  bool           // it, or something that it needs or follows, is not at rest
	Trouble *Trouble       // what is broken; nil: nothing
	Stale   string         // why it runs older code than was saved; empty: it is current
	// Generation differs between states in which the unit may serve different pages.
	Generation string
	Because    string // what caused the newest one
}

// Trouble is why there is no page.
type Trouble struct {
	Unit   string
	Text   string   // the problem in one line
	Lines  []string // its last output, as plain text
	Places []string // as "file:line:column: message"
}

// Target is what a path is served from: a unit or a directory.
type Target struct {
	Unit string
	Root string // absolute
}

// Config is the configuration of a Server.
type Config struct {
	Project string
	Listen  netip.AddrPort // port 0: any
	Target
	At       map[string]Target // by path prefix, which ends in a slash
	Needs    []string          // units that must be ready before anything is served
	Fallback string            // for a directory: served for paths without a file
	Wait     time.Duration     // the maximum wait of a request; 0: a default
	Backend  Backend
	Note     func(string) // a message for the user
}

const defaultWait = 60 * time.Second

// Server serves pages until it is closed. Its methods may be called from any goroutine.
type Server struct {
	config   Config
	listener net.Listener
	http     *http.Server
	stop     context.CancelFunc
	done     context.Context
	routes   []route // longest prefix first
	pages    pages
	counts   counts
	told     sync.Map // messages that were sent, once each
	started  sync.Map // directories that had a start page
}

// route serves the paths below a prefix.
type route struct {
	prefix  string
	target  Target
	handler http.Handler
}

// Start listens and serves. The error tells what failed.
func Start(c Config) (*Server, error) {
	if c.Wait == 0 {
		c.Wait = defaultWait
	}
	if c.Note == nil {
		c.Note = func(string) {}
	}
	s := &Server{config: c}
	s.done, s.stop = context.WithCancel(context.Background())
	targets := map[string]Target{"/": c.Target}
	for prefix, target := range c.At {
		targets[prefix] = target
	}
	for prefix, target := range targets {
		s.routes = append(s.routes, route{prefix, target, s.handlerOf(prefix, target)})
	}
	slices.SortFunc(s.routes, func(a, b route) int { return len(b.prefix) - len(a.prefix) })
	var err error
	family := "tcp6" // "tcp" would listen on both families for the wildcard address
	if c.Listen.Addr().Is4() {
		family = "tcp4"
	}
	if s.listener, err = net.Listen(family, c.Listen.String()); err != nil {
		return nil, fmt.Errorf("listen on %s: %w", c.Listen, err)
	}
	s.http = &http.Server{
		Handler:           s,
		ReadHeaderTimeout: time.Minute,
		IdleTimeout:       2 * time.Minute,
		BaseContext:       func(net.Listener) context.Context { return s.done },
	}
	go s.http.Serve(s.listener)
	go s.follow()
	s.Missing() // records which start pages exist
	return s, nil
}

func (s *Server) handlerOf(prefix string, target Target) http.Handler {
	if target.Unit != "" {
		return s.proxy(target.Unit)
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		// It is opened each time: a build may create it later, or remove and recreate it.
		root, err := os.OpenRoot(target.Root)
		if err != nil {
			s.fail(w, r, http.StatusNotFound, Trouble{Text: "there is no directory " + target.Root})
			return
		}
		defer root.Close()
		f := folder{server: s, root: root, prefix: prefix, fallback: s.config.Fallback}
		f.ServeHTTP(w, r)
	})
}

// indexPage is the file that is served for a directory.
const indexPage = "index.html"

// Missing returns what does not exist of what pages come from: a directory, or the start page of one that had it or
// should have it. Empty: nothing is missing. It looks at files.
func (s *Server) Missing() (what, file string) {
	for _, r := range s.routes {
		root := r.target.Root
		if root == "" {
			continue
		}
		if info, err := os.Stat(root); err != nil || !info.IsDir() {
			return "directory", root
		}
		start := filepath.Join(root, cmp.Or(s.config.Fallback, indexPage))
		if info, err := os.Stat(start); err == nil && info.Mode().IsRegular() {
			s.started.Store(root, true)
			continue
		}
		if _, had := s.started.Load(root); had || s.config.Fallback != "" && r.prefix == "/" {
			return "start page", start
		}
	}
	return "", ""
}

// Address is the address that the server listens on.
func (s *Server) Address() netip.AddrPort {
	address, _ := netip.ParseAddrPort(s.listener.Addr().String())
	return address
}

// Close ends the server. Pending requests get a moment.
func (s *Server) Close() {
	const moment = 200 * time.Millisecond
	ctx, cancel := context.WithTimeout(context.Background(), moment)
	defer cancel()
	s.stop()
	s.http.Shutdown(ctx)
	s.http.Close()
}

// own is the prefix of the server's own paths.
const own = "/.omnivigil/"

// ServeHTTP serves a request.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s.counts.add()
	if why := s.refuses(r); why != "" {
		s.counts.fail()
		http.Error(w, why, http.StatusForbidden)
		return
	}
	switch r.URL.Path {
	case own + "page.js":
		serveScript(w, r)
		return
	case own + "events":
		s.events(w, r)
		return
	}
	for _, unit := range s.config.Needs {
		if look, err := s.await(r.Context(), unit); err != nil || !look.Ready {
			s.failUnit(w, r, unit, err)
			return
		}
	}
	for _, route := range s.routes {
		if strings.HasPrefix(r.URL.Path, route.prefix) || r.URL.Path+"/" == route.prefix {
			route.handler.ServeHTTP(w, r)
			return
		}
	}
}

// refuses returns why a request is refused: a page of another site must not read or change what is served here, not
// even through a name of its own that resolves to this machine.
func (s *Server) refuses(r *http.Request) string {
	if !s.isOwn(hostOf(r.Host)) {
		return fmt.Sprintf("this server answers on this machine's names and addresses, not as %s", r.Host)
	}
	// A page of another site can request a stream as a script or an image, which has no origin.
	if from := r.Header.Get("Sec-Fetch-Site"); r.URL.Path == own+"events" && from != "" && from != "same-origin" {
		return "a page of another origin asks for events"
	}
	origin := r.Header.Get("Origin")
	if origin == "" || r.Method == http.MethodGet && !isUpgrade(r) && r.URL.Path != own+"events" ||
		r.Method == http.MethodHead ||
		r.Method == http.MethodOptions {
		return ""
	}
	// Another port of this machine is another origin, and so is another of its addresses.
	if at, err := url.Parse(origin); err != nil || !strings.EqualFold(at.Host, r.Host) {
		return "a page of another origin asks: " + origin
	}
	return ""
}

func isUpgrade(r *http.Request) bool { return r.Header.Get("Upgrade") != "" }

func hostOf(hostport string) string {
	if host, _, err := net.SplitHostPort(hostport); err == nil {
		return host
	}
	return strings.Trim(hostport, "[]")
}

// isOwn reports whether a host is this machine, or an address that the relay was told to listen on.
func (s *Server) isOwn(host string) bool {
	host = strings.ToLower(host)
	if host == "localhost" || strings.HasSuffix(host, ".localhost") {
		return true
	}
	address, err := netip.ParseAddr(host)
	if err != nil {
		name, _ := os.Hostname()
		return host != "" && strings.EqualFold(host, name) && !s.config.Listen.Addr().IsLoopback()
	}
	return address.IsLoopback() || address == s.config.Listen.Addr() ||
		s.config.Listen.Addr().IsUnspecified() && isOfMachine(address)
}

// isOfMachine reports whether an address belongs to this machine.
func isOfMachine(address netip.Addr) bool {
	all, _ := net.InterfaceAddrs()
	return slices.ContainsFunc(all, func(a net.Addr) bool {
		of, err := netip.ParsePrefix(a.String())
		return err == nil && of.Addr().Unmap() == address.Unmap()
	})
}

// errGivenUp: a request has waited for the maximum time.
var errGivenUp = errors.New("it has taken too long")

// await blocks until a unit and everything behind it is ready, or broken, or the client is gone, or the maximum wait
// is over.
func (s *Server) await(ctx context.Context, unit string) (Look, error) {
	ctx, cancel := context.WithTimeoutCause(ctx, s.config.Wait, errGivenUp)
	defer cancel()
	changed, end := s.config.Backend.Changed()
	defer end()
	for {
		look := s.config.Backend.Look(unit)
		if !look.Moving {
			return look, nil
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return look, context.Cause(ctx)
		}
	}
}

// noteOnce sends a message the first time.
func (s *Server) noteOnce(text string) {
	if _, said := s.told.LoadOrStore(text, true); !said {
		s.config.Note(text)
	}
}
