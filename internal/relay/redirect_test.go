package relay

import (
	"net"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestRedirections checks that a service's redirections to its own address stay at the relay, and that all others are
// passed on unchanged.
func TestRedirections(t *testing.T) {
	unit, look := upstream(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Location", r.URL.Query().Get("to"))
		w.WriteHeader(http.StatusFound)
	})
	b := &behind{}
	b.set("tickets", look)
	_, at := serve(t, Config{Target: Target{Unit: "tickets"}, Backend: b})
	_, port, _ := net.SplitHostPort(strings.TrimPrefix(unit.URL, "http://"))
	for to, want := range map[string]string{
		unit.URL + "/berths?a=1#b":        at + "/berths?a=1#b",
		"http://localhost:" + port + "/":  at + "/",
		"http://[::1]:" + port + "/":      at + "/",
		"//127.0.0.1:" + port + "/":       at + "/",
		"http://127.0.0.1:1/":             "http://127.0.0.1:1/",
		"http://saltmarsh.test:" + port:   "http://saltmarsh.test:" + port,
		"https://localhost:" + port + "/": "https://localhost:" + port + "/",
		"/berths":                         "/berths",
	} {
		answer, _ := ask(t, http.MethodGet, at+"/?to="+url.QueryEscape(to), nil)
		assert.Equal(t, want, answer.Header.Get("Location"), to)
	}
}
