// Package reflock keeps locks of files as refs of a remote, for version-control systems whose remotes can have refs of
// any name. docs/locks.md describes the protocol: a lock is a commit without a parent, at a ref that is named by the
// path. Its author holds it, and its message has the path and the reason. A remote creates each ref once, so one of two
// people gets the lock.
package reflock

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/beside"
	"dorvik.dev/dorvik/internal/core/attr"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// Prefix begins the names of the refs at a remote, and here that of their copies.
const (
	Prefix = "refs/locks/"
	here   = "refs/dorvik/locks/"
)

// Locks are the locks of the repository that the branch is pushed to. It implements vcs.Locking.
type Locks struct {
	Repo  vcs.System
	Store *object.Overlay
}

var _ vcs.Locking = (*Locks)(nil)

// noted is what was read last.
type noted struct {
	Locks []vcs.Lock           `json:"locks"`
	At    map[string]object.ID `json:"at"`   // the commits of the locks, by path
	Mine  map[string]object.ID `json:"mine"` // those that were made here, and not given back
}

// RefOf returns the name of a lock's ref: the SHA-256 of the path, in hexadecimal digits.
func RefOf(path string) string {
	sum := sha256.Sum256([]byte(path))
	return Prefix + hex.EncodeToString(sum[:])
}

func (l *Locks) file() string { return filepath.Join(l.Repo.Where().Own, "dorvik", "locks.json") }

func (l *Locks) read() (n noted, err error) {
	data, err := os.ReadFile(l.file())
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	} else if err == nil {
		err = json.Unmarshal(data, &n)
	}
	if err != nil {
		err = fmt.Errorf("reading the locks: %w; remove %s, and they are asked for again", err, l.file())
	}
	if n.Mine == nil {
		n.Mine = map[string]object.ID{}
	}
	return n, err
}

func (l *Locks) write(n noted) error {
	data, err := json.Marshal(n)
	if err == nil {
		err = os.MkdirAll(filepath.Dir(l.file()), 0o700)
	}
	if err == nil {
		err = beside.WriteFile(l.file(), data)
	}
	if err != nil {
		return fmt.Errorf("noting the locks: %w", err)
	}
	return nil
}

// Locks returns the locks as they were when the remote was asked last.
func (l *Locks) Locks(context.Context) ([]vcs.Lock, error) {
	n, err := l.read()
	return n.Locks, err
}

// Used reports whether locks are used here: a file is to be locked before it is changed, or locks are known.
func (l *Locks) Used(ctx context.Context) bool {
	if n, err := l.read(); err == nil && len(n.Locks)+len(n.Mine) > 0 {
		return true
	}
	for _, file := range l.attributes() {
		if data, err := os.ReadFile(file); err == nil && strings.Contains(string(data), lockable) {
			return true
		}
	}
	on, err := l.Repo.Flag(ctx, "dorvik.locks")
	return on && err == nil
}

// lockable is the attribute of files that are to be locked before they are changed.
const lockable = "lockable"

// attributes returns the files with attributes of the whole repository.
func (l *Locks) attributes() []string {
	at := l.Repo.Where()
	return []string{filepath.Join(at.Dir, ".gitattributes"), filepath.Join(at.Own, "info", "attributes")}
}

// Lockable returns those of some paths that have the attribute lockable.
func (l *Locks) Lockable(_ context.Context, paths []string) (out []string, err error) {
	rules := map[string]*attr.Rules{}
	read := func(file string) *attr.Rules {
		if _, known := rules[file]; !known {
			data, err := os.ReadFile(file)
			if err != nil && !errors.Is(err, fs.ErrNotExist) {
				data = nil
			}
			rules[file] = attr.Parse(string(data))
		}
		return rules[file]
	}
	at := l.Repo.Where()
	for _, path := range paths {
		scopes := []attr.Scope{{File: read(filepath.Join(at.Dir, ".gitattributes"))}}
		for i, c := range path {
			if c == '/' {
				dir := path[:i]
				scopes = append(scopes, attr.Scope{Dir: dir, File: read(filepath.Join(at.Dir, filepath.FromSlash(dir),
					".gitattributes"))})
			}
		}
		scopes = append(scopes, attr.Scope{File: read(filepath.Join(at.Own, "info", "attributes"))})
		if attr.Of(scopes, path)[lockable].State == attr.Set {
			out = append(out, path)
		}
	}
	return out, nil
}

// remote returns the remote that has the locks: that of pushes, or the only one.
func (l *Locks) remote(ctx context.Context) (vcs.Remote, error) {
	b, err := l.Repo.Current(ctx)
	if err != nil {
		return "", err
	}
	if to := b.To().Remote; to != "" {
		return to, nil
	}
	remotes, err := l.Repo.Remotes(ctx)
	if err == nil && len(remotes) == 0 {
		err = errors.New("there is no remote that could have locks; nothing was changed")
	}
	if err != nil {
		return "", err
	}
	return remotes[0], nil
}

// Ask asks the remote for the locks, and notes them, if they are used.
func (l *Locks) Ask(ctx context.Context) error {
	if !l.Used(ctx) {
		return nil
	}
	return l.refresh(ctx)
}

