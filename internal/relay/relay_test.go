package relay

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// behind is a test double of the units behind a relay.
type behind struct {
	mu    sync.Mutex
	units map[string]Look
	subs  map[chan struct{}]bool
}

func (b *behind) Look(unit string) Look {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.units[unit]
}

func (b *behind) Explain(unit string) (lines, places []string) {
	return []string{"<b>no price</b>"}, []string{unit + ".csv:3:1: no price"}
}

func (b *behind) Changed() (<-chan struct{}, func()) {
	c := make(chan struct{}, 1)
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.subs == nil {
		b.subs = map[chan struct{}]bool{}
	}
	b.subs[c] = true
	return c, func() {
		b.mu.Lock()
		defer b.mu.Unlock()
		delete(b.subs, c)
	}
}

func (b *behind) set(unit string, look Look) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.units == nil {
		b.units = map[string]Look{}
	}
	b.units[unit] = look
	for c := range b.subs {
		select {
		case c <- struct{}{}:
		default:
		}
	}
}

// waiters returns how many requests and followers wait for a change.
func (b *behind) waiters() int {
	b.mu.Lock()
	defer b.mu.Unlock()
	return len(b.subs)
}

// serve starts a server on a free port.
func serve(t testing.TB, c Config) (s *Server, address string) {
	t.Helper()
	c.Listen = netip.MustParseAddrPort("127.0.0.1:0")
	c.Project = "Saltmarsh Ferries"
	if c.Backend == nil {
		c.Backend = &behind{}
	}
	s, err := Start(c)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s, "http://" + s.Address().String()
}

// upstream is a unit that answers with a handler.
func upstream(t testing.TB, h http.HandlerFunc) (*httptest.Server, Look) {
	u := httptest.NewServer(h)
	t.Cleanup(u.Close)
	return u, Look{Ready: true, Address: netip.MustParseAddrPort(u.Listener.Addr().String()), Generation: "1"}
}

// ask sends a request and returns the answer with its body.
func ask(t testing.TB, method, url string, header map[string]string) (*http.Response, string) {
	t.Helper()
	r, err := http.NewRequest(method, url, nil)
	require.NoError(t, err)
	r.Header.Set("Sec-Fetch-Dest", "document") // as a browser does when it opens a page
	for name, value := range header {
		if r.Header.Set(name, value); name == "Host" {
			r.Host = value
		}
	}
	client := http.Client{
		Transport:     &http.Transport{DisableCompression: true, DisableKeepAlives: true},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	response, err := client.Do(r)
	require.NoError(t, err)
	defer response.Body.Close()
	body, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	return response, string(body)
}

const tag = `<script src="/.omnivigil/page.js"></script>`

func TestInject(t *testing.T) {
	for _, test := range []struct{ page, want string }{
		{"<!doctype html><html><head><title>x</title></head></html>",
			"<!doctype html><html><head>" + tag + "<title>x</title></head></html>"},
		{"<HTML>\n<HEAD lang=de>\n<body>", "<HTML>\n<HEAD lang=de>" + tag + "\n<body>"},
		{"<!-- <head> --><p>ferries", "<!-- <head> -->" + tag + "<p>ferries"},
		{"tides", tag + "tides"},
		{"", tag},
		{"<html><body><script>'<head>'</script>", "<html>" + tag + "<body><script>'<head>'</script>"},
		{"<title><head></title>", tag + "<title><head></title>"},
		{"<html><", "<html>" + tag + "<"},
	} {
		out, err := io.ReadAll(Inject(strings.NewReader(test.page), ""))
		require.NoError(t, err)
		assert.Equal(t, test.want, string(out))
	}
	out, _ := io.ReadAll(Inject(strings.NewReader("<head>"), `a"b`))
	assert.Contains(t, string(out), `nonce="a&#34;b"`)
}

// FuzzInject requires that a page keeps all of its bytes and gains exactly one script.
func FuzzInject(f *testing.F) {
	for _, seed := range []string{"<html><head>", "<!doctype", "<script><head>", "a<b <head>c", "\x00<head/>",
		"<plaintext><head>", "<head", "</head><head>"} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, page []byte) {
		if bytes.Contains(page, []byte(tag)) {
			return
		}
		out, err := io.ReadAll(Inject(bytes.NewReader(page), ""))
		require.NoError(t, err)
		require.Equal(t, 1, bytes.Count(out, []byte(tag)))
		require.Equal(t, string(page), strings.Replace(string(out), tag, "", 1))
	})
}

