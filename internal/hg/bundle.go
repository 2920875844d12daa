package hg

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
)

// A bundle is a file of changesets. Dorvik reads and writes uncompressed ones of version 2 with one changegroup of
// version 2; the formats are those of Mercurial's own documentation (hg help internals.bundles, .changegroups). A
// changegroup has three parts: the changelog, the manifests, and the revisions of each file. Each revision is a delta
// on another one of the same part.

// revision is one entry of a changegroup.
type revision struct {
	node, p1, p2 node
	base         node // what the delta is on
	link         node // the changeset that the revision came with
	delta        []byte
}

// node is Mercurial's id of a changeset, a manifest or a file's revision.
type node [20]byte

func (n node) null() bool    { return n == node{} }
func (n node) id() object.ID { return object.RawID(n[:]) }
func (n node) hex() string   { return n.id().String() }

// nodeOf returns the node of an id. The zero id has the null node.
func nodeOf(id object.ID) (n node) {
	copy(n[:], id.Raw())
	return n
}

// parseNode reads 40 hexadecimal digits.
func parseNode(s string) (n node, err error) {
	id, err := object.ParseID(s)
	if err != nil || len(id.Raw()) != len(n) {
		return n, fmt.Errorf("not a node of Mercurial: %q", s)
	}
	return nodeOf(id), nil
}

const (
	bundleMagic   = "HG20"
	groupPart     = "changegroup"
	headerOf      = 5 * 20  // bytes of a revision's nodes
	largestChunk  = 1 << 31 // bytes
	largestHeader = 1 << 16
)

// errBundle reports a bundle that does not follow the format.
var errBundle = errors.New("the bundle that hg made cannot be read")

// unbundle reads the changegroup of a bundle: each section is called with its name ("changelog", "manifests", or a
// file's path) and returns what reads a revision. Sections come in this order.
func unbundle(r io.Reader, section func(name string) (func(rev *revision) error, error)) error {
	in := bufio.NewReaderSize(r, 1<<16)
	magic := make([]byte, 4)
	if _, err := io.ReadFull(in, magic); err != nil || string(magic) != bundleMagic {
		return errBundle
	}
	params, err := sized(in, largestHeader)
	if err != nil || len(params) > 0 { // compressed, which was not asked for
		return errors.Join(errBundle, err)
	}
	for {
		head, err := sized(in, largestHeader)
		if err != nil {
			return err
		}
		if len(head) == 0 {
			return nil
		}
		if int(head[0]) >= len(head) {
			return errBundle
		}
		p := &payload{in: in}
		if name := string(head[1 : 1+head[0]]); strings.EqualFold(name, groupPart) {
			if err := readGroup(bufio.NewReaderSize(p, 1<<16), section); err != nil {
				return err
			}
		}
		if _, err := io.Copy(io.Discard, p); err != nil {
			return err
		}
	}
}

// sized reads a length of four bytes, and as many bytes.
func sized(r io.Reader, most uint32) ([]byte, error) {
	var size [4]byte
	if _, err := io.ReadFull(r, size[:]); err != nil {
		return nil, fmt.Errorf("%w: %w", errBundle, err)
	}
	n := binary.BigEndian.Uint32(size[:])
	if n > most {
		return nil, errBundle
	}
	data := make([]byte, n)
	_, err := io.ReadFull(r, data)
	return data, err
}

// payload is the content of a part, which comes in pieces.
type payload struct {
	in   *bufio.Reader
	left uint32
	done bool
}

func (p *payload) Read(b []byte) (int, error) {
	for p.left == 0 {
		if p.done {
			return 0, io.EOF
		}
		var size [4]byte
		if _, err := io.ReadFull(p.in, size[:]); err != nil {
			return 0, err
		}
		n := int32(binary.BigEndian.Uint32(size[:]))
		if n < 0 { // a part in between, as for an error
			return 0, errBundle
		}
		p.left, p.done = uint32(n), n == 0
	}
	n, err := p.in.Read(b[:min(len(b), int(p.left))])
	p.left -= uint32(n)
	return n, err
}

// readGroup reads a changegroup.
func readGroup(in *bufio.Reader, section func(name string) (func(rev *revision) error, error)) error {
	for _, name := range []string{"changelog", "manifests"} {
		if err := readRevisions(in, name, section); err != nil {
			return err
		}
	}
	for {
		name, err := chunk(in)
		if err != nil || name == nil {
			return err
		}
		if err := readRevisions(in, string(name), section); err != nil {
			return err
		}
	}
}

