package outside_test

import (
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"testing"
	"time"

	"rudmar/outside"
)

// Addresses of this machine, its links, private networks and clouds' data for the machine are internal in every form.
func TestInternalAddresses(t *testing.T) {
	internal := []string{"0.0.0.0", "0.1.2.3", "10.0.0.1", "100.64.0.1", "100.127.255.255", "127.0.0.1", "127.8.8.8", "168.63.129.16",
		"169.254.169.254", "172.16.0.1", "172.31.255.255", "192.0.0.1", "192.0.0.192", "192.168.1.1", "224.0.0.1", "239.1.1.1",
		"240.0.0.1", "255.255.255.255"}
	own, err := net.InterfaceAddrs()
	if err != nil {
		t.Fatal(err)
	}
	for _, o := range own {
		if n, ok := o.(*net.IPNet); ok {
			internal = append(internal, n.IP.String())
		}
	}
	for _, text := range internal {
		ip := netip.MustParseAddr(text)
		forms := []netip.Addr{ip}
		if ip.Is4() {
			b := ip.As4()
			forms = append(forms, netip.AddrFrom16(ip.As16()), netip.MustParseAddr("64:ff9b::"+text), netip.MustParseAddr("::"+text),
				netip.MustParseAddr(fmt.Sprintf("2002:%02x%02x:%02x%02x::1", b[0], b[1], b[2], b[3])))
		}
		for _, form := range forms {
			if err := outside.Check(form); !errors.Is(err, outside.ErrInside) {
				t.Errorf("%s, as %s: %v", text, form, err)
			}
		}
	}
	for _, text := range []string{"::", "::1", "fe80::1", "fe80::1%eth0", "fc00::1", "fd00:ec2::254", "fec0::1", "ff02::1", "64:ff9b:1::1", "2001:0:1::1"} {
		if err := outside.Check(netip.MustParseAddr(text)); !errors.Is(err, outside.ErrInside) {
			t.Errorf("%s: %v", text, err)
		}
	}
	if err := outside.Check(netip.Addr{}); !errors.Is(err, outside.ErrInside) {
		t.Errorf("no address: %v", err)
	}
	for _, text := range []string{"1.1.1.1", "11.0.0.1", "100.63.255.255", "100.128.0.1", "172.32.0.1", "192.0.1.1", "168.63.129.17", "193.168.1.1",
		"223.255.255.255", "2600::1", "64:ff9b::1.1.1.1", "::ffff:1.1.1.1", "2002:101:101::1"} {
		if err := outside.Check(netip.MustParseAddr(text)); err != nil {
			t.Errorf("%s: %v", text, err)
		}
	}
}

// A client dials no internal address, whatever its name, and follows no redirect.
func TestClient(t *testing.T) {
	there := httptest.NewServer(http.RedirectHandler("http://127.0.0.1:1/", http.StatusFound))
	defer there.Close()
	address := "http://localhost:" + there.URL[len("http://127.0.0.1:"):]
	get := func(inside bool) (*http.Response, error) {
		r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, address, http.NoBody)
		if err != nil {
			t.Fatal(err)
		}
		return outside.Client(inside, time.Minute).Do(r)
	}
	if answer, err := get(false); !errors.Is(err, outside.ErrInside) {
		t.Errorf("%v %v", answer, err)
	}
	answer, err := get(true)
	if err != nil || answer.StatusCode != http.StatusFound || answer.Body.Close() != nil {
		t.Errorf("%v %v", answer, err)
	}
}
