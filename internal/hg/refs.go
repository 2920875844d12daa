package hg

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

// refs are names for commits that Mercurial does not keep: where the branches of remotes were when they were asked
// last, and Dorvik's own. They are a file that is replaced as a whole.
type refs struct {
	file string
	mu   sync.Mutex
}

// refFile is its content.
type refFile struct {
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

func openRefs(file string) (*refs, error) {
	r := &refs{file: file}
	_, err := r.read()
	return r, err
}

func (r *refs) read() (refFile, error) {
	f := refFile{map[string]string{}, map[string]int64{}, map[string][]move{}}
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

// change changes the file. Other processes wait meanwhile.
func (r *refs) change(do func(f *refFile) error) error {
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
	f, err := r.read()
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
	return writeFile(r.file, data)
}

// get returns the commit of a full name, or zero.
func (r *refs) get(name string) (object.ID, error) {
	f, err := r.read()
	if err != nil || f.Refs[name] == "" {
		return object.ID{}, err
	}
	return object.ParseID(f.Refs[name])
}

// set gives a name to a commit, or takes it away.
func (r *refs) set(name string, to object.ID, why string) error {
	return r.change(func(f *refFile) error {
		f.put(name, to, why)
		return nil
	})
}

// put is set in a file that was read. With a reason the move is remembered.
func (f *refFile) put(name string, to object.ID, why string) {
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

// update moves names, all or none: each only if it is at its old value.
func (r *refs) update(why string, updates []vcs.RefUpdate) error {
	return r.change(func(f *refFile) error {
		for _, u := range updates {
			if was := f.Refs[u.Name]; was != "" && was != u.Old.String() || was == "" && !u.Old.IsZero() {
				return &vcs.RefMovedError{Name: u.Name, Err: fmt.Errorf("it is at %s", was)}
			}
		}
		for _, u := range updates {
			f.put(u.Name, u.New, why)
		}
		return nil
	})
}

// all returns all names.
func (r *refs) all() (map[string]object.ID, error) {
	f, err := r.read()
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

// moves returns the moves of a name.
func (r *refs) moves(name string) (out []vcs.RefMove) {
	f, err := r.read()
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

// writeFile replaces a file, completely or not at all.
func writeFile(path string, data []byte) error {
	f, err := os.OpenFile(path+".new", os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err = errors.Join(err, f.Sync(), f.Close()); err == nil {
		err = os.Rename(path+".new", path)
	}
	if err != nil {
		os.Remove(path + ".new")
	}
	return err
}
