package apart

import (
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io"
)

// SendFrame writes JSON behind its length.
func SendFrame(to io.Writer, v any) error {
	body, err := json.Marshal(v)
	if err != nil {
		return err
	}
	_, err = to.Write(append(binary.BigEndian.AppendUint32(make([]byte, 0, len(body)+4), uint32(len(body))), body...))
	return err
}

// maxFrame is the maximum size of a frame, in bytes.
const maxFrame = 16 << 20

// ReceiveFrame reads a frame that SendFrame wrote.
func ReceiveFrame(from io.Reader, v any) error {
	var head [4]byte
	if _, err := io.ReadFull(from, head[:]); err != nil {
		return err
	}
	size := binary.BigEndian.Uint32(head[:])
	if size > maxFrame {
		return fmt.Errorf("a frame of %d MiB", size>>20)
	}
	body := make([]byte, size)
	if _, err := io.ReadFull(from, body); err != nil {
		return err
	}
	return json.Unmarshal(body, v)
}
