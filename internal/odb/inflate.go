package odb

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"sync"

	"github.com/klauspost/compress/zlib"
)

// inflating is a reusable inflater. Creating one costs more than reading a small object.
type inflating struct {
	io.ReadCloser
	from bytes.Reader
}

var inflaters sync.Pool

// inflater returns an inflater for a deflated text.
func inflater(from []byte) (*inflating, error) {
	if z, ok := inflaters.Get().(*inflating); ok {
		z.from.Reset(from)
		return z, z.ReadCloser.(zlib.Resetter).Reset(&z.from, nil)
	}
	z := &inflating{}
	z.from.Reset(from)
	var err error
	z.ReadCloser, err = zlib.NewReader(&z.from)
	return z, err
}

// done returns the inflater to the pool.
func (z *inflating) done() {
	z.from.Reset(nil)
	inflaters.Put(z)
}

// mostInflated returns the largest size that deflated bytes can have; deflate cannot do better than 1032 to 1.
func mostInflated(n int) int { return 1032*n + 64 }

// firstPiece is the number of bytes that are read from a large object before memory for all of it is allocated.
const firstPiece = 64 << 10

var errNotThatLong = errors.New("its content is not as long as it says")

// inflate returns the content, of known size, that is deflated at the beginning of a text.
func inflate(from []byte, size int) ([]byte, error) { return inflateInto(nil, from, size) }

// inflateInto is inflate into existing memory if that is large enough.
func inflateInto(old, from []byte, size int) ([]byte, error) {
	if size < 0 || size > mostInflated(len(from)) {
		return nil, errNotThatLong
	}
	z, err := inflater(from)
	if err != nil {
		return nil, fmt.Errorf("inflating: %w", err)
	}
	defer z.done()
	data := old[:0]
	if cap(data) >= size {
		data = data[:size]
	} else {
		data = make([]byte, min(size, firstPiece))
	}
	_, err = io.ReadFull(z, data)
	if rest := size - len(data); err == nil && rest > 0 { // the header is plausible, so allocate the whole size
		data = append(make([]byte, 0, size), data...)[:size]
		_, err = io.ReadFull(z, data[size-rest:])
	}
	if err != nil {
		return nil, fmt.Errorf("inflating: %w", err)
	}
	var more [1]byte
	if n, err := z.Read(more[:]); n != 0 || err != io.EOF { // reading to the end verifies the checksum
		return nil, errNotThatLong
	}
	return data, nil
}
