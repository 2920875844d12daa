// Package odb reads git's object database: loose objects, packs with their indexes, the multi-pack index, and
// alternates. The formats are those of git's documentation (gitformat-pack, gitrepository-layout). The caller asks git
// about objects that it does not find or cannot read. A Writer adds packs, for systems other than git.
package odb

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/parallel"
)

// Store reads the objects of a repository. It is safe for concurrent use, and while git adds objects or repacks: a
// removed pack is readable until its last reader is done.
type Store struct {
	format object.Format
	dirs   []string // object folders: the repository's own, and its alternates

	mu    sync.Mutex // held while packs are listed
	packs atomic.Pointer[packs]
	bases *cache

	reads atomic.Int64
}

// packs is the set of packs at one time.
type packs struct {
	multi []*multi
	list  []*pack // packs that no multi-pack index lists
	last  atomic.Pointer[pack]
	seen  []time.Time // modification times of the folders, by index in dirs
}

// mostAlternates is the largest number of object directories.
const mostAlternates = 64

// Open opens an object directory with its alternates. It looks for packs at the first read. The error is that of an
// unreadable list of alternates.
func Open(dir string, format object.Format) (*Store, error) {
	s := &Store{format: format, bases: newCache()}
	return s, s.add(dir, 0)
}

// add adds an object directory and its alternates, each once.
func (s *Store) add(dir string, deep int) error {
	dir = filepath.Clean(dir)
	if slices.Contains(s.dirs, dir) {
		return nil
	}
	if len(s.dirs) == mostAlternates || deep > 5 { // git's own limit of depth
		return fmt.Errorf("%s borrows from more folders than are followed", s.dirs[0])
	}
	s.dirs = append(s.dirs, dir)
	list, err := os.ReadFile(filepath.Join(dir, "info", "alternates"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("reading which objects are borrowed: %w", err)
	}
	for line := range strings.Lines(string(list)) {
		line = strings.TrimSuffix(line, "\n")
		switch {
		case line == "" || line[0] == '#':
			continue
		case line[0] == '"':
			return fmt.Errorf("%s borrows from a folder with a quoted name", dir)
		case !filepath.IsAbs(line):
			line = filepath.Join(dir, line)
		}
		if err := s.add(line, deep+1); err != nil {
			return err
		}
	}
	return nil
}

// Reads returns the number of objects that were read.
func (s *Store) Reads() int64 { return s.reads.Load() }

// Read implements object.Reader. An object.ErrMissing means that the object is not here; after any other error git may
// be able to read it.
func (s *Store) Read(id object.ID) (kind object.Kind, data []byte, err error) {
	s.reads.Add(1)
	p := s.packs.Load()
	if p == nil {
		if p, err = s.look(nil); err != nil {
			return 0, nil, err
		}
	}
	kind, data, err = s.in(p, id)
	if !errors.Is(err, object.ErrMissing) {
		return kind, data, err
	}
	// The object may have been written or packed a moment ago.
	if now, err := s.look(p); err != nil || now != p {
		if err != nil {
			return 0, nil, err
		}
		return s.in(now, id)
	}
	return 0, nil, err
}

// fewTogether is the number of objects that one processor reads at a time. Objects that are requested together are
// often neighbours with common bases.
const fewTogether = 12

// ReadMany reads objects on all processors and returns the ids of those that it could not read. Several goroutines may
// call each at the same time.
func (s *Store) ReadMany(ids []object.ID, each func(id object.ID, kind object.Kind, data []byte)) (left []object.ID) {
	var mu sync.Mutex
	_ = parallel.Do(len(ids), fewTogether, func(i int) error { // git reads what fails here
		if kind, data, err := s.Read(ids[i]); err == nil {
			each(ids[i], kind, data)
		} else {
			mu.Lock()
			left = append(left, ids[i])
			mu.Unlock()
		}
		return nil
	})
	return left
}

// in finds an object in packs and among loose objects.
func (s *Store) in(p *packs, id object.ID) (kind object.Kind, data []byte, err error) {
	defer runtime.KeepAlive(p) // keep the pack's mapping alive
	defer faults(&err)()
	if at, offset, ok := p.find(id); ok {
		kind, data, err := s.packed(p, at, offset, 0)
		if err != nil {
			return 0, nil, fmt.Errorf("object %s in %s: %w", id, filepath.Base(at.name), err)
		}
		return kind, data, nil
	}
	for _, dir := range s.dirs {
		name := id.String()
		file, err := os.ReadFile(filepath.Join(dir, name[:2], name[2:]))
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return 0, nil, fmt.Errorf("object %s: %w", id, err)
		}
		kind, data, err := loose(file)
		if err != nil {
			return 0, nil, fmt.Errorf("object %s: %w", id, err)
		}
		return kind, data, nil
	}
	return 0, nil, fmt.Errorf("object %s: %w", id, object.ErrMissing)
}

