package remote

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/api/bridge"
)

// TestParse parses addresses, and makes the command that ssh runs.
func TestParse(t *testing.T) {
	for text, want := range map[string]string{
		"ssh://harbour/srv/sea":           "-- harbour omnivigil bridge -C /srv/sea",
		"ssh://marram@harbour:2222/srv":   "-p 2222 -l marram -- harbour omnivigil bridge -C /srv",
		"ssh://harbour/~/sea":             "-- harbour omnivigil bridge -C '~/sea'",
		"ssh://harbour/a%20b;touch%20'x'": `-- harbour omnivigil bridge -C '/a b;touch '\''x'\'''`,
		"ssh://[::1]/srv":                 "-- ::1 omnivigil bridge -C /srv",
	} {
		a, err := Parse(text)
		require.NoError(t, err, text)
		got := ""
		for _, word := range a.arguments(nil, "bridge", "-C", a.Path) {
			got += " " + word
		}
		assert.Equal(t, " "+want, got, text)
	}
	for _, text := range []string{
		"", "harbour", "harbour:/srv", "http://harbour/srv", "ssh://harbour", "ssh://harbour/", "ssh:///srv",
		"ssh://-x/srv",
		"ssh://-l@harbour/srv", "ssh://a:b@harbour/srv", "ssh://harbour/srv?x", "ssh://harbour/srv#x", "ssh://%2dx/srv",
	} {
		_, err := Parse(text)
		require.Error(t, err, text)
	}
}

// TestForwarder forwards a port: to the same number if it is free here, and otherwise as the other side expects it.
func TestForwarder(t *testing.T) {
	page := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprint(w, r.Host, " ", r.Header.Get("Origin"))
	}))
	defer page.Close()
	there := netip.MustParseAddrPort(page.Listener.Addr().String())
	link := &bridge.Link{Open: func(context.Context, bool) (io.ReadWriteCloser, error) {
		here, far := net.Pipe()
		go bridge.Serve(far, nil, "")
		return here, nil
	}}
	f := &Forwarder{Link: link}
	at, err := f.Forward(int(there.Port())) // it is in use here, by the page itself
	require.NoError(t, err)
	require.NotEqual(t, there.Port(), at.Port())
	again, err := f.Forward(int(there.Port()))
	require.NoError(t, err)
	assert.Equal(t, at, again)
	get := func(at netip.AddrPort, origin string) string {
		r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, fmt.Sprintf("http://%s/", at), nil)
		require.NoError(t, err)
		r.Header.Set("Origin", origin)
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		defer answer.Body.Close()
		text, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		return string(text)
	}
	assert.Equal(t, fmt.Sprintf("%s http://%s", there, there), get(at, fmt.Sprintf("http://%s", at)))
	assert.Equal(t, fmt.Sprintf("%s http://elsewhere.example.org", there), get(at, "http://elsewhere.example.org"))

	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	port := free.Addr().(*net.TCPAddr).Port
	free.Close()
	same, err := f.Forward(port)
	require.NoError(t, err)
	if same.Port() == uint16(port) { // nobody else has taken it meanwhile
		moved := httptest.NewUnstartedServer(page.Config.Handler)
		defer moved.Close()
		_, err := net.Listen("tcp", same.String())
		require.Error(t, err, "it is forwarded")
	}
}
