// Package beside keeps what Dorvik needs and a system other than git does not keep: objects, names of commits, and
// checkouts for builds. All lie in files below the system's own folder.
package beside

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"sync"
	"syscall"
	"time"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// Names are names for commits that a system does not keep: where the branches of remotes were when they were asked
// last, and Dorvik's own. They are a file that is replaced as a whole, and may be used by several processes.
type Names struct {
	file string
	mu   sync.Mutex
}

// Record is its content.
type Record struct {
	Refs    map[string]string `json:"refs"`              // nodes by full name
	Fetched map[string]int64  `json:"fetched,omitempty"` // by remote: seconds since the epoch
	Moves   map[string][]move `json:"moves,omitempty"`   // of remotes' branches, oldest first
}

type move struct {
	To   string `json:"to"`
	When int64  `json:"when"`
	Why  string `json:"why"`
}

// mostMoves is how many moves of a name are kept.
const mostMoves = 200

// OpenNames opens the file. The error is that of one that cannot be read.
func OpenNames(file string) (*Names, error) {
	r := &Names{file: file}
	_, err := r.Read()
	return r, err
}

// Read returns the content of the file.
func (r *Names) Read() (Record, error) {
	f := Record{map[string]string{}, map[string]int64{}, map[string][]move{}}
	data, err := os.ReadFile(r.file)
	if errors.Is(err, fs.ErrNotExist) {
		return f, nil
	}
	if err == nil {
		err = json.Unmarshal(data, &f)
	}
	if err != nil {
		return f, fmt.Errorf("reading the names that Dorvik keeps: %w; remove %s, and they are made again", err, r.file)
	}
	return f, nil
}

// Change changes the file. Other processes wait meanwhile.
func (r *Names) Change(do func(f *Record) error) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	lock, err := os.OpenFile(r.file+".lock", os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return fmt.Errorf("storing names: %w", err)
	}
	defer lock.Close()
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX); err != nil {
		return fmt.Errorf("storing names: %w", err)
	}
	f, err := r.Read()
	if err != nil {
		return err
	}
	if err := do(&f); err != nil {
		return err
	}
	data, err := json.Marshal(f)
	if err != nil {
		return err
	}
	return WriteFile(r.file, data)
}

// Get returns the commit of a full name, or zero.
func (r *Names) Get(name string) (object.ID, error) {
	f, err := r.Read()
	if err != nil || f.Refs[name] == "" {
		return object.ID{}, err
	}
	return object.ParseID(f.Refs[name])
}

// Set gives a name to a commit, or takes it away.
func (r *Names) Set(name string, to object.ID, why string) error {
	return r.Change(func(f *Record) error {
		f.Put(name, to, why)
		return nil
	})
}

// Put is Set in a file that was read. With a reason the move is remembered.
func (f *Record) Put(name string, to object.ID, why string) {
	if to.IsZero() {
		delete(f.Refs, name)
		return
	}
	if f.Refs[name] == to.String() {
		return
	}
	f.Refs[name] = to.String()
	if why != "" {
		moves := append(f.Moves[name], move{to.String(), time.Now().Unix(), why})
		f.Moves[name] = moves[max(0, len(moves)-mostMoves):]
	}
}

// Update moves names, all or none: each only if it is at its old value.
func (r *Names) Update(why string, updates []vcs.RefUpdate) error {
	return r.Change(func(f *Record) error {
		for _, u := range updates {
			if was := f.Refs[u.Name]; was != "" && was != u.Old.String() || was == "" && !u.Old.IsZero() {
				return &vcs.RefMovedError{Name: u.Name, Err: fmt.Errorf("it is at %s", was)}
			}
		}
		for _, u := range updates {
			f.Put(u.Name, u.New, why)
		}
		return nil
	})
}

// All returns all names.
func (r *Names) All() (map[string]object.ID, error) {
	f, err := r.Read()
	if err != nil {
		return nil, err
	}
	out := map[string]object.ID{}
	for name := range maps.Keys(f.Refs) {
		if out[name], err = object.ParseID(f.Refs[name]); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Moves returns the moves of a name.
func (r *Names) Moves(name string) (out []vcs.RefMove) {
	f, err := r.Read()
	if err != nil {
		return nil
	}
	for _, m := range f.Moves[name] {
		if id, err := object.ParseID(m.To); err == nil {
			out = append(out, vcs.RefMove{To: id, When: time.Unix(m.When, 0), Why: m.Why})
		}
	}
	return out
}