func TestPolicies(t *testing.T) {
	for policy, want := range map[string]string{
		"":                                    "in",
		"default-src 'self'":                  "in",
		"script-src 'self'; connect-src none": "out",
		"default-src 'none'; script-src 'nonce-abc' 'strict-dynamic'; connect-src 'self'": "in abc",
		"script-src 'strict-dynamic' 'self'":                                              "out",
		"default-src https:":                                                              "out",
		"script-src 'sha256-x'":                                                           "out",
		"sandbox":                                                                         "out",
		"sandbox allow-scripts":                                                           "in",
		"img-src x; img-src y":                                                            "in",
		"require-trusted-types-for 'script'":                                              "out",
		"default-src 'self', script-src 'none'":                                           "out",
	} {
		nonce, ok := allows(http.Header{"Content-Security-Policy": {policy}})
		got := map[bool]string{true: "in", false: "out"}[ok]
		if ok && nonce != "" {
			got += " " + nonce
		}
		assert.Equal(t, want, got, policy)
	}
}

func TestFolder(t *testing.T) {
	dir, outside := t.TempDir(), t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	write("index.html", "<head>ferries")
	write("css/site.css", "body { color: teal }")
	write("docs/a b.txt", "tides")
	write(".env", "SECRET=1")
	require.NoError(t, os.WriteFile(outside+"/key", []byte("secret"), 0o644))
	require.NoError(t, os.Symlink(outside+"/key", dir+"/key"))
	require.NoError(t, os.Symlink("css/site.css", dir+"/style.css"))
	require.NoError(t, exec.Command("mkfifo", dir+"/pipe").Run())
	require.NoError(t, os.MkdirAll(dir+"/folders/index.html", 0o755))
	require.NoError(t, os.Mkdir(dir+"/pipes", 0o755))
	require.NoError(t, exec.Command("mkfifo", dir+"/pipes/index.html").Run())
	listed := func(name, entry string) string { // the listing of a directory without an index page
		return strings.Replace(listing(name, []string{entry}), "<head>", "<head>"+tag, 1)
	}
	assert.Contains(t, listing("/<b>/", []string{"low:<i>&#?.txt"}),
		`<h1>/&lt;b&gt;/</h1><a href="./low:%3Ci%3E&amp;%23%3F.txt">low:&lt;i&gt;&amp;#?.txt</a>`)
	_, at := serve(t, Config{Target: Target{Root: dir}, Fallback: "index.html"})
	page := map[string]string{"Accept": "text/html"}
	for _, test := range []struct {
		method, path string
		header       map[string]string
		status       int
		body, kind   string
	}{
		{"GET", "/", nil, 200, "<head>" + tag + "ferries", "text/html; charset=utf-8"},
		{"HEAD", "/", nil, 200, "", "text/html; charset=utf-8"},
		{"GET", "/css/site.css", nil, 200, "body { color: teal }", "text/css; charset=utf-8"},
		{"GET", "/style.css", nil, 200, "body { color: teal }", "text/css; charset=utf-8"},
		{"GET", "/css/site.css", map[string]string{"Range": "bytes=0-3"}, 206, "body", "text/css; charset=utf-8"},
		{"GET", "/docs", nil, 302, "", ""},
		{"GET", "/key", nil, 404, "there is no file key\n", ""},
		{"GET", "/../../etc/passwd", nil, 404, "there is no file etc/passwd\n", ""},
		{"GET", "/%2e%2e/%2e%2e/etc/passwd", nil, 404, "there is no file etc/passwd\n", ""},
		{"GET", "/.env", nil, 404, "there is no file .env\n", ""},
		{"GET", "/.env", page, 404, "", "text/html; charset=utf-8"},
		{"GET", "/berths/3", page, 200, "<head>" + tag + "ferries", "text/html; charset=utf-8"},
		{"GET", "/berths/3.js", nil, 404, "there is no file berths/3.js\n", ""},
		{"POST", "/", nil, 405, "files are only read\n", ""},
		{"GET", "/", map[string]string{"Host": "evil.example"}, 403, "", ""},
		{"GET", "/", map[string]string{"Host": "localhost:1"}, 200, "<head>" + tag + "ferries", ""},
		{"GET", "/.omnivigil/events", map[string]string{"Origin": "http://evil.example"}, 403, "", ""},
		{"GET", "/.omnivigil/events", map[string]string{"Origin": "http://127.0.0.1:1"}, 403, "", ""},
		{"GET", "/.omnivigil/events", map[string]string{"Origin": "null"}, 403, "", ""},
		{"GET", "/.omnivigil/events", map[string]string{"Origin": "http://2130706433" +
			at[strings.LastIndex(at, ":"):]}, 403, "", ""},
		{"GET", "/", map[string]string{"Host": "192.0.2.7"}, 403, "", ""},
		{"GET", "/", map[string]string{"Host": "2130706433"}, 403, "", ""},
		{"GET", "/", map[string]string{"Host": "0x7f.1"}, 403, "", ""},
		{"GET", "/", map[string]string{"Host": "[::1]:80"}, 200, "<head>" + tag + "ferries", ""},
		{"GET", "/", map[string]string{"Host": "LOCALHOST"}, 200, "<head>" + tag + "ferries", ""},
		{"GET", "/pipe", nil, 404, "there is no file pipe\n", ""},
		{"GET", "/pipes/", nil, 200, listed("/pipes/", "index.html"), "text/html; charset=utf-8"},
		{"GET", "/folders/", nil, 200, listed("/folders/", "index.html/"), "text/html; charset=utf-8"},
		{"GET", "/.omnivigil/page.js", nil, 200, string(script), "text/javascript; charset=utf-8"},
	} {
		r, body := ask(t, test.method, at+test.path, test.header)
		assert.Equal(t, test.status, r.StatusCode, test.path)
		if test.body != "" || test.method == "HEAD" {
			assert.Equal(t, test.body, body, test.path)
		}
		if test.kind != "" {
			assert.Equal(t, test.kind, r.Header.Get("Content-Type"), test.path)
		}
	}
	elsewhere, _ := ask(t, "GET", at+"//evil.example/..//docs", nil)
	assert.Equal(t, "./docs/", elsewhere.Header.Get("Location"), "no answer leads to another host")
	_, body := ask(t, "GET", at+"/docs/", nil)
	assert.Contains(t, body, `href="./a%20b.txt"`)
	assert.NotContains(t, body, ".env")
	r, _ := ask(t, "GET", at+"/css/site.css", nil)
	r, _ = ask(t, "GET", at+"/css/site.css", map[string]string{"If-Modified-Since": r.Header.Get("Last-Modified")})
	assert.Equal(t, 304, r.StatusCode)
	assert.Equal(t, "no-cache", r.Header.Get("Cache-Control"))
}

