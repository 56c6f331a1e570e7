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

// inside lists the networks that count as internal, besides this machine's own addresses: one table for notifications,
// mirrors, calendars, builds and functions.
func inside() []netip.Prefix {
	var out []netip.Prefix
	for _, text := range []string{
		"0.0.0.0/8",         // this network (RFC 1122)
		"10.0.0.0/8",        // private (RFC 1918)
		"100.64.0.0/10",     // shared by carriers (RFC 6598)
		"127.0.0.0/8",       // loopback
		"168.63.129.16/32",  // a cloud's data for the machine
		"169.254.0.0/16",    // the link, and a cloud's data for the machine
		"172.16.0.0/12",     // private
		"192.0.0.0/24",      // protocol assignments (RFC 6890)
		"192.168.0.0/16",    // private
		"224.0.0.0/4",       // multicast
		"240.0.0.0/4",       // reserved, and broadcast
		"::/128", "::1/128", // unspecified, loopback
		"64:ff9b:1::/48", // translated within a network (RFC 8215)
		"2001::/32",      // tunnels, whose other end is in the address (RFC 4380)
		"fc00::/7",       // private, and a cloud's data for the machine
		"fe80::/10",      // the link
		"fec0::/10",      // formerly of a site
		"ff00::/8",       // multicast
	} {
		out = append(out, netip.MustParsePrefix(text))
	}
	return out
}

// embedding lists the networks whose addresses contain an IPv4 address, and the byte where it begins.
func embedding() map[netip.Prefix]int {
	return map[netip.Prefix]int{
		netip.MustParsePrefix("64:ff9b::/96"): 12, // NAT64 (RFC 6052)
		netip.MustParsePrefix("::/96"):        12, // IPv4-compatible
		netip.MustParsePrefix("2002::/16"):    2,  // 6to4
	}
}

// Check refuses an IP address that is internal, in whatever form; the error wraps ErrInside.
func Check(ip netip.Addr) error {
	own, err := net.InterfaceAddrs()
	if err != nil {
		return fmt.Errorf("%w: %s (this machine's addresses are unknown: %w)", ErrInside, ip, err)
	}
	return check(ip, own)
}

// check is Check with the machine's own addresses.
func check(ip netip.Addr, own []net.Addr) error {
	if !ip.IsValid() {
		return fmt.Errorf("%w: no address", ErrInside)
	}
	plain := ip.Unmap().WithZone("")
	for _, network := range inside() {
		if network.Contains(plain) {
			return fmt.Errorf("%w: %s", ErrInside, ip)
		}
	}
	for network, at := range embedding() {
		if network.Contains(plain) {
			bytes := plain.As16()
			return check(netip.AddrFrom4([4]byte(bytes[at:at+4])), own)
		}
	}
	for _, o := range own {
		if n, ok := o.(*net.IPNet); ok {
			if mine, ok := netip.AddrFromSlice(n.IP); ok && mine.Unmap() == plain {
				return fmt.Errorf("%w: %s", ErrInside, ip)
			}
		}
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
