package object

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"unsafe"
)

// Reader reads objects. Callers must not change the content, because it is shared.
type Reader interface {
	Read(ctx context.Context, id ID) (Kind, []byte, error)
}

// ManyReader reads several objects at once, which saves one round trip per object. It skips those that it cannot read.
// Several goroutines may call each at the same time.
type ManyReader interface {
	ReadMany(ctx context.Context, ids []ID, each func(id ID, kind Kind, data []byte))
}

// ErrMissing reports that the repository lacks an object: it is damaged, or a shallow or partial clone.
var ErrMissing = errors.New("not in this repository")

type stored struct {
	kind Kind
	data []byte
}

// Overlay stores new objects in memory, over a reader of existing ones. It is safe for concurrent use.
type Overlay struct {
	format Format
	under  Reader

	mu    sync.Mutex
	made  map[ID]stored
	cache map[ID]stored // objects read or requested last,
	older map[ID]stored // and the generation before
	bytes int           // bytes held by cache
	ahead map[ID]stored // large objects that were read ahead, until they are requested
	large int           // bytes held by ahead
}

// Blobs larger than cacheOne are not kept. Past cacheHalf what was kept becomes the older half, in place of the one
// before; where that is no more than cacheFew objects, past cacheMost, so that what is read ahead is there when it is
// asked for. Of those larger that are read ahead of being asked for, which is once, as much as aheadAll is kept. All
// but cacheFew are in bytes.
const (
	cacheOne  = 1 << 20
	cacheHalf = 4 << 20
	cacheFew  = 4 * readAtOnce
	cacheMost = 16 << 20
	aheadAll  = 320 << 20
)

// NewOverlay returns an empty overlay. A nil reader stands for an empty repository.
func NewOverlay(f Format, under Reader) *Overlay {
	return &Overlay{format: f, under: under, made: map[ID]stored{}, cache: map[ID]stored{},
		ahead: map[ID]stored{}}
}

// Format returns the hash function of the overlay's ids.
func (o *Overlay) Format() Format { return o.format }

// Put adds an object and returns its id.
func (o *Overlay) Put(kind Kind, data []byte) ID {
	id := o.format.Sum(kind, data)
	o.mu.Lock()
	defer o.mu.Unlock()
	o.made[id] = stored{kind, data}
	return id
}

// PutTree adds a tree. The entries need not be sorted.
func (o *Overlay) PutTree(entries []Entry) ID { return o.Put(KindTree, encodeTree(entries)) }

// PutCommit adds a commit.
func (o *Overlay) PutCommit(c *Commit) ID { return o.Put(KindCommit, c.Encode()) }

// Read returns an object from memory or from the underlying reader.
func (o *Overlay) Read(ctx context.Context, id ID) (Kind, []byte, error) {
	o.mu.Lock()
	s, ok := o.made[id]
	if !ok {
		s, ok = o.cache[id]
	}
	if !ok {
		if s, ok = o.older[id]; ok {
			o.hold(id, s)
		}
	}
	if !ok {
		if s, ok = o.ahead[id]; ok {
			delete(o.ahead, id)
			o.large -= len(s.data)
		}
	}
	o.mu.Unlock()
	if ok {
		return s.kind, s.data, nil
	}
	if o.under == nil {
		return 0, nil, fmt.Errorf("object %s: %w", id, ErrMissing)
	}
	kind, data, err := o.under.Read(ctx, id)
	if err != nil {
		return 0, nil, err
	}
	o.keep(id, kind, data)
	return kind, data, nil
}

