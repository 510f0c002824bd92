package process

import (
	"net"
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestListenersAgree compares the kernel's two lists of listening sockets.
func TestListenersAgree(t *testing.T) {
	var want []netip.AddrPort
	for _, address := range []string{"127.0.0.1:0", "[::1]:0", ":0"} {
		l, err := net.Listen("tcp", address)
		if err != nil {
			t.Logf("%s: %v", address, err)
			continue
		}
		defer l.Close()
		a := l.Addr().(*net.TCPAddr).AddrPort()
		want = append(want, netip.AddrPortFrom(a.Addr().Unmap(), a.Port()))
	}
	for name, list := range map[string][]listener{"diagnostics": listeners(), "proc": listenersFromProc()} {
		for _, a := range want {
			assert.True(
				t,
				slices.ContainsFunc(list, func(l listener) bool { return l.address == a }),
				"%s lacks %s",
				name,
				a,
			)
		}
	}
}

func TestHolderNamesTheProcess(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := l.Addr().(*net.TCPAddr).AddrPort()
	on := func(host string) netip.AddrPort { return netip.AddrPortFrom(netip.MustParseAddr(host), address.Port()) }
	for _, host := range []string{"127.0.0.1", "0.0.0.0"} {
		who, taken := New(nil).Holder(on(host))
		assert.True(t, taken)
		assert.Regexp(t, `^process \d+ \(process.test\)`, who)
	}
	_, taken := New(nil).Holder(on("127.0.0.2"))
	assert.False(t, taken, "that is another address")
	l.Close()
	_, taken = New(nil).Holder(on("127.0.0.1"))
	assert.False(t, taken)
}

func TestReadAnswersRefusesNonsense(t *testing.T) {
	var all []listener
	_, err := readAnswers([]byte{200, 0, 0, 0, 20, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0}, &all)
	assert.Error(t, err)
	more, err := readAnswers(nil, &all)
	assert.True(t, more)
	assert.NoError(t, err)
}
