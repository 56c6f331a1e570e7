package cage_test

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"

	"rudmar/cage"
)

// The way out of fetching leads to the hosts that are named, and to nothing else.
func TestProxy(t *testing.T) {
	there := httptest.NewServer(
		http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, "there ", r.URL.Path) }))
	defer there.Close()
	at, err := url.Parse(there.URL)
	if err != nil {
		t.Fatal(err)
	}
	named := func(p *cage.Proxy) *http.Client {
		p.Log = slog.New(slog.DiscardHandler)
		return &http.Client{Transport: &http.Transport{Proxy: func(*http.Request) (*url.URL,
			error) {
			return url.Parse("http://proxy:1")
		}, DialContext: func(context.Context, string, string) (net.Conn, error) {
			ours, theirs := net.Pipe()
			go p.Serve(theirs)
			return ours, nil
		}}}
	}
	ask := func(p *cage.Proxy, address string) (int, string) {
		t.Helper()
		response, err := named(p).Get(address)
		if err != nil {
			t.Fatal(err)
		}
		defer response.Body.Close()
		body, _ := io.ReadAll(response.Body)
		return response.StatusCode, string(body)
	}
	host := at.Hostname()
	only := &cage.Proxy{May: func(h string) bool { return h == host }}
	if status, body := ask(only, there.URL+"/x"); status != 200 || body != "there /x" {
		t.Errorf("a host that is named: %d %s", status, body)
	}
	if status, _ := ask(only, "http://localhost:"+at.Port()+"/x"); status != 403 ||
		!errors.Is(only.Refusals(), cage.ErrNoWay) || !strings.Contains(only.Refusals().Error(), "localhost") {
		t.Errorf("another host: %d, %v", status, only.Refusals())
	}
	outside := &cage.Proxy{May: func(string) bool { return true }, Reach: cage.Outside}
	if status, _ := ask(outside, there.URL+"/x"); status != 403 {
		t.Errorf("this machine itself: %d", status)
	}
	// By CONNECT, as for TLS.
	for want, p := range map[string]*cage.Proxy{"200": {May: func(h string) bool { return h == host }},
		"403": {May: func(string) bool { return false }}} {
		p.Log = slog.New(slog.DiscardHandler)
		ours, theirs := net.Pipe()
		go p.Serve(theirs)
		fmt.Fprintf(ours, "CONNECT %s HTTP/1.1\r\nHost: %s\r\n\r\n", at.Host, at.Host)
		in := bufio.NewReader(ours)
		line, err := in.ReadString('\n')
		if err != nil || !strings.Contains(line, want) {
			t.Errorf("%q %v, want %s", line, err, want)
		}
		if want == "200" {
			_, _ = in.ReadString('\n')
			fmt.Fprintf(ours, "GET /tunnel HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n")
			if body, _ := io.ReadAll(in); !strings.Contains(string(body), "there /tunnel") {
				t.Errorf("through the tunnel: %s", body)
			}
		}
		ours.Close()
	}
}