func TestProxy(t *testing.T) {
	var seen *http.Request
	_, look := upstream(t, func(w http.ResponseWriter, r *http.Request) {
		seen = r.Clone(context.Background())
		body, _ := io.ReadAll(r.Body)
		switch r.URL.Path {
		case "/query":
			fmt.Fprint(w, r.URL.RawQuery)
		case "/page":
			w.Header().Set("Content-Type", "text/html")
			w.Header().Set("ETag", `"1"`)
			fmt.Fprint(w, "<head>tickets")
		case "/gzip":
			w.Header().Set("Content-Type", "text/html")
			w.Header().Set("Content-Encoding", "gzip")
			z := gzip.NewWriter(w)
			fmt.Fprint(z, "<head>zipped")
			z.Close()
		case "/br":
			w.Header().Set("Content-Type", "text/html")
			w.Header().Set("Content-Encoding", "br")
			fmt.Fprint(w, "<head>not to be read")
		case "/strict":
			w.Header().Set("Content-Type", "text/html")
			w.Header().Set("Content-Security-Policy", "script-src 'none'")
			fmt.Fprint(w, "<head>strict")
		case "/teapot":
			w.WriteHeader(http.StatusTeapot)
		default:
			fmt.Fprintf(w, "%s %d bytes", r.Method, len(body))
		}
	})
	b := &behind{}
	b.set("tickets", look)
	var mu sync.Mutex
	var notes []string
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(dir+"/logo.svg", []byte("<svg/>"), 0o644))
	s, at := serve(
		t,
		Config{
			Target:  Target{Unit: "tickets"},
			At:      map[string]Target{"/static/": {Root: dir}},
			Backend: b,
			Note: func(text string) {
				mu.Lock()
				defer mu.Unlock()
				notes = append(notes, text)
			},
		},
	)
	r, body := ask(t, "GET", at+"/page", nil)
	assert.Equal(t, "<head>"+tag+"tickets", body)
	assert.Empty(t, r.Header.Get("ETag"))
	assert.Equal(t, "127.0.0.1", seen.Header.Get("X-Forwarded-For"))
	assert.Equal(t, strings.TrimPrefix(at, "http://"), seen.Host)
	r, body = ask(t, "GET", at+"/gzip", map[string]string{"Accept-Encoding": "br, gzip"})
	assert.Equal(t, "gzip", seen.Header.Get("Accept-Encoding"))
	assert.Equal(t, "gzip", r.Header.Get("Content-Encoding"))
	z, err := gzip.NewReader(strings.NewReader(body))
	require.NoError(t, err)
	plain, _ := io.ReadAll(z)
	assert.Equal(t, "<head>"+tag+"zipped", string(plain))
	for range 2 {
		_, body = ask(t, "GET", at+"/br", nil)
		assert.Equal(t, "<head>not to be read", body)
		_, body = ask(t, "GET", at+"/strict", nil)
		assert.Equal(t, "<head>strict", body)
	}
	mu.Lock()
	assert.Len(t, notes, 2, "each is said once: %q", notes)
	mu.Unlock()
	r, _ = ask(t, "GET", at+"/teapot", nil)
	assert.Equal(t, http.StatusTeapot, r.StatusCode)
	response, err := http.Post(at+"/upload", "text/plain", io.LimitReader(zeros{}, 3<<20))
	require.NoError(t, err)
	text, _ := io.ReadAll(response.Body)
	response.Body.Close()
	assert.Equal(t, "POST 3145728 bytes", string(text))
	_, body = ask(t, "GET", at+"/static/logo.svg", nil)
	assert.Equal(t, "<svg/>", body)
	r, _ = ask(t, "POST", at+"/", map[string]string{"Origin": "http://evil.example"})
	assert.Equal(t, 403, r.StatusCode)
	r, _ = ask(t, "POST", at+"/", map[string]string{"Origin": "http://localhost:3000"})
	assert.Equal(t, 403, r.StatusCode, "another port is another origin")
	r, _ = ask(t, "POST", at+"/", map[string]string{"Origin": at})
	assert.Equal(t, 200, r.StatusCode)
	_, body = ask(t, "GET", at+"/query?a;b=%&c", nil)
	assert.Equal(t, "a;b=%&c", body)
	_, body = ask(t, "GET", at+"/page", map[string]string{"Sec-Fetch-Dest": "empty"})
	assert.NotContains(t, body, tag, "a page that another reads")
	r, _ = ask(t, "GET", at+"/.omnivigil/events", map[string]string{"Sec-Fetch-Site": "cross-site"})
	assert.Equal(t, 403, r.StatusCode)
	assert.Positive(t, s.Traffic().Requests)
	assert.EqualValues(t, 3, s.Traffic().Failed)
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) { clear(p); return len(p), nil }