func (o *Overlay) keep(id ID, kind Kind, data []byte) {
	if len(data) > cacheOne {
		return
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	o.hold(id, stored{kind, data})
}

// hold caches an object. The caller holds the lock.
func (o *Overlay) hold(id ID, s stored) {
	if o.bytes += len(s.data); o.bytes > cacheMost || o.bytes > cacheHalf && len(o.cache) > cacheFew {
		o.older, o.cache = o.cache, make(map[ID]stored, len(o.cache))
		o.bytes = len(s.data)
	}
	o.cache[id] = s
}

// held reports whether an object is cached. The caller holds the lock.
func (o *Overlay) held(id ID) bool {
	_, is := o.cache[id]
	_, was := o.older[id]
	return is || was
}

// Forget drops objects of the underlying reader from the cache. Call it for objects that will not be read soon.
func (o *Overlay) Forget(ids ...ID) {
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, id := range ids {
		o.bytes -= len(o.cache[id].data)
		delete(o.cache, id)
		delete(o.older, id)
	}
}

// Prefetch reads objects that will be needed, at once if the underlying reader can. Errors appear when an object is
// read. Prefetch may change the slice.
func (o *Overlay) Prefetch(ctx context.Context, ids ...ID) {
	many, ok := o.under.(ManyReader)
	if !ok || len(ids) < 2 {
		return
	}
	// Keep the given order, because objects of one directory lie together in a pack. Read few at a time, because other
	// goroutines may read some of them meanwhile.
	for batch := range slices.Chunk(ids, readAtOnce) {
		asked := make(map[ID]bool, len(batch))
		o.mu.Lock()
		batch = slices.DeleteFunc(batch, func(id ID) bool {
			_, made := o.made[id]
			_, ahead := o.ahead[id]
			known := made || o.held(id) || ahead || id.IsZero() || asked[id]
			asked[id] = true
			return known
		})
		o.mu.Unlock()
		if len(batch) > 0 {
			many.ReadMany(ctx, batch, o.keepAhead)
		}
	}
}

// readAtOnce is the number of objects per call of the underlying ManyReader.
const readAtOnce = 96

// Release drops prefetched objects that were not read.
func (o *Overlay) Release() {
	o.mu.Lock()
	defer o.mu.Unlock()
	clear(o.ahead)
	o.large = 0
}

// keepAhead keeps a prefetched object.
func (o *Overlay) keepAhead(id ID, kind Kind, data []byte) {
	if len(data) <= cacheOne {
		o.keep(id, kind, data)
		return
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	if _, known := o.ahead[id]; !known && o.large+len(data) <= aheadAll {
		o.ahead[id] = stored{kind, data}
		o.large += len(data)
	}
}

func (o *Overlay) content(ctx context.Context, id ID, want Kind) ([]byte, error) {
	kind, data, err := o.Read(ctx, id)
	if err != nil {
		return nil, err
	}
	if kind != want {
		return nil, fmt.Errorf("object %s is a %s where a %s is expected", id, kind, want)
	}
	return data, nil
}

// Blob returns the content of a blob.
func (o *Overlay) Blob(ctx context.Context, id ID) ([]byte, error) {
	return o.content(ctx, id, KindBlob)
}

// Text returns the content of a blob as a string that shares its memory.
func (o *Overlay) Text(ctx context.Context, id ID) (string, error) {
	data, err := o.content(ctx, id, KindBlob)
	return Shared(data), err
}

// Shared returns the content of an object as a string that shares its memory. This is safe because content never
// changes.
func Shared(data []byte) string { return unsafe.String(unsafe.SliceData(data), len(data)) }

// Tree returns the entries of a tree. The zero id has none.
func (o *Overlay) Tree(ctx context.Context, id ID) ([]Entry, error) {
	if id.IsZero() {
		return nil, nil
	}
	data, err := o.content(ctx, id, KindTree)
	if err != nil {
		return nil, err
	}
	entries, err := parseTree(o.format, data)
	if err != nil {
		return nil, fmt.Errorf("tree %s: %w", id, err)
	}
	return entries, nil
}

// Commit returns a commit.
func (o *Overlay) Commit(ctx context.Context, id ID) (*Commit, error) {
	data, err := o.content(ctx, id, KindCommit)
	if err != nil {
		return nil, err
	}
	c, err := ParseCommit(data)
	if err != nil {
		return nil, fmt.Errorf("commit %s: %w", id, err)
	}
	return c, nil
}

// Made reports whether the object was added to this overlay.
func (o *Overlay) Made(id ID) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	_, ok := o.made[id]
	return ok
}
