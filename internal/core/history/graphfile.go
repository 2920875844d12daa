package history

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"sort"

	"dorvik.dev/dorvik/internal/core/object"
)

// Shape is a commit's place in the graph.
type Shape struct {
	Tree    object.ID
	Parents []object.ID
	When    int64  // commit time, in seconds since the epoch
	Level   uint64 // generation number, above each parent's; 0 if unknown
}

// Graph holds git's commit-graph files: the shape of commits without reading the commits. It is closed: it contains
// all ancestors of each commit. The format is that of git's documentation (gitformat-commit-graph).
type Graph struct {
	layers []*layer // oldest first, as in the chain file
	dates  bool     // levels are corrected commit dates, not generation numbers
	total  uint32
}

// layer is one file of a chain.
type layer struct {
	format object.Format
	below  uint32 // commits in the layers before it
	count  uint32
	fanout []byte
	ids    []byte
	data   []byte
	edges  []byte
	times  []byte // offsets of corrected commit dates
	late   []byte // 8-byte offsets for dates that do not fit into times
}

const (
	noParent   = 0x70000000
	manyParent = 0x80000000
	lateOffset = 0x80000000
)

// ParseGraph parses a commit-graph from the contents of its files, the oldest first.
func ParseGraph(format object.Format, files ...[]byte) (*Graph, error) {
	g := &Graph{dates: true}
	for _, data := range files {
		l, err := parseLayer(format, data)
		if err != nil {
			return nil, err
		}
		l.below = g.total
		g.total += l.count
		g.dates = g.dates && l.times != nil
		g.layers = append(g.layers, l)
	}
	return g, nil
}

func parseLayer(format object.Format, data []byte) (*layer, error) {
	bad := func(what string) error { return fmt.Errorf("commit-graph: %s", what) }
	if len(data) < 8 || string(data[:4]) != "CGPH" || data[4] != 1 {
		return nil, bad("not a file of version 1")
	}
	if int(data[5]) != int(format)+1 {
		return nil, bad("of another kind of id")
	}
	chunks := int(data[6])
	if len(data) < 8+12*(chunks+1)+format.Size() {
		return nil, bad("cut off")
	}
	l := &layer{format: format}
	at := func(i int) (string, uint64) {
		e := data[8+12*i:]
		return string(e[:4]), binary.BigEndian.Uint64(e[4:])
	}
	for i := range chunks {
		name, from := at(i)
		_, to := at(i + 1)
		if from > to || to > uint64(len(data)) {
			return nil, bad("its parts lie outside it")
		}
		part := data[from:to]
		switch name {
		case "OIDF":
			l.fanout = part
		case "OIDL":
			l.ids = part
		case "CDAT":
			l.data = part
		case "EDGE":
			l.edges = part
		case "GDA2":
			l.times = part
		case "GDO2":
			l.late = part
		}
	}
	if len(l.fanout) != 4*256 {
		return nil, bad("has no fan-out")
	}
	l.count = binary.BigEndian.Uint32(l.fanout[4*255:])
	n, size := int(l.count), format.Size()
	if len(l.ids) != n*size || len(l.data) != n*(size+16) || l.times != nil && len(l.times) != 4*n {
		return nil, bad("its parts have other sizes than they say")
	}
	return l, nil
}

// find returns the index of an id in the layer.
func (l *layer) find(raw []byte) (uint32, bool) {
	size := l.format.Size()
	lo, hi := uint32(0), binary.BigEndian.Uint32(l.fanout[4*int(raw[0]):])
	if raw[0] > 0 {
		lo = binary.BigEndian.Uint32(l.fanout[4*(int(raw[0])-1):])
	}
	if lo > hi || hi > l.count {
		return 0, false
	}
	i := int(lo) + sort.Search(int(hi-lo), func(i int) bool {
		k := int(lo) + i
		return bytes.Compare(l.ids[k*size:(k+1)*size], raw) >= 0
	})
	return uint32(i), i < int(hi) && bytes.Equal(l.ids[i*size:(i+1)*size], raw)
}

// at returns the layer of a commit by its number over all layers.
func (g *Graph) at(n uint32) (*layer, uint32, bool) {
	for i := len(g.layers) - 1; i >= 0; i-- {
		if l := g.layers[i]; n >= l.below {
			return l, n - l.below, n-l.below < l.count
		}
	}
	return nil, 0, false
}

func (g *Graph) id(n uint32) (object.ID, bool) {
	l, i, ok := g.at(n)
	if !ok {
		return object.ID{}, false
	}
	size := l.format.Size()
	return object.RawID(l.ids[int(i)*size : int(i+1)*size]), true
}

// Shape returns the shape of a commit. ok is false if the graph lacks it or is damaged there. A nil graph is empty. It
// takes time logarithmic in the number of commits.
func (g *Graph) Shape(id object.ID) (s Shape, ok bool) {
	if g == nil {
		return s, false
	}
	raw := id.Raw()
	for i := len(g.layers) - 1; i >= 0; i-- {
		if n, found := g.layers[i].find(raw); found {
			return g.shapeAt(g.layers[i], n)
		}
	}
	return s, false
}

func (g *Graph) shapeAt(l *layer, n uint32) (s Shape, ok bool) {
	size := l.format.Size()
	row := l.data[int(n)*(size+16):]
	s.Tree = object.RawID(row[:size])
	row = row[size:]
	first, second := binary.BigEndian.Uint32(row), binary.BigEndian.Uint32(row[4:])
	add := func(n uint32) bool {
		id, ok := g.id(n)
		s.Parents = append(s.Parents, id)
		return ok
	}
	if first != noParent && !add(first) {
		return s, false
	}
	switch {
	case second == noParent:
	case second&manyParent == 0:
		if !add(second) {
			return s, false
		}
	default:
		for i := int(second &^ manyParent); ; i++ {
			if 4*i+4 > len(l.edges) {
				return s, false
			}
			p := binary.BigEndian.Uint32(l.edges[4*i:])
			if !add(p &^ manyParent) {
				return s, false
			}
			if p&manyParent != 0 {
				break
			}
		}
	}
	high, low := binary.BigEndian.Uint32(row[8:]), binary.BigEndian.Uint32(row[12:])
	s.When = int64(high&3)<<32 | int64(low)
	s.Level = uint64(high >> 2)
	if g.dates {
		off := uint64(binary.BigEndian.Uint32(l.times[4*n:]))
		if off&lateOffset != 0 {
			i := int(off &^ lateOffset)
			if 8*i+8 > len(l.late) {
				return s, false
			}
			off = binary.BigEndian.Uint64(l.late[8*i:])
		}
		s.Level = uint64(s.When) + off
	}
	return s, true
}
