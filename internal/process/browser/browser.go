// Package browser opens addresses in the user's browser. It is separate so that only its users link the library.
package browser

import (
	"fmt"
	"io"
	"net/netip"

	"github.com/cli/browser"
)

func init() {
	// The opener's output would end up on the screen.
	browser.Stdout, browser.Stderr = io.Discard, io.Discard
}

// Open opens an address in the user's browser. It blocks until the system's opener has accepted it.
func Open(a netip.AddrPort) error {
	host := a.Addr().String()
	if a.Addr().IsUnspecified() {
		host = "localhost"
	} else if a.Addr().Is6() {
		host = "[" + host + "]"
	}
	return Address(fmt.Sprintf("http://%s:%d/", host, a.Port()))
}

// Address opens a web address in the user's browser, as Open does.
func Address(url string) error {
	if err := browser.OpenURL(url); err != nil {
		return fmt.Errorf("open %s in the browser: %w", url, err)
	}
	return nil
}
