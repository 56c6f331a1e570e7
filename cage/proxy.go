package cage

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"
)

// Proxy serves the network requests of a command in a cage: it opens allowed connections.
type Proxy struct {
	// May reports whether a host (a name or an address) is allowed.
	May func(host string) bool
	// Reach reports whether an address is allowed after the name was resolved; nil for any.
	Reach func(netip.Addr) bool
	Log   *slog.Logger

	mu      sync.Mutex
	refused map[string]bool
}

// Refusals returns the requested hosts that are not allowed; nil if there were none.
func (p *Proxy) Refusals() error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if len(p.refused) == 0 {
		return nil
	}
	return fmt.Errorf("%w: %s", ErrNoWay, strings.Join(slices.Sorted(maps.Keys(p.refused)), ", "))
}

// ErrNoWay reports that a host is not allowed.
var ErrNoWay = errors.New("this host is not reachable")

// dial connects to a host and port.
func (p *Proxy) dial(ctx context.Context, network, address string) (net.Conn, error) {
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		return nil, err
	}
	if !p.May(strings.ToLower(strings.TrimSuffix(host, "."))) {
		p.refuse(host)
		return nil, fmt.Errorf("%w: %s", ErrNoWay, host)
	}
	addresses, err := net.DefaultResolver.LookupNetIP(ctx, "ip", host)
	if err != nil {
		return nil, err
	}
	last := fmt.Errorf("%w: %s has no permitted address", ErrNoWay, host)
	for _, a := range addresses {
		if p.Reach != nil && !p.Reach(a.Unmap()) {
			continue
		}
		var d net.Dialer
		// the address that was checked, not the name again
		c, err := d.DialContext(ctx, network, net.JoinHostPort(a.Unmap().String(), port))
		if err == nil {
			return c, nil
		}
		last = err
	}
	return nil, last
}

func (p *Proxy) refuse(host string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.refused == nil {
		p.refused = map[string]bool{}
	}
	if len(p.refused) < 20 {
		p.refused[host] = true
	}
}

// Serve serves one connection of a command, by HTTP's CONNECT or as a proxy.
func (p *Proxy) Serve(c net.Conn) {
	defer c.Close()
	transport := &http.Transport{DialContext: p.dial, ForceAttemptHTTP2: false, ResponseHeaderTimeout: time.Minute}
	defer transport.CloseIdleConnections()
	in := bufio.NewReader(c)
	for {
		_ = c.SetReadDeadline(time.Now().Add(2 * time.Minute))
		r, err := http.ReadRequest(in)
		if err != nil {
			return
		}
		_ = c.SetReadDeadline(time.Time{})
		if r.Method == http.MethodConnect {
			p.tunnel(c, in, r)
			return
		}
		if !p.pass(c, transport, r) {
			return
		}
	}
}

func answerRefusal(c net.Conn, err error) {
	status := http.StatusBadGateway
	if errors.Is(err, ErrNoWay) {
		status = http.StatusForbidden
	}
	fmt.Fprintf(c, "HTTP/1.1 %d %s\r\nContent-Type: text/plain\r\nConnection: close\r\n\r\n%v\n", status,
		http.StatusText(status), err)
}

func (p *Proxy) tunnel(c net.Conn, in io.Reader, r *http.Request) {
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	there, err := p.dial(ctx, "tcp", r.Host)
	if err != nil {
		p.Log.Info("the build proxy", "to", r.Host, "refused", err)
		answerRefusal(c, err)
		return
	}
	defer there.Close()
	if _, err := io.WriteString(c, "HTTP/1.1 200 Connection established\r\n\r\n"); err != nil {
		return
	}
	var both sync.WaitGroup
	both.Go(func() {
		_, _ = io.Copy(there, in)
		there.Close()
	})
	both.Go(func() {
		_, _ = io.Copy(c, there)
		c.Close()
	})
	both.Wait()
}

// pass forwards a request, and reports whether another can follow.
func (p *Proxy) pass(c net.Conn, transport *http.Transport, r *http.Request) bool {
	if r.URL.Host == "" {
		answerRefusal(c, fmt.Errorf("%w: this is a proxy", ErrNoWay))
		return false
	}
	r.RequestURI = ""
	r.Header.Del("Proxy-Connection")
	r.Header.Del("Proxy-Authorization")
	response, err := transport.RoundTrip(r)
	if err != nil {
		p.Log.Info("the build proxy", "to", r.URL.Host, "refused", err)
		answerRefusal(c, err)
		return false
	}
	defer response.Body.Close()
	return response.Write(c) == nil && !r.Close && !response.Close
}
