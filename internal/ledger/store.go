package ledger

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime/debug"
	"strconv"
	"time"

	"dorvik.dev/dorvik/internal/exact"
	"dorvik.dev/dorvik/internal/plan"
	"go.etcd.io/bbolt"
	bolterrors "go.etcd.io/bbolt/errors"
)

// Store is the database file of the ledger. It has one bucket per kind of entry.
type Store struct {
	db   *bbolt.DB
	kept snapshot // content of the file
}

// snapshot is the state as it was written. save writes only what differs from it.
type snapshot struct {
	fields map[string]json.RawMessage
	lists  State
}

// schema is the version of the file format.
const schema = 2

// The buckets.
var (
	bucketMeta      = []byte("meta")      // schema version
	bucketRecovery  = []byte("recovery")  // fields of the state except lists, by name, as JSON
	bucketDecisions = []byte("decisions") // by number, from 0
	bucketMemory    = []byte("memory")    // decisions of all recoveries, by conflict
	bucketMends     = []byte("mends")     // by number, from 0
	bucketWaypoints = []byte("waypoints") // by number
	bucketsAll      = [][]byte{bucketMeta, bucketRecovery, bucketDecisions, bucketMends, bucketWaypoints,
		bucketLogbook}
	keySchema = []byte("schema")
)

// StatePath returns the database file in a git directory.
func StatePath(gitDir string) string { return filepath.Join(gitDir, "dorvik", "recovery.db") }

// NewerError reports a file written by a later version of Dorvik.
type NewerError struct{ Schema int }

func (e *NewerError) Error() string {
	return fmt.Sprintf("it was written by a later version of Dorvik (its schema is %d, this one reads %d); use that "+
		"version, or move the file away to start again",
		e.Schema, schema)
}

// begin creates missing buckets and reads everything once, to detect damage.
func (s *Store) begin() error {
	err := safely(func() error {
		return s.db.Update(func(tx *bbolt.Tx) error {
			version, err := schemaOf(tx)
			if err != nil {
				return err
			}
			if version > schema {
				return &NewerError{version}
			}
			for _, b := range bucketsAll {
				if _, err := tx.CreateBucketIfNotExists(b); err != nil {
					return err
				}
			}
			return tx.Bucket(bucketMeta).Put(keySchema, []byte(strconv.Itoa(schema)))
		})
	})
	if err != nil {
		return err
	}
	st, err := s.load()
	if err == nil {
		s.kept, err = keptOf(&st)
	}
	if err != nil {
		return &damaged{err}
	}
	if _, err = s.Waypoint(""); err != nil {
		return &damaged{err}
	}
	return nil
}

// schemaOf returns the version of a file, or 0 for an empty one.
func schemaOf(tx *bbolt.Tx) (int, error) {
	if meta := tx.Bucket(bucketMeta); meta != nil {
		if v := meta.Get(keySchema); v != nil {
			n, err := strconv.Atoi(string(v))
			if err != nil {
				err = &damaged{err}
			}
			return n, err
		}
	}
	return 0, nil
}

// keptOf encodes a state: by its JSON tags, but for the lists.
func keptOf(st *State) (snapshot, error) {
	k := snapshot{lists: State{Decisions: st.Decisions, Mends: st.Mends}}
	rest := *st
	rest.Decisions.List, rest.Mends = nil, nil
	data, err := exact.Marshal(rest)
	if err == nil {
		err = exact.Unmarshal(data, &k.fields)
	}
	return k, err
}

// put writes the fields that changed.
func put(tx *bbolt.Tx, was, is snapshot) error {
	b := tx.Bucket(bucketRecovery)
	for name := range was.fields {
		if _, ok := is.fields[name]; !ok {
			if err := b.Delete([]byte(name)); err != nil {
				return err
			}
		}
	}
	for name, data := range is.fields {
		if bytes.Equal(was.fields[name], data) {
			continue
		}
		if err := b.Put([]byte(name), data); err != nil {
			return err
		}
	}
	if err := putList(tx.Bucket(bucketDecisions), was.lists.Decisions.List, is.lists.Decisions.List); err != nil {
		return err
	}
	return putList(tx.Bucket(bucketMends), was.lists.Mends, is.lists.Mends)
}

