package recovery

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime/debug"
	"time"

	"go.etcd.io/bbolt"
	bolterrors "go.etcd.io/bbolt/errors"

	"dorvik/internal/core/object"
	"dorvik/internal/core/settle"
)

// Stage is one of the five steps.
type Stage int

const (
	Look Stage = iota
	Choose
	Settle
	Check
	Push
)

func (s Stage) String() string {
	return [...]string{"Look", "Choose", "Settle", "Check", "Push"}[s]
}

// State is what is kept of a recovery between runs.
type State struct {
	Branch        string           `json:"branch,omitempty"`
	Yours, Theirs object.ID        // the tips it was last worked out for
	Route         Route            `json:"route,omitempty"`
	Stage         Stage            `json:"stage"`
	Picks         []object.ID      `json:"picks,omitempty"`       // commits that are brought onto the branch, in order
	PickParent    int              `json:"pick_parent,omitempty"` // of those that join lines, what this parent has not
	Decisions     settle.Decisions `json:"decisions"`
	Mends         []Mend           `json:"mends,omitempty"`
	Accepted      *Waypoint        `json:"accepted,omitempty"` // joined here and not pushed yet
	Checked       *Checked         `json:"checked,omitempty"`
	Agreed        []string         `json:"agreed,omitempty"` // check commands and merge drivers agreed to
	LastCheck     time.Duration    `json:"last_check,omitempty"`
}

// Waypoint is a state of the branch to go back to.
type Waypoint struct {
	Name     string      `json:"name"` // its ref is refs/dorvik/waypoint/NAME
	Branch   string      `json:"branch"`
	Before   object.ID   `json:"before"` // the branch's tip before the join
	After    object.ID   `json:"after"`
	Theirs   object.ID   `json:"theirs"`
	Route    Route       `json:"route"`
	Time     time.Time   `json:"time"`
	GoneBack bool        `json:"gone_back,omitempty"`
	Picks    []object.ID `json:"picks,omitempty"`  // what was picked
	Parent   int         `json:"parent,omitempty"` // State.PickParent of it
	Aside    []string    `json:"aside,omitempty"`  // what was in the way, and is kept under its name
}

// Ref is the ref that keeps the commits of before the join.
func (w *Waypoint) Ref() string { return "refs/dorvik/waypoint/" + w.Name }

// Checked is the outcome of a check of a tree.
type Checked struct {
	Tree    object.ID     `json:"tree"`
	Command string        `json:"command"`
	Passed  bool          `json:"passed"`
	Skipped bool          `json:"skipped,omitempty"` // the person went on without
	Took    time.Duration `json:"took"`
}

// ErrInUse says that another Dorvik works in the same repository.
var ErrInUse = errors.New("another Dorvik is open in this repository; finish there, or close it")

// store is the one file in which recoveries are kept.
type store struct{ db *bbolt.DB }

var (
	bucketState     = []byte("state")
	bucketWaypoints = []byte("waypoints")
	keyCurrent      = []byte("current")
)

func statePath(gitDir string) string { return filepath.Join(gitDir, "dorvik", "recovery.db") }

// damaged is a file of recoveries that cannot be read.
type damaged struct{ err error }

func (e *damaged) Error() string { return e.err.Error() }
func (e *damaged) Unwrap() error { return e.err }

// safely runs something that reads the file. It is mapped into memory: where it is shorter
// than it says, reading it is a fault, and where it holds anything else the library
// panics. Both become an error.
func safely(read func() error) (err error) {
	defer debug.SetPanicOnFault(debug.SetPanicOnFault(true))
	defer func() {
		if p := recover(); p != nil {
			err = &damaged{fmt.Errorf("%v", p)}
		}
	}()
	return read()
}

func openDB(path string, readOnly bool) (db *bbolt.DB, err error) {
	err = safely(func() (err error) {
		db, err = bbolt.Open(path, 0o644, &bbolt.Options{Timeout: 300 * time.Millisecond, ReadOnly: readOnly})
		return err
	})
	var known *damaged
	var io *fs.PathError
	switch {
	case err == nil, errors.As(err, &known), errors.As(err, &io):
	case errors.Is(err, bolterrors.ErrTimeout):
		err = ErrInUse
	default:
		err = &damaged{err}
	}
	return db, err
}

// openStore opens the file of recoveries. One that is damaged is set aside, and a new one
// begun with what can be read of it; notice then says so.
func openStore(gitDir string) (s *store, notice string, err error) {
	path := statePath(gitDir)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return nil, "", fmt.Errorf("keeping the recovery in the git directory: %w", err)
	}
	s = &store{}
	if s.db, err = openDB(path, false); err == nil {
		err = s.begin()
	}
	var bad *damaged
	if errors.As(err, &bad) {
		s, notice, err = s.anew(path, bad)
	}
	if errors.Is(err, ErrInUse) {
		return nil, "", err
	}
	if err != nil {
		s.close()
		return nil, "", fmt.Errorf("keeping the recovery in %s: %w", path, err)
	}
	return s, notice, nil
}

// begin makes what the file is to hold, and reads all there is: so damage shows here.
func (s *store) begin() error {
	err := safely(func() error {
		return s.db.Update(func(tx *bbolt.Tx) error {
			for _, b := range [][]byte{bucketState, bucketWaypoints} {
				if _, err := tx.CreateBucketIfNotExists(b); err != nil {
					return err
				}
			}
			return nil
		})
	})
	if err != nil {
		return err
	}
	if _, err := s.load(); err != nil {
		return &damaged{err}
	}
	_, err = s.waypoint("")
	if err != nil {
		return &damaged{err}
	}
	return nil
}

