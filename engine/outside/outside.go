// Package outside connects to addresses that users supply. It refuses internal ones: this machine,
// its links and private networks.
package outside

import (
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"syscall"
	"time"
)

// ErrInside reports that an address points inside.
var ErrInside = errors.New("the address is internal: this machine, its link or a private network")

// shared is the address space of carrier-grade NAT (RFC 6598), which counts as internal.
var shared = netip.MustParsePrefix("100.64.0.0/10")

// Check refuses an IP address that points inside; the error wraps ErrInside.
func Check(ip netip.Addr) error {
	ip = ip.Unmap()
	if !ip.IsGlobalUnicast() || ip.IsPrivate() || ip.IsLoopback() || ip.IsLinkLocalUnicast() || shared.Contains(ip) {
		return fmt.Errorf("%w: %s", ErrInside, ip)
	}
	return nil
}

// Client returns a client with a time limit, which follows no redirects, because a redirect can point anywhere.
// Unless inside is allowed it checks the address that is dialed, regardless of the name.
func Client(inside bool, within time.Duration) *http.Client {
	dialer := &net.Dialer{Timeout: within, Control: func(_, address string, _ syscall.RawConn) error {
		if inside {
			return nil
		}
		at, err := netip.ParseAddrPort(address)
		if err != nil {
			return fmt.Errorf("%w: %s", ErrInside, address)
		}
		return Check(at.Addr())
	}}
	return &http.Client{Timeout: within,
		Transport:     &http.Transport{DialContext: dialer.DialContext, MaxIdleConnsPerHost: 2, IdleConnTimeout: time.Minute},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
}
