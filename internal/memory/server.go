// Package memory is a version-control system in memory: a server, and clones with one branch and files. It has no
// index and no hooks. It shows that the interfaces in vcs and change suffice, and lets tests run without git.
package memory

import (
	"context"
	"maps"
	"sync"
	"time"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// Server is a repository that several clones share. It is safe for use by several goroutines.
type Server struct {
	mu      sync.Mutex
	objects map[object.ID]stored
	heads   map[string]object.ID // by full names
	// Refuses is the message with which every push is refused; empty to accept.
	Refuses string
}

type stored struct {
	kind object.Kind
	data []byte
}

// NewServer returns an empty server.
func NewServer() *Server {
	return &Server{objects: map[object.ID]stored{}, heads: map[string]object.ID{}}
}

// Read returns an object, or object.ErrMissing.
func (s *Server) Read(ctx context.Context, id object.ID) (object.Kind, []byte, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if o, ok := s.objects[id]; ok {
		return o.kind, o.data, nil
	}
	return 0, nil, object.ErrMissing
}

// keep stores the objects of an overlay that are reachable from the tips.
func (s *Server) keep(ctx context.Context, made *object.Overlay, tips []object.ID) error {
	ids, err := made.Reachable(ctx, tips...)
	if err != nil {
		return err
	}
	for _, id := range ids {
		kind, data, err := made.Read(ctx, id)
		if err != nil {
			return err
		}
		s.mu.Lock()
		s.objects[id] = stored{kind, data}
		s.mu.Unlock()
	}
	return nil
}

// push moves a branch forward or, if it is at old, anywhere. It returns a *vcs.Refusal if the branch has other commits.
func (s *Server) push(ctx context.Context, ref string, tip, old object.ID) error {
	s.mu.Lock()
	at, refuses := s.heads[ref], s.Refuses
	s.mu.Unlock()
	if refuses != "" {
		return &vcs.Refusal{Kind: vcs.ServerRule, Words: []string{refuses}}
	}
	if !old.IsZero() && old != at {
		return &vcs.Refusal{Kind: vcs.Behind, Short: "stale info"}
	}
	if !at.IsZero() && old.IsZero() {
		held, err := history.IsAncestor(ctx, object.NewOverlay(object.SHA1, s), at, tip)
		if err != nil {
			return err
		}
		if !held {
			return &vcs.Refusal{Kind: vcs.Behind, Short: "fetch first"}
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.heads[ref] = tip
	return nil
}

// Clone returns a clone for a person. Dorvik keeps its files in the folder.
func (s *Server) Clone(ctx context.Context, name, email, folder string) *Clone {
	c := &Clone{server: s, who: object.Signature{Name: name, Email: email, When: 1767261600, Zone: "+0000"},
		own: folder, branch: "main", refs: map[string]object.ID{}, person: &person{map[string]string{}},
		moves: map[string][]vcs.RefMove{}}
	s.mu.Lock()
	for ref, at := range s.heads {
		c.refs["refs/remotes/origin/"+ref[len("refs/heads/"):]] = at
	}
	maps.Copy(c.refs, s.heads)
	s.mu.Unlock()
	c.fetched = time.Unix(c.who.When, 0)
	if tip := c.refs["refs/heads/main"]; !tip.IsZero() {
		if commit, err := object.NewOverlay(object.SHA1, s).Commit(ctx, tip); err == nil {
			c.files = commit.Tree
		}
	}
	return c
}
