package diff

import (
	"bytes"
	"cmp"
	"hash/maphash"
	"slices"
)

// Bag holds the lines of a content, cut at 64 bytes, each with its number of bytes. Two bags tell how much of two
// contents is equal, in any order.
type Bag struct {
	size  int
	spans []span // by hash
}

type span struct {
	hash  uint64
	bytes int
}

// longestSpan is the number of bytes at which a line is cut.
const longestSpan = 64

// NewBag returns the bag of a content. Bags that are compared need one seed. size is the content's size in bytes; it
// may differ from len if line ends were converted. It takes O(n log n) time for n lines.
func NewBag(seed maphash.Seed, data []byte, size int) *Bag {
	b := &Bag{size: size}
	for len(data) > 0 {
		n := bytes.IndexByte(data[:min(longestSpan, len(data))], '\n') + 1
		if n == 0 {
			n = min(longestSpan, len(data))
		}
		b.spans = append(b.spans, span{maphash.Bytes(seed, data[:n]), n})
		data = data[n:]
	}
	slices.SortFunc(b.spans, func(a, b span) int { return cmp.Compare(a.hash, b.hash) })
	distinct := b.spans[:0]
	for _, s := range b.spans {
		if n := len(distinct); n > 0 && distinct[n-1].hash == s.hash {
			distinct[n-1].bytes += s.bytes
		} else {
			distinct = append(distinct, s)
		}
	}
	b.spans = slices.Clip(distinct)
	return b
}

// Similarity returns the part of the larger content that both share, from 0 to 1. It returns 0 without a comparison if
// the sizes alone keep it below least.
func (b *Bag) Similarity(other *Bag, least float64) float64 {
	small, large := min(b.size, other.size), max(b.size, other.size)
	if large == 0 || float64(small) < least*float64(large) {
		return 0
	}
	common := 0
	for x, y := b.spans, other.spans; len(x) > 0 && len(y) > 0; {
		switch {
		case x[0].hash < y[0].hash:
			x = x[1:]
		case x[0].hash > y[0].hash:
			y = y[1:]
		default:
			common += min(x[0].bytes, y[0].bytes)
			x, y = x[1:], y[1:]
		}
	}
	return float64(common) / float64(large)
}
