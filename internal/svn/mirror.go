package svn

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"time"

	"dorvik.dev/dorvik/internal/beside"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/odb"
)

// mirror is Dorvik's copy of what was checked out and of the revisions since, as objects of core. The texts that svn
// has stored for a working copy go when it cleans up, so they are copied.
type mirror struct {
	dir      string // of the mirror
	pristine string // of the texts that svn has stored
	store    *beside.Objects

	mu    sync.Mutex
	texts map[string]object.ID // the contents by their SHA-1 as svn has it; nil if not read
	size  int64                // bytes of the list of them that were read
}

func openMirror(own string) (*mirror, error) {
	dir := filepath.Join(own, "dorvik", "mirror")
	store, err := beside.OpenObjects(filepath.Join(dir, "objects"))
	return &mirror{dir: dir, pristine: filepath.Join(own, "pristine"), store: store}, err
}

func (m *mirror) file(name string) string { return filepath.Join(m.dir, name) }

// lock waits until no other process adds to the mirror.
func (m *mirror) lock() (unlock func(), err error) {
	f, err := os.OpenFile(m.file("lock"), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, fmt.Errorf("reading the history: %w", err)
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX); err != nil {
		f.Close()
		return nil, fmt.Errorf("reading the history: %w", err)
	}
	return func() { f.Close() }, nil
}

// sumSize is the length of a SHA-1. A row of the list of texts has two: that of the content, and the object's id.
const sumSize = 20

// known reads the rows of the list of texts that are new.
func (m *mirror) known() error {
	data, err := os.ReadFile(m.file("texts"))
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	if m.texts == nil || int64(len(data)) < m.size {
		m.texts, m.size = map[string]object.ID{}, 0
	}
	for rows := data[m.size:]; len(rows) >= 2*sumSize; rows = rows[2*sumSize:] {
		m.texts[hex.EncodeToString(rows[:sumSize])] = object.RawID(rows[sumSize : 2*sumSize])
		m.size += 2 * sumSize
	}
	return err
}

// learn copies the texts that svn has stored, given by their SHA-1, and returns their ids. It copies each once.
func (m *mirror) learn(sums map[string]string) (map[string]object.ID, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if err := m.known(); err != nil {
		return nil, fmt.Errorf("reading what is known of the files: %w", err)
	}
	lacking := func() (out []string) {
		for _, sum := range sortedKeys(sums) {
			if _, ok := m.texts[sum]; !ok {
				out = append(out, sum)
			}
		}
		return out
	}
	if len(lacking()) == 0 {
		return m.texts, nil
	}
	unlock, err := m.lock()
	if err != nil {
		return nil, err
	}
	defer unlock()
	if err := m.known(); err != nil { // another process may have been first
		return nil, fmt.Errorf("reading what is known of the files: %w", err)
	}
	var rows bytes.Buffer
	found := map[string]object.ID{}
	err = m.store.Add(func(w *odb.Writer) error {
		for _, sum := range lacking() {
			raw, err := hex.DecodeString(sum)
			if err != nil || len(raw) != sumSize {
				return fmt.Errorf("svn says that %s has the content %q", sums[sum], sum)
			}
			data, err := os.ReadFile(filepath.Join(m.pristine, sum[:2], sum+".svn-base"))
			if err != nil {
				return fmt.Errorf("reading what %s was when it was checked out: %w. “svn update” may bring it again",
					sums[sum], err)
			}
			id := object.SHA1.Sum(object.KindBlob, data)
			if _, _, err := m.store.Read(id); errors.Is(err, object.ErrMissing) {
				err = w.Put(id, object.KindBlob, data)
				if err != nil {
					return err
				}
			}
			found[sum] = id
			rows.Write(raw)
			rows.Write(id.Raw())
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	if err := appendTo(m.file("texts"), m.size, rows.Bytes()); err != nil {
		return nil, fmt.Errorf("storing what is known of the files: %w", err)
	}
	return m.texts, m.known()
}

// appendTo writes at a place of a file, and ends it there. What follows is of a process that was killed.
func appendTo(file string, at int64, data []byte) error {
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE, 0o600)
	if err != nil {
		return err
	}
	if err = f.Truncate(at); err == nil {
		_, err = f.WriteAt(data, at)
	}
	return errors.Join(err, f.Sync(), f.Close())
}

// edit is what a revision did to a path of the tree.
type edit struct {
	Node string      `json:"node"` // the file or folder that it belongs to
	Path string      `json:"path"`
	Mode object.Mode `json:"mode,omitempty"` // zero if the path is gone
	ID   object.ID   `json:"id,omitzero"`
	// Unknown says that the content is not known: the working copy had a newer one when the revision was read.
	Unknown bool `json:"unknown,omitempty"`
}

// record is a revision of a line.
type record struct {
	Rev    int64      `json:"rev"`
	Author string     `json:"author"`
	Date   time.Time  `json:"date"`
	Log    string     `json:"log"`
	Edits  []edit     `json:"edits"`
	Copies []pathCopy `json:"copies,omitempty"`
}

// pathCopy is a path that was made as a copy of another one.
type pathCopy struct{ Path, From string }

// records are what is known of a line's revisions.
type records struct {
	Version int      `json:"version"`
	URL     string   `json:"url"`
	After   int64    `json:"after"` // all revisions after this one are known,
	Upto    int64    `json:"upto"`  // up to this one
	List    []record `json:"list"`
	Old     []record `json:"old"` // older ones, without their edits
	// Partly says that their trees have only what is checked out.
	Partly bool `json:"partly,omitempty"`
}

const recordsVersion = 1

// records reads what is known of a line. Of another line, or of a damaged file, nothing is used.
func (m *mirror) records(url string) records {
	none := records{Version: recordsVersion, URL: url, After: -1, Upto: -1}
	data, err := os.ReadFile(m.file("revisions.json"))
	if err != nil {
		return none
	}
	k := none
	if url == "" || json.Unmarshal(data, &k) != nil || k.Version != recordsVersion || k.URL != url {
		return none
	}
	return k
}

func (m *mirror) putRecords(k records) error {
	data, err := json.Marshal(k)
	if err == nil {
		err = beside.WriteFile(m.file("revisions.json"), data)
	}
	if err != nil {
		return fmt.Errorf("storing the history: %w", err)
	}
	return nil
}
