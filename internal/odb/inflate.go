package odb

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"sync"

	"github.com/klauspost/compress/zlib"
)

// inflating reads what is deflated. They are used again, since making one costs more than a small object does.
type inflating struct {
	io.ReadCloser
	from bytes.Reader
}

var inflaters sync.Pool

// inflater begins to inflate.
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

// done lets it be used again.
func (z *inflating) done() {
	z.from.Reset(nil)
	inflaters.Put(z)
}

// mostInflated returns how many bytes so many can become: deflate cannot do better than 1032 to 1.
func mostInflated(n int) int { return 1032*n + 64 }

// firstPiece is how much of something large is read before room is made for all of it, in bytes.
const firstPiece = 64 << 10

var errNotThatLong = errors.New("its content is not as long as it says")

// inflate returns the content of so many bytes that is deflated at the beginning of a text.
func inflate(from []byte, size int) ([]byte, error) { return inflateInto(nil, from, size) }

// inflateInto is inflate into the memory of a text that is not needed any more, where it is large enough.
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
	if rest := size - len(data); err == nil && rest > 0 { // it seems to be what it says that it is
		data = append(make([]byte, 0, size), data...)[:size]
		_, err = io.ReadFull(z, data[size-rest:])
	}
	if err != nil {
		return nil, fmt.Errorf("inflating: %w", err)
	}
	var more [1]byte
	if n, err := z.Read(more[:]); n != 0 || err != io.EOF { // the end has the checksum
		return nil, errNotThatLong
	}
	return data, nil
}