// faults turns a fault on a mapped page, from a failing disk or a truncated file, into an error.
func faults(err *error) func() {
	before := debug.SetPanicOnFault(true)
	return func() {
		debug.SetPanicOnFault(before)
		if r := recover(); r != nil {
			fault, ok := r.(interface{ Addr() uintptr })
			if !ok {
				panic(r)
			}
			*err = fmt.Errorf("the file cannot be read at %#x", fault.Addr())
		}
	}
}

// find returns the pack that contains an object and the offset. It tries the last pack first.
func (p *packs) find(id object.ID) (*pack, int64, bool) {
	last := p.last.Load()
	if last != nil && last.index != nil {
		if offset, ok := last.index.find(id); ok {
			return last, offset, true
		}
	}
	for _, m := range p.multi {
		if at, offset, ok := m.find(id); ok {
			return at, offset, true
		}
	}
	for _, one := range p.list {
		if one == last {
			continue
		}
		if offset, ok := one.index.find(id); ok {
			p.last.Store(one)
			return one, offset, true
		}
	}
	return nil, 0, false
}

// look reads the list of packs again if the directories have changed.
func (s *Store) look(before *packs) (*packs, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if now := s.packs.Load(); now != before {
		return now, nil // another goroutine listed the packs meanwhile
	}
	now := &packs{}
	same := before != nil
	for i, dir := range s.dirs {
		info, err := os.Stat(filepath.Join(dir, "pack"))
		at := time.Time{}
		if err == nil {
			at = info.ModTime()
		}
		now.seen = append(now.seen, at)
		same = same && before.seen[i].Equal(at)
	}
	if same {
		return before, nil
	}
	known := map[string]*pack{}
	if before != nil {
		for _, p := range before.list {
			known[p.name] = p
		}
	}
	for _, dir := range s.dirs {
		if err := now.scan(filepath.Join(dir, "pack"), s.format, known); err != nil {
			return nil, err
		}
	}
	s.packs.Store(now)
	return now, nil
}

// scan adds the packs of a directory.
func (p *packs) scan(dir string, format object.Format, known map[string]*pack) error {
	entries, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("looking for packs: %w", err)
	}
	listed := map[string]bool{}
	if m, err := openMulti(dir, format); err == nil && m != nil {
		p.multi = append(p.multi, m)
		for _, one := range m.packs {
			listed[one.name] = true
		}
	}
	for _, e := range entries {
		name := filepath.Join(dir, e.Name())
		if filepath.Ext(name) != ".idx" || !strings.HasPrefix(e.Name(), "pack-") {
			continue
		}
		name = strings.TrimSuffix(name, ".idx") + ".pack"
		switch one := known[name]; {
		case listed[name]:
		case one != nil:
			p.list = append(p.list, one)
		default:
			index, err := openIndex(strings.TrimSuffix(name, ".pack")+".idx", format)
			if err != nil { // git can handle or report it
				continue
			}
			p.list = append(p.list, &pack{name: name, format: format, index: index})
		}
	}
	return nil
}

// loose parses a loose object: kind, size, a zero byte, and the content, deflated.
func loose(file []byte) (object.Kind, []byte, error) {
	z, err := inflater(file)
	if err != nil {
		return 0, nil, err
	}
	defer z.done()
	r := bufio.NewReaderSize(z, 512)
	head, err := r.ReadSlice(0)
	if err != nil {
		return 0, nil, fmt.Errorf("its head: %w", err)
	}
	name, digits, _ := bytes.Cut(head[:len(head)-1], []byte(" "))
	kind, err := object.ParseKind(string(name))
	if err != nil {
		return 0, nil, err
	}
	size, err := strconv.Atoi(string(digits))
	if err != nil || size < 0 || size > mostInflated(len(file)) {
		return 0, nil, fmt.Errorf("it says that it is %s bytes", digits)
	}
	data := make([]byte, size)
	if _, err := io.ReadFull(r, data); err != nil {
		return 0, nil, fmt.Errorf("it is cut off: %w", err)
	}
	if _, err := r.ReadByte(); err != io.EOF {
		return 0, nil, errors.New("it does not end where it should")
	}
	return kind, data, nil
}