// anew sets a damaged file aside and begins a new one.
func (s *store) anew(path string, bad *damaged) (*store, string, error) {
	st, kept := State{}, []*Waypoint{}
	readState := false
	if s.db != nil {
		var err error
		st, err = s.load()
		readState = err == nil
		_ = safely(func() error {
			return s.db.View(func(tx *bbolt.Tx) error {
				return tx.Bucket(bucketWaypoints).ForEach(func(_, data []byte) error {
					w := &Waypoint{}
					if json.Unmarshal(data, w) == nil && w.Name != "" {
						kept = append(kept, w)
					}
					return nil
				})
			})
		})
		s.close()
	}
	aside, err := setAside(path)
	if err != nil {
		return s, "", err
	}
	fresh := &store{}
	if fresh.db, err = openDB(path, false); err == nil {
		err = fresh.begin()
	}
	for _, w := range kept {
		if err == nil {
			err = fresh.putWaypoint(w)
		}
	}
	notice := fmt.Sprintf("The file in which Dorvik keeps its recoveries was damaged (%v). It is set aside as %s, and a new one is begun", bad, filepath.Base(aside))
	if readState && err == nil {
		err = fresh.save(&st)
		notice += "; what was decided so far could be read."
	} else {
		notice += "; decisions that were kept there are to be made again. Your branch and files are not concerned."
	}
	return fresh, notice, err
}

// setAside renames a damaged file, and gives its new name.
func setAside(path string) (string, error) {
	for n := 1; ; n++ {
		aside := fmt.Sprintf("%s.damaged-%d", path, n)
		if _, err := os.Lstat(aside); errors.Is(err, fs.ErrNotExist) {
			return aside, os.Rename(path, aside)
		}
	}
}

// close lets the file go. A library that panicked over it may never do so.
func (s *store) close() {
	if s == nil || s.db == nil {
		return
	}
	done := make(chan struct{})
	go func() {
		defer close(done)
		_ = safely(s.db.Close)
	}()
	select {
	case <-done:
	case <-time.After(time.Second):
	}
}

// Peek gives the recovery kept in a repository, nil where none is unfinished or the file
// cannot be read, without changing anything.
func Peek(w *Workspace) (*State, error) {
	path := statePath(w.Repo.GitDir)
	if info, err := os.Stat(path); err != nil || info.Size() == 0 {
		return nil, nil
	}
	db, err := openDB(path, true)
	var bad *damaged
	if errors.As(err, &bad) {
		return nil, nil // the next start sets it aside, and says so
	}
	if errors.Is(err, ErrInUse) {
		return nil, err
	}
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", path, err)
	}
	s := &store{db}
	defer s.close()
	st, err := s.load()
	if err != nil || st.Route == "" && st.Accepted == nil {
		return nil, nil
	}
	return &st, nil
}

func (s *store) load() (st State, err error) {
	err = safely(func() error {
		return s.db.View(func(tx *bbolt.Tx) error {
			b := tx.Bucket(bucketState)
			if b == nil {
				return nil // made, and cut off before anything was kept
			}
			if data := b.Get(keyCurrent); data != nil {
				return json.Unmarshal(data, &st)
			}
			return nil
		})
	})
	if err != nil {
		err = fmt.Errorf("reading the kept recovery: %w", err)
	}
	return st, err
}

// update is a write to the file.
func (s *store) update(write func(tx *bbolt.Tx) error) error {
	return safely(func() error { return s.db.Update(write) })
}

func (s *store) save(st *State) error {
	data, err := json.Marshal(st)
	if err == nil {
		err = step("save")
	}
	if err == nil {
		err = s.update(func(tx *bbolt.Tx) error { return tx.Bucket(bucketState).Put(keyCurrent, data) })
	}
	if err == nil {
		err = step("saved")
	}
	if err != nil {
		return fmt.Errorf("keeping the recovery: %w", err)
	}
	return nil
}

// putWaypoint writes a waypoint; a new one gets its name here.
func (s *store) putWaypoint(w *Waypoint) error {
	if err := step("put waypoint"); err != nil {
		return fmt.Errorf("keeping the waypoint: %w", err)
	}
	err := s.update(func(tx *bbolt.Tx) error {
		b := tx.Bucket(bucketWaypoints)
		if w.Name == "" {
			n, err := b.NextSequence()
			if err != nil {
				return err
			}
			w.Name = fmt.Sprint(n)
		}
		data, err := json.Marshal(w)
		if err != nil {
			return err
		}
		return b.Put(waypointKey(w.Name), data)
	})
	if err != nil {
		return fmt.Errorf("keeping the waypoint: %w", err)
	}
	return nil
}

func waypointKey(name string) []byte {
	var n uint64
	if _, err := fmt.Sscan(name, &n); err != nil {
		return []byte(name)
	}
	return binary.BigEndian.AppendUint64(nil, n)
}

// waypoint gives a waypoint by name, or with an empty name the last one that
// was not gone back to.
func (s *store) waypoint(name string) (*Waypoint, error) {
	var found *Waypoint
	err := safely(func() error {
		return s.db.View(func(tx *bbolt.Tx) error {
			b := tx.Bucket(bucketWaypoints)
			if name != "" {
				if data := b.Get(waypointKey(name)); data != nil {
					found = &Waypoint{}
					return json.Unmarshal(data, found)
				}
				return nil
			}
			c := b.Cursor()
			for k, data := c.Last(); k != nil && found == nil; k, data = c.Prev() {
				w := &Waypoint{}
				if err := json.Unmarshal(data, w); err != nil {
					return err
				}
				if !w.GoneBack {
					found = w
				}
			}
			return nil
		})
	})
	if err != nil {
		return nil, fmt.Errorf("reading the waypoints: %w", err)
	}
	return found, nil
}
