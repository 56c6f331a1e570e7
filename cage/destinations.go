package cage

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/net/dns/dnsmessage"
)

// parseDestination reads a destination, such as "api.example.com:443": a name in lower case, or an address, and a port.
func parseDestination(text string) (host string, port uint16, err error) {
	host, number, err := net.SplitHostPort(text)
	n, numberErr := strconv.ParseUint(number, 10, 16)
	if err != nil || numberErr != nil || n == 0 || host == "" {
		return "", 0, fmt.Errorf("%q is not a host and port such as api.example.com:443", text)
	}
	return strings.ToLower(strings.TrimSuffix(host, ".")), uint16(n), nil
}

// destinations knows the addresses of a command's destinations: those that a name server returned to it. It can be used
// concurrently.
type destinations struct {
	ports map[string][]uint16 // by name

	mu    sync.Mutex
	known map[netip.AddrPort]bool
}

// newDestinations returns nil if all addresses can be reached.
func newDestinations(texts []string) (*destinations, error) {
	if len(texts) == 0 {
		return nil, nil
	}
	d := &destinations{ports: map[string][]uint16{}, known: map[netip.AddrPort]bool{}}
	for _, text := range texts {
		host, port, err := parseDestination(text)
		if err != nil {
			return nil, err
		}
		if ip, err := netip.ParseAddr(host); err == nil {
			d.known[netip.AddrPortFrom(ip.Unmap(), port)] = true
			continue
		}
		d.ports[host] = append(d.ports[host], port)
	}
	return d, nil
}

// permits reports whether an address is one of a destination.
func (d *destinations) permits(to netip.AddrPort) bool {
	if d == nil {
		return true
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.known[netip.AddrPortFrom(to.Addr().Unmap(), to.Port())]
}

// asks returns the name that a query asks for, if it is one of a destination; otherwise the response that refuses it,
// nil for what is no query.
func (d *destinations) asks(query []byte) (name string, refusal []byte) {
	var m dnsmessage.Message
	if err := m.Unpack(query); err != nil || len(m.Questions) != 1 || m.Response {
		return "", nil
	}
	name = strings.ToLower(strings.TrimSuffix(m.Questions[0].Name.String(), "."))
	if len(d.ports[name]) > 0 {
		return name, nil
	}
	refused := dnsmessage.Message{Header: dnsmessage.Header{ID: m.ID, Response: true, RecursionDesired: m.RecursionDesired,
		RecursionAvailable: true, RCode: dnsmessage.RCodeNameError}, Questions: m.Questions}
	refusal, err := refused.Pack()
	if err != nil {
		return "", nil
	}
	return "", refusal
}

// learn records the addresses of a name in a response.
func (d *destinations) learn(name string, response []byte) {
	var m dnsmessage.Message
	if err := m.Unpack(response); err != nil {
		return
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, r := range m.Answers {
		var ip netip.Addr
		switch body := r.Body.(type) {
		case *dnsmessage.AResource:
			ip = netip.AddrFrom4(body.A)
		case *dnsmessage.AAAAResource:
			ip = netip.AddrFrom16(body.AAAA).Unmap()
		default:
			continue
		}
		for _, port := range d.ports[name] {
			d.known[netip.AddrPortFrom(ip, port)] = true
		}
	}
}

// lookUpTime is the time limit of a query.
const lookUpTime = 10 * time.Second

// lookUp answers a command's queries for the names of its destinations from a name server, until it is silent for a
// while.
func (w *egress) lookUp(own net.Conn, server string) {
	buffer := make([]byte, maxDatagram)
	for {
		_ = own.SetReadDeadline(time.Now().Add(idleDatagrams))
		n, err := own.Read(buffer)
		if err != nil {
			return
		}
		name, refusal := w.names.asks(buffer[:n])
		if name == "" {
			if refusal != nil {
				_, _ = own.Write(refusal) // the command may have ended
			}
			continue
		}
		response, err := w.query(server, buffer[:n])
		if err != nil {
			continue // the command asks again
		}
		w.names.learn(name, response)
		_, _ = own.Write(response) // the command may have ended
	}
}

// query sends a query to a name server.
func (w *egress) query(server string, query []byte) ([]byte, error) {
	ctx, cancel := context.WithTimeout(w.ctx, lookUpTime)
	defer cancel()
	there, err := w.dial(ctx, "udp", server)
	if err != nil {
		return nil, err
	}
	defer there.Close()
	_ = there.SetDeadline(time.Now().Add(lookUpTime))
	if _, err := there.Write(query); err != nil {
		return nil, err
	}
	response := make([]byte, maxDatagram)
	n, err := there.Read(response)
	return response[:n], err
}
