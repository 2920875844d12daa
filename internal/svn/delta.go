package svn

import (
	"errors"
	"fmt"
)

// errDelta reports a difference between two texts that is damaged.
var errDelta = errors.New("svn sent a difference that does not fit its base")

// patched applies a difference in the format svndiff, version 0 (notes/svndiff of Subversion), to a text.
func patched(base, delta []byte) ([]byte, error) {
	if len(delta) < 4 || string(delta[:3]) != "SVN" {
		return nil, errDelta
	}
	if delta[3] != 0 {
		return nil, fmt.Errorf("svn sent a difference in the format svndiff%d, which Dorvik cannot read", delta[3])
	}
	var out []byte
	for r := (reader{delta[4:]}); len(r.rest) > 0; {
		var n [5]int // offset and length of the view of the base, length of the result, of instructions, of new data
		for i := range n {
			var ok bool
			if n[i], ok = r.number(); !ok {
				return nil, errDelta
			}
		}
		code, ok := r.take(n[3])
		data, more := r.take(n[4])
		if !ok || !more || n[0]+n[1] > len(base) || n[0]+n[1] < n[0] {
			return nil, errDelta
		}
		var err error
		if out, err = window(out, base[n[0]:n[0]+n[1]], n[2], code, data); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// window appends the part of a result that the instructions of one window make.
func window(out, view []byte, size int, code, data []byte) ([]byte, error) {
	start := len(out)
	for r := (reader{code}); len(r.rest) > 0; {
		what := r.rest[0] >> 6
		n := int(r.rest[0] & 0x3f)
		r.rest = r.rest[1:]
		ok := true
		if n == 0 {
			n, ok = r.number()
		}
		at := 0
		if ok && what < 2 {
			at, ok = r.number()
		}
		if !ok || n > size-(len(out)-start) {
			return nil, errDelta
		}
		switch what {
		case 0: // from the view of the base
			if at > len(view)-n {
				return nil, errDelta
			}
			out = append(out, view[at:at+n]...)
		case 1: // from this window, which may overlap with what it makes
			if at >= len(out)-start {
				return nil, errDelta
			}
			for i := range n {
				out = append(out, out[start+at+i])
			}
		case 2: // new
			if n > len(data) {
				return nil, errDelta
			}
			out, data = append(out, data[:n]...), data[n:]
		default:
			return nil, errDelta
		}
	}
	if len(out)-start != size {
		return nil, errDelta
	}
	return out, nil
}

// reader takes numbers and bytes off a text.
type reader struct{ rest []byte }

// most is the largest length that is believed: 1 GB.
const most = 1 << 30

// number reads an integer: seven bits a byte, the high ones first, with the top bit set in all bytes but the last.
func (r *reader) number() (n int, ok bool) {
	for i, b := range r.rest {
		if n = n<<7 | int(b&0x7f); n > most {
			return 0, false
		}
		if b&0x80 == 0 {
			r.rest = r.rest[i+1:]
			return n, true
		}
	}
	return 0, false
}

func (r *reader) take(n int) ([]byte, bool) {
	if n > len(r.rest) {
		return nil, false
	}
	out := r.rest[:n]
	r.rest = r.rest[n:]
	return out, true
}