// TestStreams forwards streams as they arrive, and upgraded connections.
func TestStreams(t *testing.T) {
	_, look := upstream(t, func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Upgrade") != "" {
			conn, rw, err := w.(http.Hijacker).Hijack()
			if err != nil {
				return
			}
			defer conn.Close()
			fmt.Fprint(rw, "HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: websocket\r\n\r\n")
			rw.Flush()
			io.Copy(conn, rw) // an echo
			return
		}
		w.Header().Set("Content-Type", r.FormValue("type"))
		fmt.Fprint(w, map[bool]string{true: "<head>", false: "data: 1\n"}[r.FormValue("type") == "text/html"])
		w.(http.Flusher).Flush()
		<-r.Context().Done()
	})
	b := &behind{}
	b.set("tickets", look)
	_, at := serve(t, Config{Target: Target{Unit: "tickets"}, Backend: b})
	for kind, want := range map[string]string{"text/event-stream": "data: 1\n", "text/html": "<head>" + tag} {
		request, err := http.NewRequest("GET", at+"/?type="+kind, nil)
		require.NoError(t, err)
		request.Header.Set("Sec-Fetch-Dest", "document")
		response, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		got := make([]byte, len(want))
		_, err = io.ReadFull(response.Body, got) // although the answer continues
		require.NoError(t, err)
		assert.Equal(t, want, string(got))
		response.Body.Close()
	}

	conn, err := net.Dial("tcp", strings.TrimPrefix(at, "http://"))
	require.NoError(t, err)
	defer conn.Close()
	fmt.Fprintf(conn, "GET /socket HTTP/1.1\r\nHost: localhost\r\nConnection: Upgrade\r\nUpgrade: websocket\r\n\r\n")
	in := bufio.NewReader(conn)
	response, err := http.ReadResponse(in, nil)
	require.NoError(t, err)
	require.Equal(t, http.StatusSwitchingProtocols, response.StatusCode)
	fmt.Fprint(conn, "ahoy")
	echo := make([]byte, 4)
	_, err = io.ReadFull(in, echo)
	require.NoError(t, err)
	assert.Equal(t, "ahoy", string(echo))
}