// putList writes the entries of a list that changed, usually its end.
func putList[T comparable](b *bbolt.Bucket, was, is []T) error {
	same := 0
	for same < min(len(was), len(is)) && was[same] == is[same] {
		same++
	}
	for i := len(is); i < len(was); i++ {
		if err := b.Delete(number(i)); err != nil {
			return err
		}
	}
	for i := same; i < len(is); i++ {
		data, err := exact.Marshal(is[i])
		if err == nil {
			err = b.Put(number(i), data)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// number returns the key of the i-th entry. Keys sort by their bytes.
func number(i int) []byte { return binary.BigEndian.AppendUint64(nil, uint64(i)) }

// load reads the state.
func (s *Store) load() (st State, err error) {
	err = safely(func() error {
		return s.db.View(func(tx *bbolt.Tx) error {
			version, err := schemaOf(tx)
			switch {
			case err != nil:
				return err
			case version > schema:
				return &NewerError{version}
			}
			return get(tx, &st)
		})
	})
	if err != nil {
		err = fmt.Errorf("reading the kept recovery: %w", err)
	}
	return st, err
}

// get decodes a state. Missing buckets are empty.
func get(tx *bbolt.Tx, st *State) error {
	if b := tx.Bucket(bucketRecovery); b != nil {
		fields := map[string]json.RawMessage{}
		err := b.ForEach(func(name, data []byte) error {
			fields[string(name)] = bytes.Clone(data)
			return nil
		})
		var all []byte
		if err == nil {
			all, err = json.Marshal(fields)
		}
		if err == nil {
			err = exact.Unmarshal(all, st)
		}
		if err != nil {
			return err
		}
	}
	if err := getList(tx.Bucket(bucketDecisions), &st.Decisions.List); err != nil {
		return err
	}
	return getList(tx.Bucket(bucketMends), &st.Mends)
}

func getList[T any](b *bbolt.Bucket, list *[]T) error {
	if b == nil {
		return nil
	}
	return b.ForEach(func(_, data []byte) error {
		var one T
		err := exact.Unmarshal(data, &one)
		*list = append(*list, one)
		return err
	})
}

// save writes the state in one transaction.
func (s *Store) save(st *State) error {
	is, err := keptOf(st)
	if err == nil {
		err = Step("save")
	}
	if err == nil {
		err = s.update(func(tx *bbolt.Tx) error { return put(tx, s.kept, is) })
	}
	if err == nil {
		s.kept = is
		err = Step("saved")
	}
	if err != nil {
		return fmt.Errorf("keeping the recovery: %w", err)
	}
	return nil
}

// damaged reports a file that cannot be read.
type damaged struct{ err error }

func (e *damaged) Error() string { return e.err.Error() }

func (e *damaged) Unwrap() error { return e.err }

// safely runs code that reads the memory-mapped file. A truncated file causes a fault, and a damaged one a panic of
// the library. Both become errors.
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
		db, err = bbolt.Open(path, 0o600, &bbolt.Options{Timeout: 300 * time.Millisecond, ReadOnly: readOnly})
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

// openStore opens the file. It moves a damaged one aside, creates a new one from its readable entries, and describes
// that in notice.
func openStore(gitDir string) (s *Store, notice string, err error) {
	path := StatePath(gitDir)
	err = os.MkdirAll(filepath.Dir(path), 0o700)
	if err == nil {
		err = os.Chmod(filepath.Dir(path), 0o700) // git may have created the folder, for another index
	}
	if err != nil {
		return nil, "", fmt.Errorf("keeping the recovery in the repository: %w", err)
	}
	s = &Store{}
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

// SetAside renames a damaged file and returns its new name.
func SetAside(path string) (string, error) {
	for n := 1; ; n++ {
		aside := fmt.Sprintf("%s.damaged-%d", path, n)
		if _, err := os.Lstat(aside); errors.Is(err, fs.ErrNotExist) {
			return aside, os.Rename(path, aside)
		}
	}
}

// close closes the file. It does not wait for a library that panicked.
func (s *Store) close() {
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

// Peek reads the recovery in a git directory without locking or changing it. It returns nil if there is none.
func Peek(gitDir string) (*State, error) {
	path := StatePath(gitDir)
	if info, err := os.Stat(path); err != nil || info.Size() == 0 {
		return nil, nil
	}
	db, err := openDB(path, true)
	var bad *damaged
	if errors.As(err, &bad) {
		return nil, nil // the next start sets the file aside and says so
	}
	if errors.Is(err, ErrInUse) {
		return nil, err
	}
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", path, err)
	}
	s := &Store{db: db}
	defer s.close()
	st, err := s.load()
	if err != nil || st.Route == "" && st.Accepted == nil {
		return nil, nil
	}
	return &st, nil
}

// update runs a write transaction.
func (s *Store) update(write func(tx *bbolt.Tx) error) error {
	return safely(func() error { return s.db.Update(write) })
}

// NextName returns a new waypoint name. It never returns the same one twice.
func (s *Store) NextName() (name string, err error) {
	err = s.update(func(tx *bbolt.Tx) error {
		n, err := tx.Bucket(bucketWaypoints).NextSequence()
		name = fmt.Sprint(n)
		return err
	})
	if err != nil {
		return "", fmt.Errorf("naming the waypoint: %w", err)
	}
	return name, nil
}

// PutWaypoint stores a waypoint by its name.
func (s *Store) PutWaypoint(w *Waypoint) error {
	if err := Step("put waypoint"); err != nil {
		return fmt.Errorf("keeping the waypoint: %w", err)
	}
	err := s.update(func(tx *bbolt.Tx) error {
		b := tx.Bucket(bucketWaypoints)
		data, err := exact.Marshal(w)
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

// Waypoint returns a waypoint by name. An empty name selects the last one that was not undone. It returns nil if there
// is none.
func (s *Store) Waypoint(name string) (*Waypoint, error) {
	var found *Waypoint
	err := safely(func() error {
		return s.db.View(func(tx *bbolt.Tx) error {
			b := tx.Bucket(bucketWaypoints)
			if name != "" {
				if data := b.Get(waypointKey(name)); data != nil {
					found = &Waypoint{}
					return exact.Unmarshal(data, found)
				}
				return nil
			}
			c := b.Cursor()
			for k, data := c.Last(); k != nil && found == nil; k, data = c.Prev() {
				w := &Waypoint{}
				if err := exact.Unmarshal(data, w); err != nil {
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

// ToUndo returns the waypoint of a name or, with an empty one, the last that was not undone. If there is none, the
// error is a *plan.Blocked.
func (s *Store) ToUndo(name string) (*Waypoint, error) {
	wp, err := s.Waypoint(name)
	switch {
	case err != nil || wp != nil:
		return wp, err
	case name != "":
		return nil, &plan.Blocked{What: "There is no waypoint " + name + " here.", Next: "Nothing was changed."}
	}
	return nil, &plan.Blocked{What: "There is nothing to undo:",
		Next: "Dorvik has joined nothing here that was not undone."}
}

// DropWaypoint removes a waypoint. Its log entries stay.
func (s *Store) DropWaypoint(name string) error {
	return s.update(func(tx *bbolt.Tx) error { return tx.Bucket(bucketWaypoints).Delete(waypointKey(name)) })
}

// Waypoints returns all waypoints, oldest first.
func (s *Store) Waypoints() (all []*Waypoint, err error) {
	err = safely(func() error {
		return s.db.View(func(tx *bbolt.Tx) error { return getList(tx.Bucket(bucketWaypoints), &all) })
	})
	if err != nil {
		err = fmt.Errorf("reading the waypoints: %w", err)
	}
	return all, err
}

// ReadWaypoints reads the waypoints in a git directory without locking it.
func ReadWaypoints(gitDir string) ([]*Waypoint, error) {
	path := StatePath(gitDir)
	if info, err := os.Stat(path); err != nil || info.Size() == 0 {
		return nil, nil
	}
	db, err := openDB(path, true)
	if err != nil {
		return nil, err
	}
	s := &Store{db: db}
	defer s.close()
	return s.Waypoints()
}

// Step is called at each step of a change, and before and after each write. Tests replace it to stop or fail there.
var Step = func(name string) error { return nil }
