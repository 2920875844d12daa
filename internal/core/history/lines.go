package history

import (
	"slices"
	"strings"
	"sync"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/object"
)

// Annotator finds which of a side's commits changed a path, and which of them
// brought a given text. It remembers what it read, and is safe for use by
// several goroutines.
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

// NewAnnotator makes an annotator over a side's commits, newest first.
func NewAnnotator(store *object.Overlay, commits []Node) *Annotator {
	return &Annotator{store: store, commits: commits, paths: map[string][]touch{}}
}

func (t *Annotator) at(path string) ([]touch, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if done, ok := t.paths[path]; ok {
		return done, nil
	}
	var out []touch
	for _, n := range t.commits {
		before, err := FirstParentTree(t.store, n.Commit)
		if err != nil {
			return nil, err
		}
		old, err := t.store.Find(before, path)
		if err != nil {
			return nil, err
		}
		new, err := t.store.Find(n.Tree, path)
		if err != nil {
			return nil, err
		}
		if old.Same(new) {
			continue
		}
		at := touch{node: n, added: map[string]bool{}}
		var texts [2][]string
		for i, e := range []object.Entry{old, new} {
			if e.Mode.IsRegular() {
				data, err := t.store.Blob(e.ID)
				if err != nil {
					return nil, err
				}
				texts[i] = diff.Lines(string(data))
			}
		}
		for _, e := range diff.Histogram(texts[0], texts[1]) {
			for _, l := range texts[1][e.B0:e.B1] {
				at.added[strings.TrimSpace(l)] = true
			}
		}
		out = append(out, at)
	}
	t.paths[path] = out
	return out, nil
}

// Editors gives the commits that added one of the lines at the path, the newest first; where
// none did, the newest that touched the path; none where none did that.
func (t *Annotator) Editors(path string, lines []string) (out []Node, err error) {
	touches, err := t.at(path)
	if err != nil || len(touches) == 0 {
		return nil, err
	}
	for _, at := range touches {
		if slices.ContainsFunc(lines, func(l string) bool {
			s := strings.TrimSpace(l)
			return s != "" && at.added[s]
		}) {
			out = append(out, at.node)
		}
	}
	if len(out) == 0 {
		out = append(out, touches[0].node)
	}
	return out, nil
}

// Editor gives the first of Editors; ok is false where there is none.
func (t *Annotator) Editor(path string, lines []string) (n Node, ok bool, err error) {
	all, err := t.Editors(path, lines)
	if err != nil || len(all) == 0 {
		return Node{}, false, err
	}
	return all[0], true, nil
}
