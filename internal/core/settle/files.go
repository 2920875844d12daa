package settle

import (
	"context"
	"maps"
	"slices"
	"sync"

	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/parallel"
)

// Chosen returns the option that the decisions choose for a question or, with settled false, the stand-in.
func (f *File) Chosen(c *Question, b *Decisions) (o Option, settled bool) {
	if _, o, ok := b.For(c); ok {
		return o, true
	}
	return f.placeholder(c), false
}

// ChosenBy returns Chosen's option for each question.
func (f *File) ChosenBy(b *Decisions) func(c *Question) Option {
	return func(c *Question) Option {
		o, _ := f.Chosen(c, b)
		return o
	}
}

// Decided returns the entries of the path, and of any other path that its questions decide, and whether all of them
// are settled. Open ones have stand-ins.
func (f *File) Decided(store *object.Overlay, b *Decisions) (d merge.Decided, all bool) {
	all = true
	effect := func(c *Question) merge.Decided {
		if _, o, ok := b.For(c); ok {
			return o.Effect
		}
		all = false
		if o, ok := c.Option(c.Suggested); ok {
			return o.Effect
		}
		return c.Ways[0].Effect // yours
	}
	if f.Text == nil {
		return effect(f.Questions[0]), all
	}
	lines := f.source.Subject.(*merge.Lines)
	for _, q := range f.Questions {
		if d, _, ok := b.For(q); ok && d.Way == Both && !q.Whole() {
			return merge.Decided{Entries: map[string]object.Entry{f.Path: lines.Theirs, lines.Beside: lines.Yours}},
				true
		}
	}
	text := f.joinBytes(func(c *Question) Option {
		o, ok := f.Chosen(c, b)
		all = all && ok
		return o
	})
	e := object.Entry{Mode: lines.Mode, ID: store.Put(object.KindBlob, text)}
	if last := f.Questions[len(f.Questions)-1]; last.Whole() {
		e.Mode = effect(last).Entries[f.Path].Mode
	}
	return merge.Decided{Entries: map[string]object.Entry{f.Path: e}}, all
}

// Files opens contested paths and caches them, so joining again after a decision does not work out the ways again. It
// is safe for concurrent use.
type Files struct {
	store *object.Overlay
	mu    sync.Mutex
	open  map[fileKey]*File

	// Recall, if not nil, returns how a conflict was settled before. One goroutine at a time calls it.
	Recall func(k Key) (r Recollection, ok bool)

	// Alone is set if a single file is settled, so that no file can be put beside it.
	Alone bool

	// Maker, if not nil, returns the command that regenerates a generated file, or an empty string if none can run.
	// known is the usual command for the kind of file, or empty.
	Maker func(path, known string) string
}

// Recollection is an earlier decision about the same conflict.
type Recollection struct {
	Decision
	When  string // the date, as shown
	By    string // the colleague who decided; empty for the person at the keyboard
	Typed bool   // the text stood between conflict marks and may be unfinished, so it is offered and never suggested
}

type fileKey struct {
	path, facts string
	kind        merge.ConflictKind
}

// NewFiles returns an empty cache over a store.
func NewFiles(store *object.Overlay) *Files { return &Files{store: store, open: map[fileKey]*File{}} }

// Open is the function Open with a cache.
func (fs *Files) Open(ctx context.Context, c *merge.Conflict) *File {
	fs.mu.Lock()
	defer fs.mu.Unlock()
	key := keyOfFile(c)
	f := fs.open[key]
	if f == nil {
		f = fs.complete(ctx, key, Open(c))
	}
	return f
}

func keyOfFile(c *merge.Conflict) fileKey { return fileKey{c.Path, c.Subject.Facts(), c.Kind} }

// complete adds the options that need more than the conflict, and caches the file. The caller holds fs.mu.
func (fs *Files) complete(ctx context.Context, key fileKey, f *File) *File {
	fs.measure(ctx, f)
	fs.offerAnew(f)
	fs.offerBoth(f)
	fs.recall(f)
	fs.open[key] = f
	return f
}

