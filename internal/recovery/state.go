package recovery

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
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
	Branch        string        `json:"branch,omitempty"`
	Yours, Theirs object.ID     // the tips it was last worked out for
	Route         Route         `json:"route,omitempty"`
	Stage         Stage         `json:"stage"`
	Picks         []object.ID   `json:"picks,omitempty"` // commits that are brought onto the branch, in order
	Book          settle.Book   `json:"book"`
	Mends         []Mend        `json:"mends,omitempty"`
	Accepted      *Waypoint     `json:"accepted,omitempty"` // joined here and not pushed yet
	Checked       *Checked      `json:"checked,omitempty"`
	Agreed        []string      `json:"agreed,omitempty"` // check commands and merge drivers agreed to
	LastCheck     time.Duration `json:"last_check,omitempty"`
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
	Picks    []object.ID `json:"picks,omitempty"` // what was picked
	Aside    []string    `json:"aside,omitempty"` // what was in the way, and is kept under its name
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

func openStore(gitDir string) (*store, error) {
	path := statePath(gitDir)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return nil, fmt.Errorf("keeping the recovery in the git directory: %w", err)
	}
	db, err := bbolt.Open(path, 0o644, &bbolt.Options{Timeout: 300 * time.Millisecond})
	if errors.Is(err, bolterrors.ErrTimeout) {
		return nil, ErrInUse
	}
	if err != nil {
		return nil, fmt.Errorf("keeping the recovery in %s: %w", path, err)
	}
	err = db.Update(func(tx *bbolt.Tx) error {
		for _, b := range [][]byte{bucketState, bucketWaypoints} {
			if _, err := tx.CreateBucketIfNotExists(b); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		db.Close()
		return nil, fmt.Errorf("keeping the recovery in %s: %w", path, err)
	}
	return &store{db}, nil
}

// Peek gives the recovery kept in a repository, nil where none is unfinished,
// without changing anything.
func Peek(w *Workspace) (*State, error) {
	path := statePath(w.Repo.GitDir)
	if _, err := os.Stat(path); err != nil {
		return nil, nil
	}
	db, err := bbolt.Open(path, 0o644, &bbolt.Options{Timeout: 300 * time.Millisecond, ReadOnly: true})
	if errors.Is(err, bolterrors.ErrTimeout) {
		return nil, ErrInUse
	}
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", path, err)
	}
	defer db.Close()
	st, err := (&store{db}).load()
	if err != nil || st.Route == "" && st.Accepted == nil {
		return nil, err
	}
	return &st, nil
}

func (s *store) load() (st State, err error) {
	err = s.db.View(func(tx *bbolt.Tx) error {
		b := tx.Bucket(bucketState)
		if b == nil {
			return nil // made, and cut off before anything was kept
		}
		if data := b.Get(keyCurrent); data != nil {
			return json.Unmarshal(data, &st)
		}
		return nil
	})
	if err != nil {
		err = fmt.Errorf("reading the kept recovery: %w", err)
	}
	return st, err
}

func (s *store) save(st *State) error {
	data, err := json.Marshal(st)
	if err == nil {
		err = step("save")
	}
	if err == nil {
		err = s.db.Update(func(tx *bbolt.Tx) error { return tx.Bucket(bucketState).Put(keyCurrent, data) })
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
	err := s.db.Update(func(tx *bbolt.Tx) error {
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
	err := s.db.View(func(tx *bbolt.Tx) error {
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
	if err != nil {
		return nil, fmt.Errorf("reading the waypoints: %w", err)
	}
	return found, nil
}
