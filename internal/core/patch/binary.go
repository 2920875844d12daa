package patch

import (
	"bytes"
	"compress/zlib"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
)

// Binary is the new content of a binary file: all of it, or what it takes from the old.
type Binary struct {
	Data  []byte
	Delta bool
}

// digits of base 85, in the order that git has them.
const digits = "0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz!#$%&()*+-;<=>?@^_`{|}~"

// binary reads the forward part of a binary patch; the way back is passed over.
func (p *parser) binary() (*Binary, error) {
	if p.at == len(p.lines) {
		return nil, p.fail("ends before the content of a binary file")
	}
	kind, number, _ := strings.Cut(p.line(), " ")
	size, err := strconv.Atoi(number)
	if err != nil || kind != "literal" && kind != "delta" {
		return nil, p.fail("does not begin the content of a binary file")
	}
	var packed []byte
	for p.at++; p.at < len(p.lines) && p.line() != ""; p.at++ {
		if packed, err = decode85(packed, p.line()); err != nil {
			return nil, p.fail("is not in base 85")
		}
	}
	r, err := zlib.NewReader(bytes.NewReader(packed))
	if err != nil {
		return nil, p.fail("ends content that cannot be unpacked")
	}
	data, err := io.ReadAll(io.LimitReader(r, int64(size)+1))
	if err != nil || len(data) != size {
		return nil, p.fail("ends content of another size than it says")
	}
	return &Binary{data, kind == "delta"}, nil
}

// decode85 adds what a line stands for: its length as a letter, and five digits for each four bytes.
func decode85(out []byte, line string) ([]byte, error) {
	bad := errors.New("not in base 85")
	var size int
	switch c := line[0]; {
	case 'A' <= c && c <= 'Z':
		size = int(c-'A') + 1
	case 'a' <= c && c <= 'z':
		size = int(c-'a') + 27
	default:
		return nil, bad
	}
	line = line[1:]
	if len(line) != (size+3)/4*5 {
		return nil, bad
	}
	for ; size > 0; size -= 4 {
		var word uint64
		for _, c := range []byte(line[:5]) {
			d := strings.IndexByte(digits, c)
			if d < 0 {
				return nil, bad
			}
			word = word*85 + uint64(d)
		}
		if word > 0xffffffff {
			return nil, bad
		}
		four := []byte{byte(word >> 24), byte(word >> 16), byte(word >> 8), byte(word)}
		out, line = append(out, four[:min(size, 4)]...), line[5:]
	}
	return out, nil
}

// Apply gives the new content of a file from the old.
func (b *Binary) Apply(old []byte) ([]byte, error) {
	if !b.Delta {
		return b.Data, nil
	}
	return applyDelta(old, b.Data)
}

// applyDelta makes a content from another and what differs, in the form of git's packs: two sizes, then
// stretches that are copied (high bit set, with which bytes of offset and size follow) or given.
func applyDelta(old, delta []byte) ([]byte, error) {
	broken := errors.New("the difference to the binary file before is broken")
	size := func() (n int) {
		for shift := 0; len(delta) > 0 && shift < 35; shift += 7 {
			c := delta[0]
			delta = delta[1:]
			if n |= int(c&0x7f) << shift; c < 0x80 {
				break
			}
		}
		return n
	}
	if size() != len(old) {
		return nil, fmt.Errorf("the binary file before is another: %w", ErrNotFrom)
	}
	want := size()
	var out []byte
	for len(delta) > 0 {
		op := delta[0]
		delta = delta[1:]
		if op&0x80 == 0 {
			if op == 0 || len(delta) < int(op) {
				return nil, broken
			}
			out, delta = append(out, delta[:op]...), delta[op:]
			continue
		}
		var field [7]int
		for i := range field {
			if op>>i&1 == 1 {
				if len(delta) == 0 {
					return nil, broken
				}
				field[i], delta = int(delta[0]), delta[1:]
			}
		}
		at := field[0] | field[1]<<8 | field[2]<<16 | field[3]<<24
		n := field[4] | field[5]<<8 | field[6]<<16
		if n == 0 {
			n = 0x10000
		}
		if at+n > len(old) {
			return nil, broken
		}
		out = append(out, old[at:at+n]...)
	}
	if len(out) != want {
		return nil, broken
	}
	return out, nil
}