// readRevisions reads the revisions of a section.
func readRevisions(in *bufio.Reader, name string, section func(name string) (func(rev *revision) error, error)) error {
	each, err := section(name)
	if err != nil {
		return err
	}
	for {
		data, err := chunk(in)
		if err != nil || data == nil {
			return err
		}
		if len(data) < headerOf {
			return errBundle
		}
		var rev revision
		for i, to := range []*node{&rev.node, &rev.p1, &rev.p2, &rev.base, &rev.link} {
			copy(to[:], data[20*i:])
		}
		rev.delta = data[headerOf:]
		if err := each(&rev); err != nil {
			return err
		}
	}
}

// chunk reads a chunk; nil at the end of a section. A chunk's length counts the four bytes that hold it.
func chunk(in *bufio.Reader) ([]byte, error) {
	var size [4]byte
	if _, err := io.ReadFull(in, size[:]); err != nil {
		return nil, fmt.Errorf("%w: %w", errBundle, err)
	}
	n := binary.BigEndian.Uint32(size[:])
	if n == 0 {
		return nil, nil
	}
	if n <= 4 || n > largestChunk {
		return nil, errBundle
	}
	data := make([]byte, n-4)
	if _, err := io.ReadFull(in, data); err != nil {
		return nil, fmt.Errorf("%w: %w", errBundle, err)
	}
	return data, nil
}

// patched applies a delta to a text: pieces, each a start and an end in the text, and what stands there instead.
func patched(text, delta []byte) ([]byte, error) {
	out := make([]byte, 0, len(text)+len(delta))
	at := 0
	for len(delta) > 0 {
		if len(delta) < 12 {
			return nil, errBundle
		}
		from, to := int(binary.BigEndian.Uint32(delta)), int(binary.BigEndian.Uint32(delta[4:]))
		size := int(binary.BigEndian.Uint32(delta[8:]))
		delta = delta[12:]
		if from < at || to < from || to > len(text) || size > len(delta) {
			return nil, errBundle
		}
		out = append(append(out, text[at:from]...), delta[:size]...)
		at, delta = to, delta[size:]
	}
	return append(out, text[at:]...), nil
}

// whole returns a text as a delta on nothing.
func whole(text []byte) []byte {
	return append(binary.BigEndian.AppendUint32(make([]byte, 8, 12+len(text)), uint32(len(text))), text...)
}

// group is a changegroup in memory, to be written.
type group struct {
	changelog, manifests []revision
	files                []filelog
}

// filelog is the revisions of a file.
type filelog struct {
	path string
	revs []revision
}

// write writes the bundle to a file, completely or not at all.
func (g *group) write(file string) (err error) {
	f, err := os.OpenFile(file+".new", os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	out := bufio.NewWriterSize(f, 1<<16)
	b := &pieces{out: out}
	b.raw([]byte(bundleMagic))
	b.size(0) // no parameters
	head := []byte{byte(len(groupPart))}
	head = append(head, strings.ToUpper(groupPart)...) // who does not know the part must not pass over it
	head = append(head, 0, 0, 0, 0, 1, 0, 7, 2)        // part 0, one mandatory parameter, its lengths
	head = append(head, "version02"...)
	b.size(len(head))
	b.raw(head)
	b.revisions(g.changelog)
	b.revisions(g.manifests)
	for _, l := range g.files {
		b.chunk([]byte(l.path))
		b.revisions(l.revs)
	}
	b.part(make([]byte, 4)) // no more files
	b.size(0)               // the end of the part
	b.size(0)               // the end of the bundle
	if err = errors.Join(b.err, out.Flush(), f.Sync(), f.Close()); err == nil {
		err = os.Rename(file+".new", file)
	}
	if err != nil {
		os.Remove(file + ".new")
		return fmt.Errorf("writing the new changesets: %w", err)
	}
	return nil
}

// pieces writes the pieces of a bundle, and remembers the first error.
type pieces struct {
	out *bufio.Writer
	err error
}

func (p *pieces) raw(b []byte) {
	if p.err == nil {
		_, p.err = p.out.Write(b)
	}
}

func (p *pieces) size(n int) { p.raw(binary.BigEndian.AppendUint32(nil, uint32(n))) }

// part writes a piece of the part's payload.
func (p *pieces) part(b []byte) {
	p.size(len(b))
	p.raw(b)
}

// chunk writes a chunk as a piece of its own.
func (p *pieces) chunk(parts ...[]byte) {
	n := 4
	for _, b := range parts {
		n += len(b)
	}
	p.size(n)
	p.size(n)
	for _, b := range parts {
		p.raw(b)
	}
}

// revisions writes a section and its end.
func (p *pieces) revisions(revs []revision) {
	for i := range revs {
		r := &revs[i]
		p.chunk(r.node[:], r.p1[:], r.p2[:], r.base[:], r.link[:], r.delta)
	}
	p.part(make([]byte, 4))
}
