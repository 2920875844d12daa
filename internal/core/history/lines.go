package history

import (
	"context"
	"strings"
	"sync"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/object"
)

// Annotator finds the commits of a side that changed a path or added a text. It caches what it reads and is safe for
// concurrent use.
type Annotator struct {
	store   *object.Overlay
	commits []Node // newest first

	mu    sync.Mutex
	paths map[string][]touch
}

type touch struct {
	node  Node
	added map[string]bool // lines the commit added at the path
}

// NewAnnotator returns an annotator for a side's commits, newest first.
func NewAnnotator(store *object.Overlay, commits []Node) *Annotator {
	return &Annotator{store: store, commits: commits, paths: map[string][]touch{}}
}

func (t *Annotator) at(ctx context.Context, path string) ([]touch, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if done, ok := t.paths[path]; ok {
		return done, nil
	}
	var out []touch
	name := path // path in the current commit
	for _, n := range t.commits {
		before, err := FirstParentTree(ctx, t.store, n.Commit)
		if err != nil {
			return nil, err
		}
		old, err := t.store.Find(ctx, before, name)
		if err != nil {
			return nil, err
		}
		new, err := t.store.Find(ctx, n.Tree, name)
		if err != nil {
			return nil, err
		}
		if old.Same(new) {
			continue
		}
		at := touch{node: n, added: map[string]bool{}}
		now, err := t.lines(ctx, new)
		if err != nil {
			return nil, err
		}
		was, err := t.lines(ctx, old)
		if err != nil {
			return nil, err
		}
		if old.Absent() {
			if name, was, err = t.before(ctx, before, n.Tree, name, now); err != nil {
				return nil, err
			}
		}
		for _, e := range diff.Histogram(was, now) {
			for _, l := range now[e.B0:e.B1] {
				at.added[strings.TrimSpace(l)] = true
			}
		}
		out = append(out, at)
	}
	t.paths[path] = out
	return out, nil
}

// lines returns the lines of a regular file, or nil for anything else.
func (t *Annotator) lines(ctx context.Context, e object.Entry) ([]string, error) {
	if !e.Mode.IsRegular() {
		return nil, nil
	}
	data, err := t.store.Blob(ctx, e.ID)
	return diff.Lines(string(data)), err
}

// before finds where a file that a commit added came from: among the files that the commit deleted, the one that
// shares the most lines with it, at least half of the longer one's. If there is none it returns the path without
// lines.
func (t *Annotator) before(ctx context.Context, before, after object.ID, path string, now []string) (name string,
	was []string, err error) {
	name = path
	changes, err := t.store.Changes(ctx, before, after)
	if err != nil {
		return "", nil, err
	}
	most := 0
	for _, c := range changes {
		if !c.New.Absent() {
			continue
		}
		old, err := t.lines(ctx, c.Old)
		if err != nil {
			return "", nil, err
		}
		same := diff.Common(len(old), diff.Histogram(old, now))
		if same > most && 2*same >= max(len(old), len(now)) {
			name, was, most = c.Path, old, same
		}
	}
	return name, was, nil
}

// Writers are the commits behind lines.
type Writers struct {
	Commits []Node         // newest first
	of      map[string]int // by line without the blanks around it: index of the newest commit that added it
}

// People returns the number of authors, by their addresses.
func (w Writers) People() int {
	seen := map[string]bool{}
	for _, n := range w.Commits {
		seen[n.Author().Email] = true
	}
	return len(seen)
}

// Of returns the index in Commits of the newest commit that added a line. ok is false if none did.
func (w Writers) Of(line string) (i int, ok bool) {
	i, ok = w.of[strings.TrimSpace(line)]
	return i, ok
}

// newest reports whether no commit is known yet that added a line.
func (w Writers) newest(line string) bool { _, known := w.of[line]; return !known }

// Writers returns the commits that added one of the lines at the path. If none did, it returns the newest commit that
// changed the path, or none.
func (t *Annotator) Writers(ctx context.Context, path string, lines []string) (w Writers, err error) {
	touches, err := t.at(ctx, path)
	if err != nil || len(touches) == 0 {
		return w, err
	}
	w.of = map[string]int{}
	for _, at := range touches {
		added := false
		for _, l := range lines {
			s := strings.TrimSpace(l)
			if s == "" || !at.added[s] {
				continue
			}
			if added = true; w.newest(s) {
				w.of[s] = len(w.Commits)
			}
		}
		if added {
			w.Commits = append(w.Commits, at.node)
		}
	}
	if len(w.Commits) == 0 {
		w.Commits = append(w.Commits, touches[0].node)
	}
	return w, nil
}

// Editor returns the newest of Writers. ok is false if there is none.
func (t *Annotator) Editor(ctx context.Context, path string, lines []string) (n Node, ok bool, err error) {
	w, err := t.Writers(ctx, path, lines)
	if err != nil || len(w.Commits) == 0 {
		return Node{}, false, err
	}
	return w.Commits[0], true, nil
}
