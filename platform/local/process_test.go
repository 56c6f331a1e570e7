package local

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"os"
	"testing"
)

// A response at its invocation's deadline is late: if it were accepted, the next invocation would end by the
// deadline of this one.
func TestResponseAtTheTimeout(t *testing.T) {
	for range 200 {
		read, write, err := os.Pipe()
		must(t, err)
		text := []byte(`{"call": "c-1", "answer": 1}`)
		frame := append(binary.BigEndian.AppendUint32(nil, uint32(len(text))), text...)
		p := &process{answers: read, reader: bufio.NewReader(read)}
		ctx, cancel := context.WithCancel(t.Context())
		for _, late := range []bool{false, true} {
			if late {
				cancel()
			}
			if _, err := write.Write(frame); err != nil {
				t.Fatal(err)
			}
			if _, err := p.receive(ctx, "c-1"); errors.Is(err, context.Canceled) != late || err != nil && !late {
				t.Fatalf("late %v: %v", late, err)
			}
		}
		cancel()
		must(t, errors.Join(read.Close(), write.Close()))
	}
}
