package bodytime_test

import (
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
		ended := make(chan struct{})
		go func() {
			_, _ = io.Copy(io.Discard, c) // until the server closes the connection
			close(ended)
		}()
		err = <-read
		if err != nil {
			select {
			case <-ended:
			case <-time.After(30 * time.Second):
				t.Error("the connection stays open after its body was ended")
			}
		}
		return err
	}
	if err := send(100_000, func(c net.Conn) {
		for range 100_000 {
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