// openAll opens several conflicts on all processors. It does not block Open. The error is the context's.
func (fs *Files) openAll(ctx context.Context, list []merge.Conflict) ([]*File, error) {
	keys, files := make([]fileKey, len(list)), make([]*File, len(list))
	var missing []int
	fs.mu.Lock()
	for i := range list {
		keys[i] = keyOfFile(&list[i])
		if files[i] = fs.open[keys[i]]; files[i] == nil {
			missing = append(missing, i)
		}
	}
	fs.mu.Unlock()
	err := parallel.Do(len(missing), 1, func(k int) error {
		files[missing[k]] = Open(&list[missing[k]])
		return ctx.Err()
	})
	if err != nil {
		return nil, err
	}
	fs.mu.Lock()
	defer fs.mu.Unlock()
	for _, i := range missing {
		if known := fs.open[keys[i]]; known != nil { // another goroutine opened it meanwhile
			files[i] = known
		} else {
			fs.complete(ctx, keys[i], files[i])
		}
	}
	return files, nil
}

// offerBoth adds the option to keep both files of one name, one under another name.
func (fs *Files) offerBoth(f *File) {
	lines, ok := f.source.Subject.(*merge.Lines)
	if !ok || lines.Beside == "" || fs.Alone {
		return
	}
	for _, q := range f.Questions {
		if q.Whole() {
			continue
		}
		q.Ways = append(slices.Clone(q.Ways), Option{Way: Both, Text: q.Theirs,
			Reason: "two files, whole: yours becomes " + lines.Beside})
	}
}

// Forget empties the cache, so that decisions are recalled again.
func (fs *Files) Forget() {
	fs.mu.Lock()
	defer fs.mu.Unlock()
	clear(fs.open)
}

// recall adds the option of an earlier decision about the same conflict. The person's own is suggested.
func (fs *Files) recall(f *File) {
	if fs.Recall == nil {
		return
	}
	for _, q := range f.Questions {
		r, ok := fs.Recall(q.Key)
		if !ok || q.Whole() || r.Way == Anew || r.Way.OfFile() { // what else is in the file may be another now
			continue
		}
		o, ok := q.of(r.Decision)
		if !ok {
			continue
		}
		who, at := "you", 0
		if r.By != "" {
			if who = r.By; q.Suggested != "" {
				at = 1
			}
		}
		o.Reason = "as " + who + " settled it on " + r.When + ": " + o.Way.Label()
		if r.Typed {
			o.Reason, at = "as you typed it between the conflict marks", 0
		}
		o.Way = AsBefore
		q.Ways = slices.Insert(slices.Clone(q.Ways), at, o)
		if r.By == "" && !r.Typed {
			q.Suggested, q.Why, q.Doubt = AsBefore, o.Reason, ""
		}
	}
}

// measure finds the sizes of the sides' entries and the targets of their links. What cannot be read has none.
func (fs *Files) measure(ctx context.Context, f *File) {
	for _, c := range f.Questions {
		if !c.Whole() || c.Kind == merge.ModeBits {
			continue
		}
		base, yours, theirs := c.Subject.Sides()
		size := func(e object.Entry) int {
			if e.Mode.IsRegular() {
				if data, err := fs.store.Blob(ctx, e.ID); err == nil {
					return len(data)
				}
			}
			return -1
		}
		target := func(e object.Entry) string {
			if e.Mode == object.ModeLink {
				if data, err := fs.store.Blob(ctx, e.ID); err == nil {
					return string(data)
				}
			}
			return ""
		}
		c.Targets = merge.Three[string]{Base: target(base), Yours: target(yours), Theirs: target(theirs)}
		c.Sizes = merge.Three[int]{Base: size(base), Yours: size(yours), Theirs: size(theirs)}
	}
}

// Resolve settles what the decisions decide in a joined pair of trees. With b bound it is a replay.Resolver.
func (fs *Files) Resolve(ctx context.Context, r *merge.Result, b *Decisions) (d merge.Decided, all bool, err error) {
	d, all, b = merge.Decided{Entries: map[string]object.Entry{}}, true, b.Indexed()
	files, err := fs.openAll(ctx, r.Conflicts)
	if err != nil {
		return d, false, err
	}
	for _, f := range files {
		if err := ctx.Err(); err != nil {
			return d, false, err
		}
		one, ok := f.Decided(fs.store, b)
		maps.Copy(d.Entries, one.Entries)
		d.Moves = append(d.Moves, one.Moves...)
		all = all && ok
	}
	return d, all, nil
}
