package bodytime_test

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"rudmar/bodytime"
)

// A body that arrives byte by byte is ended; a long one that arrives steadily is not, and neither is one that the
// server reads slowly.
func TestSlowBodies(t *testing.T) {
	const within = 2 * time.Second
	read := make(chan error, 1)
	pause := time.Duration(0)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body := bodytime.Limit(w, r, within)
		buffer := make([]byte, 4<<10)
		for {
			_, err := body.Read(buffer)
			if err != nil {
				if err == io.EOF {
					err = nil
				}
				read <- err
				return
			}
			time.Sleep(pause) // the server is busy
		}
	}))
	defer server.Close()
	send := func(size int, write func(c net.Conn)) error {
		t.Helper()
		c, err := net.Dial("tcp", server.Listener.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		fmt.Fprintf(c, "POST / HTTP/1.1\r\nHost: x\r\nContent-Length: %d\r\n\r\n", size)
		go write(c)
		go func() { _, _ = http.ReadResponse(bufio.NewReader(c), nil) }()
		return <-read
	}
	if err := send(1000, func(c net.Conn) {
		for range 1000 {
			if _, err := c.Write([]byte("a")); err != nil {
				return
			}
			time.Sleep(20 * time.Millisecond) // the rate of this caller
		}
	}); err == nil {
		t.Error("a body that arrives byte by byte was read")
	}
	pause = 200 * time.Millisecond
	if err := send(64<<10, func(c net.Conn) { _, _ = c.Write(make([]byte, 64<<10)) }); err != nil {
		t.Errorf("a body that the server reads slowly: %v", err)
	}
}
