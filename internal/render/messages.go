package render

import (
	"bufio"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io"

	utiljson "k8s.io/apimachinery/pkg/util/json"
)

// Bounds of one message, in bytes.
const (
	maxHead = 32 << 20
	maxSent = 256 << 20
)

// messages is one direction of a pipe: a head's length in 4 bytes and a body's in 8, big-endian, then both.
type messages struct {
	r *bufio.Reader
	w *bufio.Writer
	b *limitedReader // the body that was read last
}

func newReader(r io.Reader) *messages { return &messages{r: bufio.NewReader(r)} }
func newWriter(w io.Writer) *messages { return &messages{w: bufio.NewWriter(w)} }

func encode(v any) ([]byte, error) { return json.Marshal(v) }

// decode keeps whole numbers whole, as everywhere in objects.
func decode(text []byte, v any) error { return utiljson.Unmarshal(text, v) }

func (m *messages) write(head any, body ...[]byte) error {
	text, err := encode(head)
	if err != nil {
		return err
	}
	var sizes [12]byte
	total := 0
	for _, b := range body {
		total += len(b)
	}
	if len(text) > maxHead || total > maxSent {
		return fmt.Errorf("a message of %d bytes about a rendering; the most is %d", len(text)+total, maxSent)
	}
	binary.BigEndian.PutUint32(sizes[:], uint32(len(text)))
	binary.BigEndian.PutUint64(sizes[4:], uint64(total))
	for _, b := range append([][]byte{sizes[:], text}, body...) {
		if _, err := m.w.Write(b); err != nil {
			return err
		}
	}
	return m.w.Flush()
}

// read reads a head; the body is to be read before the next.
func (m *messages) read(head any) (*limitedReader, error) {
	if m.b != nil {
		if _, err := io.Copy(io.Discard, m.b); err != nil {
			return nil, err
		}
	}
	var sizes [12]byte
	if _, err := io.ReadFull(m.r, sizes[:]); err != nil {
		return nil, err
	}
	n, size := binary.BigEndian.Uint32(sizes[:]), binary.BigEndian.Uint64(sizes[4:])
	if n > maxHead || size > maxSent {
		return nil, fmt.Errorf("a message of %d and %d bytes; the most is %d and %d", n, size, maxHead, maxSent)
	}
	text, err := io.ReadAll(io.LimitReader(m.r, int64(n))) // grows as it comes: a length alone takes no memory
	if err == nil && len(text) < int(n) {
		err = io.ErrUnexpectedEOF
	}
	if err != nil {
		return nil, err
	}
	if err := decode(text, head); err != nil {
		return nil, err
	}
	m.b = &limitedReader{m.r, int(size)}
	return m.b, nil
}

// limitedReader is a message's body.
type limitedReader struct {
	r io.Reader
	n int
}

func (l *limitedReader) left() int { return l.n }

func (l *limitedReader) Read(p []byte) (int, error) {
	if l.n == 0 {
		return 0, io.EOF
	}
	n, err := l.r.Read(p[:min(len(p), l.n)])
	if l.n -= n; err == io.EOF && l.n > 0 {
		err = io.ErrUnexpectedEOF
	}
	return n, err
}