// TestWaiting holds requests while a unit is starting, and explains why there is no page when it is broken.
func TestWaiting(t *testing.T) {
	_, look := upstream(t, func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "the new page") })
	b := &behind{}
	b.set("tickets", Look{Moving: true})
	_, at := serve(t, Config{Target: Target{Unit: "tickets"}, Backend: b})
	answers := make(chan string)
	for range 3 {
		go func() {
			_, body := ask(t, "GET", at+"/", nil)
			answers <- body
		}()
	}
	require.Eventually(
		t,
		func() bool { return b.waiters() == 4 },
		time.Minute,
		time.Millisecond,
		"three requests, and the followers",
	)
	b.set("tickets", look)
	for range 3 {
		assert.Equal(t, "the new page", <-answers)
	}

	b.set("tickets", Look{Trouble: &Trouble{Unit: "fares", Text: "fares failed (exit 1)"}})
	r, body := ask(t, "GET", at+"/", map[string]string{"Accept": "text/html"})
	assert.Equal(t, http.StatusServiceUnavailable, r.StatusCode)
	for _, text := range []string{"fares failed (exit 1)", "&lt;b&gt;no price&lt;/b&gt;", "fares.csv:3:1: no price",
		"last lines of fares", tag} {
		assert.Contains(t, body, text)
	}
	_, body = ask(t, "GET", at+"/", map[string]string{"Accept": "application/json"})
	var said map[string]string
	require.NoError(t, json.Unmarshal([]byte(body), &said))
	assert.Equal(t, "fares failed (exit 1)", said["error"])

	b.set("late", Look{Moving: true})
	_, at = serve(t, Config{Target: Target{Unit: "late"}, Backend: b, Wait: time.Millisecond})
	r, body = ask(t, "GET", at+"/", nil)
	assert.Equal(t, http.StatusGatewayTimeout, r.StatusCode)
	assert.Contains(t, body, "late was not ready within 1ms")
}

// TestNoFailedGet restarts a server, on another port each time, while pages are requested continuously: no request
// fails.
func TestNoFailedGet(t *testing.T) {
	b := &behind{}
	start := func(n int) *httptest.Server {
		u := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, n) }))
		b.set(
			"tickets",
			Look{Ready: true, Address: netip.MustParseAddrPort(u.Listener.Addr().String()), Generation: fmt.Sprint(n)},
		)
		return u
	}
	u := start(0)
	_, at := serve(t, Config{Target: Target{Unit: "tickets"}, Backend: b})
	stop := make(chan struct{})
	var readers sync.WaitGroup
	for range 4 {
		readers.Go(func() {
			for {
				select {
				case <-stop:
					return
				default:
				}
				response, err := http.Get(at + "/")
				if !assert.NoError(t, err) {
					return
				}
				io.Copy(io.Discard, response.Body)
				response.Body.Close()
				if !assert.Equal(t, http.StatusOK, response.StatusCode) {
					return
				}
			}
		})
	}
	for n := range 50 {
		b.set("tickets", Look{Moving: true, Generation: fmt.Sprint(n)})
		u.CloseClientConnections()
		u.Close()
		u = start(n + 1)
	}
	// A page that disappeared before it could be notified.
	u.CloseClientConnections()
	u.Close()
	b.set("tickets", Look{Moving: true})
	u = start(51)
	close(stop)
	readers.Wait()
	u.Close()
}

