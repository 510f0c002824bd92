package relay

import (
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strconv"
)

// leadBack changes a redirection to the unit's own address into one to the address that the client has asked:
// otherwise the browser would leave the relay, and its pages would no longer refresh.
func leadBack(r *http.Response) {
	to, err := url.Parse(r.Header.Get("Location"))
	at, ok := r.Request.Context().Value(proxiedKey{}).(*proxied)
	if err != nil || !ok || to.Host == "" || !isAddressOf(to, at.look.Address) {
		return
	}
	to.Scheme, to.Host = "http", r.Request.Host
	r.Header.Set("Location", to.String())
}

// isAddressOf reports whether a URL leads to an address on this machine, by number or as localhost.
func isAddressOf(u *url.URL, address netip.AddrPort) bool {
	host, port, err := net.SplitHostPort(u.Host)
	if err != nil {
		host, port = u.Hostname(), "80"
	}
	if u.Scheme != "http" && u.Scheme != "" || port != strconv.Itoa(int(address.Port())) {
		return false
	}
	ip, err := netip.ParseAddr(host)
	return host == "localhost" || err == nil && (ip.IsLoopback() || ip == address.Addr())
}
