package server

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/labstack/echo/v5"
)

// Large requests are rejected before they are read, and slow ones end.
func TestBodyLimits(t *testing.T) {
	s := &Server{options: Options{BodyTime: 200 * time.Millisecond}}
	read := make(chan int, 20)
	router := echo.New()
	router.HTTPErrorHandler = s.problem
	router.POST("/*", func(c *echo.Context) error {
		body, err := io.ReadAll(c.Request().Body)
		read <- len(body)
		return err
	}, s.limitBodies)
	server := httptest.NewServer(router)
	defer server.Close()
	endless := func() io.Reader { return io.MultiReader(strings.NewReader("{"), forever{}) }
	for _, tt := range []struct {
		path   string
		size   int64 // 0 for an endless one
		status int
	}{
		{"/api/session", 100, 200}, {"/api/session", maxSignIn, 200}, {"/api/session", maxSignIn + 1, 413},
		{"/api/session", 200 << 20, 413}, {"/api/session", 0, 413},
		{"/api/services/frostline/plans", maxRequest, 200}, {"/api/services/frostline/plans", maxRequest + 1, 413},
		{"/api/services/frostline/source/commits", 2 << 20, 200},
		{"/api/services/frostline/source/commits", maxEdit + 1, 413},
	} {
		body := endless()
		if tt.size > 0 {
			body = io.LimitReader(endless(), tt.size)
		}
		q, err := http.NewRequest("POST", server.URL+tt.path, body)
		if err != nil {
			t.Fatal(err)
		}
		q.ContentLength = tt.size
		if tt.size == 0 {
			q.ContentLength = -1
		}
		response, err := http.DefaultClient.Do(q)
		if err != nil {
			if tt.status == 413 {
				continue // the connection was ended while it was still being sent
			}
			t.Fatal(tt, err)
		}
		response.Body.Close()
		if response.StatusCode != tt.status {
			t.Errorf("%s with %d bytes: %d, want %d", tt.path, tt.size, response.StatusCode, tt.status)
		}
		if tt.status == 200 {
			if n := <-read; int64(n) != tt.size {
				t.Errorf("%s: %d bytes arrived of %d", tt.path, n, tt.size)
			}
		}
	}
	if len(read) > 0 {
		t.Error("what was refused was read all the same")
	}
	c, err := net.Dial("tcp", server.Listener.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	fmt.Fprint(c, "POST /api/session HTTP/1.1\r\nHost: x\r\nContent-Length: 10\r\n\r\n{")
	_ = c.SetReadDeadline(time.Now().Add(20 * time.Second))
	response, err := http.ReadResponse(bufio.NewReader(c), nil)
	if err != nil || response.StatusCode != 408 {
		t.Errorf("one that sends nothing more: %v %v", response, err)
	}
}

// forever returns endless spaces.
type forever struct{}

func (forever) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = ' '
	}
	return len(p), nil
}

// The session's cookie is bound to its host name if the browser supports that.
func TestCookieNames(t *testing.T) {
	for address, want := range map[string]string{
		"http://127.0.0.1:7070": "__Host-rudmar_session true", "http://localhost:7070": "__Host-rudmar_session true",
		"https://rudmar.example": "__Host-rudmar_session true",
		"http://10.1.2.3:7070":   "rudmar_session false", "http://rudmar.internal": "rudmar_session false",
	} {
		s := &Server{options: Options{Address: address}}
		if name, secure := s.cookieName(); fmt.Sprint(name, " ", secure) != want {
			t.Errorf("%s: %s %v", address, name, secure)
		}
		if c := s.cookie("x", 9); c.Domain != "" || c.Path != "/" || !c.HttpOnly || c.SameSite != http.SameSiteStrictMode {
			t.Errorf("%s: %+v", address, c)
		}
	}
}