// listener is a page that listens for reloads.
type listener struct {
	t  *testing.T
	in *bufio.Reader
}

func listen(t *testing.T, at, page string) *listener {
	r, err := http.NewRequest("GET", at+"/.omnivigil/events?page="+page, nil)
	require.NoError(t, err)
	r.Header.Set("User-Agent", "Mozilla/5.0 (X11) Gecko/20100101 Firefox/140.0")
	response, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	t.Cleanup(func() { response.Body.Close() })
	return &listener{t, bufio.NewReader(response.Body)}
}

func (l *listener) hears() message {
	l.t.Helper()
	for {
		line, err := l.in.ReadString('\n')
		require.NoError(l.t, err)
		if data, ok := strings.CutPrefix(line, "data: "); ok {
			var m message
			require.NoError(l.t, json.Unmarshal([]byte(data), &m))
			return m
		}
	}
}

// TestPagesReload reloads once when everything is ready and not before, swaps style sheets, and reports what is
// stale.
func TestPagesReload(t *testing.T) {
	b := &behind{}
	b.set("tickets", Look{Ready: true, Generation: "1"})
	s, at := serve(t, Config{Target: Target{Unit: "tickets"}, Backend: b})
	page := listen(t, at, "/fares")
	assert.Equal(t, message{Do: "hello"}, page.hears())
	require.Eventually(t, func() bool { return len(s.Browsers()) == 1 }, time.Minute, time.Millisecond)
	assert.Equal(t, "Firefox 140", s.Browsers()[0].Agent)
	assert.Equal(t, "/fares", s.Browsers()[0].Path)

	assert.Equal(t, 1, s.Swap([]string{"web/site.css", "logo.png"}))
	assert.Equal(
		t,
		message{Do: "swap", Files: []string{"web/site.css", "logo.png"}, Text: "swapped web/site.css and logo.png"},
		page.hears(),
	)

	s.see() // its current state
	for _, look := range []Look{{Moving: true}, {Moving: true, Ready: true}, {Moving: true},
		{Ready: true, Generation: "2", Because: "main.go"}, {Ready: true, Generation: "2"}} {
		b.set("tickets", look)
		s.see()
	}
	assert.Equal(t, message{Do: "reload", Text: "main.go", Count: 1}, page.hears())
	b.set("tickets", Look{Ready: true, Generation: "2", Stale: "fares failed"})
	s.see()
	assert.Equal(t, message{Do: "stale", Text: "fares failed", Count: 1}, page.hears())
	late := listen(t, at, "/")
	assert.Equal(t, message{Do: "hello", Text: "fares failed", Count: 1}, late.hears())
	assert.Equal(t, 2, s.Swap([]string{"index.html"}))
	assert.Equal(t, "reload", page.hears().Do)
	s.Close()
	_, err := page.in.ReadByte()
	for err == nil { // events still in transit
		_, err = page.in.ReadByte()
	}
}

func TestAgents(t *testing.T) {
	for agent, want := range map[string]string{
		"Mozilla/5.0 (X11; Linux x86_64) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/141.0.0.0 Safari/537.36": "Chrome 141",
		"Mozilla/5.0 AppleWebKit/537.36 Chrome/141.0.0.0 Safari/537.36 Edg/141.0.0.0":                           "Edge 141",
		"Mozilla/5.0 (Macintosh) AppleWebKit/605.1.15 (KHTML, like Gecko) Version/18.1 Safari/605.1.15":         "Safari 18",
		"curl/8.5.0": "curl/8.5.0", "": "", strings.Repeat("x", 100): strings.Repeat("x", 24),
	} {
		assert.Equal(t, want, agentOf(agent))
	}
}