func (l *Locks) refresh(ctx context.Context) error {
	remote, err := l.remote(ctx)
	if err != nil {
		return err
	}
	refs, err := l.Repo.RemoteRefs(ctx, remote, Prefix)
	if err != nil {
		return err
	}
	n, err := l.read()
	if err != nil {
		return err
	}
	if err := l.get(ctx, remote, refs); err != nil {
		return err
	}
	n.Locks, n.At = nil, map[string]object.ID{}
	for ref, id := range refs {
		lock, ok := Read(ctx, l.Store, ref, id)
		if !ok {
			continue
		}
		n.At[lock.Path] = id
		lock.Mine = n.Mine[lock.Path] == id
		lock.Broken = !lock.Mine && !n.Mine[lock.Path].IsZero()
		n.Locks = append(n.Locks, lock)
	}
	for path := range n.Mine {
		if n.At[path].IsZero() {
			n.Locks = append(n.Locks, vcs.Lock{Path: path, Broken: true})
		}
	}
	slices.SortFunc(n.Locks, func(a, b vcs.Lock) int { return strings.Compare(a.Path, b.Path) })
	return l.write(n)
}

// get fetches the locks if one is not here yet.
func (l *Locks) get(ctx context.Context, remote vcs.Remote, refs map[string]object.ID) error {
	for _, id := range refs {
		if _, _, err := l.Store.Read(ctx, id); errors.Is(err, object.ErrMissing) {
			return l.Repo.FetchRefs(ctx, remote, "+"+Prefix+"*:"+here+"*")
		}
	}
	return nil
}

// Read reads the lock at a ref. ok is false for something else.
func Read(ctx context.Context, store *object.Overlay, ref string, id object.ID) (lock vcs.Lock, ok bool) {
	c, err := store.Commit(ctx, id)
	if err != nil {
		return lock, false
	}
	path, why, _ := strings.Cut(c.Message, "\n")
	who := c.Author()
	lock = vcs.Lock{Path: path, Owner: who.Name, Since: who.Time(), Why: strings.TrimSpace(why)}
	return lock, RefOf(path) == ref
}

// Lock takes locks.
func (l *Locks) Lock(ctx context.Context, paths []string, why string, take bool) error {
	remote, err := l.remote(ctx)
	if err != nil {
		return err
	}
	who, err := l.Repo.Committer(ctx)
	if err != nil {
		return err
	}
	n, err := l.read()
	if err != nil {
		return err
	}
	var refused error
	for _, path := range paths {
		if strings.ContainsRune(path, '\n') {
			return fmt.Errorf("%q has a line break in its name, and cannot be locked", path)
		}
		if !n.Mine[path].IsZero() && n.Mine[path] == n.At[path] {
			continue
		}
		made := object.NewOverlay(l.Store.Format(), l.Repo)
		lock := &object.Commit{Tree: made.PutTree(nil), AuthorLine: who.String(), Committer: who,
			Message: path + "\n\n" + strings.TrimSpace(why) + "\n"}
		tip := made.PutCommit(lock)
		if err := l.Repo.Keep(ctx, made, tip); err != nil {
			return err
		}
		sending := vcs.Sending{Remote: remote, Ref: RefOf(path), Tip: tip, Bare: true}
		if take {
			sending.Old = n.At[path]
		}
		if _, err := l.Repo.Push(ctx, sending); err != nil {
			refused = errors.Join(refused, l.held(ctx, path, err))
			continue
		}
		n.Mine[path] = tip
		if err := l.write(n); err != nil {
			return err
		}
	}
	return errors.Join(refused, l.refresh(ctx))
}

// held returns the refusal of a lock that somebody has.
func (l *Locks) held(ctx context.Context, path string, err error) error {
	if refusal := (*vcs.Refusal)(nil); !errors.As(err, &refusal) || l.refresh(ctx) != nil {
		return err
	}
	if others := l.others(path); others != nil {
		return others
	}
	return err
}

// others returns a refusal if somebody else holds a lock of a path, as was noted last.
func (l *Locks) others(paths ...string) error {
	n, err := l.read()
	if err != nil {
		return err
	}
	return vcs.LockedBy(n.Locks, paths)
}

// Unlock gives locks back.
func (l *Locks) Unlock(ctx context.Context, paths []string) error {
	remote, err := l.remote(ctx)
	if err != nil {
		return err
	}
	n, err := l.read()
	if err != nil {
		return err
	}
	for _, path := range paths {
		mine := n.Mine[path]
		if mine.IsZero() {
			return fmt.Errorf("you hold no lock on %s here", path)
		}
		if n.At[path] == mine {
			_, err := l.Repo.Push(ctx, vcs.Sending{Remote: remote, Ref: RefOf(path), Old: mine, Bare: true})
			if err != nil {
				return err
			}
		}
		delete(n.Mine, path)
		if err := l.write(n); err != nil {
			return err
		}
	}
	return l.refresh(ctx)
}

// Free asks the remote, and returns a refusal if somebody else holds a lock of a path.
func (l *Locks) Free(ctx context.Context, paths []string) error {
	if !l.Used(ctx) {
		return nil
	}
	if err := l.refresh(ctx); err != nil {
		return err
	}
	return l.others(paths...)
}
