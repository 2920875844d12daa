package memory

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// Clone is a repository with a branch, and files, that one person works in.
type Clone struct {
	plain
	*person
	server  *Server
	who     object.Signature
	own     string // path of a folder for files
	branch  string
	refs    map[string]object.ID
	moves   map[string][]vcs.RefMove
	files   object.ID // tree of the working files
	fetched time.Time
}

var _ vcs.System = (*Clone)(nil)

// store is an overlay over all objects there are.
func (c *Clone) store() *object.Overlay { return object.NewOverlay(object.SHA1, c.server) }

// Write has the working tree hold texts, by their paths.
func (c *Clone) Write(ctx context.Context, texts map[string]string) error {
	made, set := c.store(), map[string]object.Entry{}
	for path, text := range texts {
		set[path] = object.Entry{Mode: object.ModeFile, ID: made.Put(object.KindBlob, []byte(text))}
	}
	tree, err := made.Edit(ctx, c.files, set)
	if err == nil {
		err = c.server.keep(ctx, made, []object.ID{tree})
	}
	c.files = tree
	return err
}

// Text is what the working tree holds at a path; empty where it holds nothing.
func (c *Clone) Text(ctx context.Context, path string) string {
	e, err := c.store().Find(ctx, c.files, path)
	if err != nil || e.Absent() {
		return ""
	}
	data, err := c.store().Blob(ctx, e.ID)
	if err != nil {
		return ""
	}
	return string(data)
}

// Commit commits what the working tree holds.
func (c *Clone) Commit(ctx context.Context, message string) error {
	made := c.store()
	commit := &object.Commit{Tree: c.files, AuthorLine: c.who.String(), Committer: c.who, Message: message + "\n"}
	c.who.When++
	if at := c.tip(); !at.IsZero() {
		commit.Parents = []object.ID{at}
	}
	id := made.PutCommit(commit)
	if err := c.server.keep(ctx, made, []object.ID{id}); err != nil {
		return err
	}
	c.move("refs/heads/"+c.branch, id, "commit: "+message)
	return nil
}

func (c *Clone) tip() object.ID { return c.refs["refs/heads/"+c.branch] }

// move moves a ref, and remembers that.
func (c *Clone) move(ref string, to object.ID, why string) {
	c.refs[ref] = to
	m := vcs.RefMove{To: to, When: time.Unix(c.who.When, 0), Why: why}
	c.moves[ref] = append(c.moves[ref], m)
	if ref == "refs/heads/"+c.branch {
		c.moves["HEAD"] = append(c.moves["HEAD"], m)
	}
}

// Where is the folder of what Dorvik keeps. There are no files outside of memory.
func (c *Clone) Where() vcs.Where {
	return vcs.Where{Dir: filepath.Join(c.own, "tree"), Own: c.own}
}

// Inside is the path of a file that is kept under a name.
func (c *Clone) Inside(ctx context.Context, name string) (string, error) {
	return filepath.Join(c.own, filepath.FromSlash(name)), nil
}

// Read gives an object.
func (c *Clone) Read(ctx context.Context, id object.ID) (object.Kind, []byte, error) {
	return c.server.Read(ctx, id)
}

// Committer is who works in the clone.
func (c *Clone) Committer(context.Context) (object.Signature, error) { return c.who, nil }

// Named is a branch, which follows the one of its name.
func (c *Clone) Named(ctx context.Context, name string) (vcs.Branch, error) {
	return vcs.Branch{Name: name, Tip: c.refs["refs/heads/"+name], Upstream: "origin/" + name,
		Tracking: "refs/remotes/origin/" + name, Remote: "origin", Ref: "refs/heads/" + name}, nil
}

// Current is the branch one is on.
func (c *Clone) Current(ctx context.Context) (vcs.Branch, error) { return c.Named(ctx, c.branch) }

// Names are all refs but Dorvik's own.
func (c *Clone) Names(context.Context) (out []vcs.Named, err error) {
	for full, at := range c.refs {
		if rest, ok := strings.CutPrefix(full, "refs/"); ok && !strings.HasPrefix(rest, "dorvik/") {
			_, name, _ := strings.Cut(rest, "/")
			n := vcs.Named{Name: name, Full: full, Commit: at, Object: at}
			if branch, ok := strings.CutPrefix(full, "refs/remotes/origin/"); ok {
				n.Remote, n.Ref = "origin", "refs/heads/"+branch
			}
			out = append(out, n)
		}
	}
	slices.SortFunc(out, func(a, b vcs.Named) int { return strings.Compare(a.Full, b.Full) })
	return out, nil
}

// Ref is what a full name points at.
func (c *Clone) Ref(ctx context.Context, name string) (object.ID, error) { return c.refs[name], nil }

// Resolve knows HEAD, the names of branches, and ids.
func (c *Clone) Resolve(ctx context.Context, rev string) (object.ID, error) {
	if rev == "HEAD" {
		return c.tip(), nil
	}
	for _, begin := range []string{"", "refs/heads/", "refs/remotes/"} {
		if at := c.refs[begin+rev]; !at.IsZero() {
			return at, nil
		}
	}
	if id, err := object.ParseID(rev); err == nil {
		return id, nil
	}
	return object.ID{}, fmt.Errorf("there is no commit %s", rev)
}

// Commits is the one that a revision means.
func (c *Clone) Commits(ctx context.Context, rev string) ([]object.ID, error) {
	id, err := c.Resolve(ctx, rev)
	return []object.ID{id}, err
}

// Reflog gives the moves of a ref.
func (c *Clone) Reflog(ctx context.Context, ref string) []vcs.RefMove { return c.moves[ref] }

// OnRemote names a copy of a remote branch that holds a commit.
func (c *Clone) OnRemote(ctx context.Context, id object.ID) (string, error) {
	for full, at := range c.refs {
		name, ok := strings.CutPrefix(full, "refs/remotes/")
		if !ok {
			continue
		}
		if held, err := history.IsAncestor(ctx, c.store(), id, at); err != nil || held {
			return name, err
		}
	}
	return "", nil
}

// Unpushed tells which commits no copy of a remote branch holds.
func (c *Clone) Unpushed(ctx context.Context, commits, _ []object.ID) (map[object.ID]bool, error) {
	out := map[object.ID]bool{}
	for _, id := range commits {
		on, err := c.OnRemote(ctx, id)
		if err != nil {
			return nil, err
		}
		out[id] = on == ""
	}
	return out, nil
}

// Keep stores what was made in memory.
func (c *Clone) Keep(ctx context.Context, made *object.Overlay, tips ...object.ID) error {
	return c.server.keep(ctx, made, tips)
}

// HoldAt has a name of Dorvik's own be at a commit.
func (c *Clone) HoldAt(ctx context.Context, name string, at object.ID) error {
	c.refs["refs/dorvik/"+name] = at
	return nil
}

// UpdateRefs moves refs, each only if it is still at its old value.
func (c *Clone) UpdateRefs(ctx context.Context, message string, updates ...vcs.RefUpdate) error {
	for _, u := range updates {
		if c.refs[u.Name] != u.Old {
			return &vcs.RefMovedError{Name: u.Name, Err: fmt.Errorf("it is at %s", c.refs[u.Name])}
		}
	}
	for _, u := range updates {
		if u.New.IsZero() {
			delete(c.refs, u.Name)
			continue
		}
		c.move(u.Name, u.New, message)
	}
	return nil
}

// OpenCheckout writes the files of a commit to a folder of its own.
func (c *Clone) OpenCheckout(ctx context.Context, name string, commit object.ID) (*vcs.Checkout, error) {
	dir := filepath.Join(c.own, "builds", name)
	made := c.store()
	of, err := made.Commit(ctx, commit)
	if err != nil {
		return nil, err
	}
	if err := os.RemoveAll(dir); err != nil {
		return nil, err
	}
	changes, err := made.Changes(ctx, object.ID{}, of.Tree)
	if err != nil {
		return nil, err
	}
	for _, one := range changes {
		data, err := made.Blob(ctx, one.New.ID)
		if err != nil {
			return nil, err
		}
		at := filepath.Join(dir, filepath.FromSlash(one.Path))
		if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
			return nil, err
		}
		if err := os.WriteFile(at, data, 0o644); err != nil {
			return nil, err
		}
	}
	return &vcs.Checkout{Dir: dir}, os.MkdirAll(dir, 0o755)
}

// Remotes are the server.
func (c *Clone) Remotes(context.Context) ([]vcs.Remote, error) { return []vcs.Remote{"origin"}, nil }

// Fetch copies where the server's branches are.
func (c *Clone) Fetch(context.Context, vcs.Remote) error {
	c.server.mu.Lock()
	defer c.server.mu.Unlock()
	for ref, at := range c.server.heads {
		if copied := "refs/remotes/origin/" + strings.TrimPrefix(ref, "refs/heads/"); c.refs[copied] != at {
			c.move(copied, at, "fetch")
		}
	}
	c.fetched = time.Unix(c.who.When, 0)
	return nil
}

// TrackingOf is the copy here of a branch of the server.
func (c *Clone) TrackingOf(_ context.Context, _ vcs.Remote, ref string) string {
	return "refs/remotes/origin/" + strings.TrimPrefix(ref, "refs/heads/")
}

// CheckedOut is the clone's folder for the branch it is on.
func (c *Clone) CheckedOut(_ context.Context, branch string) (string, error) {
	if branch == c.branch {
		return c.own, nil
	}
	return "", nil
}

// RemoteHead is main.
func (c *Clone) RemoteHead(context.Context, vcs.Remote) (string, error) {
	return "refs/heads/main", nil
}

// RemoteTip is where the server has a branch.
func (c *Clone) RemoteTip(ctx context.Context, _ vcs.Remote, ref string) (object.ID, error) {
	c.server.mu.Lock()
	defer c.server.mu.Unlock()
	return c.server.heads[ref], nil
}

// RemoteTags returns none: the server here has branches alone.
func (c *Clone) RemoteTags(context.Context, vcs.Remote) (map[string]object.ID, error) {
	return nil, nil
}

// RemoteRefs returns the branches of the server whose full name begins with one of the prefixes.
func (c *Clone) RemoteRefs(_ context.Context, _ vcs.Remote, prefixes ...string) (map[string]object.ID, error) {
	c.server.mu.Lock()
	defer c.server.mu.Unlock()
	found := map[string]object.ID{}
	for ref, at := range c.server.heads {
		if slices.ContainsFunc(prefixes, func(p string) bool { return strings.HasPrefix(ref, p) }) {
			found[ref] = at
		}
	}
	return found, nil
}

// Push offers a commit to a branch of the server.
func (c *Clone) Push(ctx context.Context, s vcs.Sending) ([]string, error) {
	ref, tip := s.Ref, s.Tip
	if err := c.server.push(ctx, ref, tip, s.Old); err != nil {
		return nil, err
	}
	c.move("refs/remotes/origin/"+strings.TrimPrefix(ref, "refs/heads/"), tip, "update by push")
	return nil, nil
}

// Fetched are the tips that a copy of a branch has had.
func (c *Clone) Fetched(ctx context.Context, tracking string) (ids []object.ID) {
	for _, m := range c.moves[tracking] {
		if m.Why == "fetch" {
			ids = append(ids, m.To)
		}
	}
	return ids
}

// FetchedAt is when the server was last asked.
func (c *Clone) FetchedAt(context.Context, vcs.Remote, string) time.Time { return c.fetched }

// Status tells which files are not as committed.
func (c *Clone) Status(ctx context.Context) (vcs.Branch, []vcs.Dirty, error) {
	b, err := c.Current(ctx)
	if err != nil || b.Tip.IsZero() {
		return b, nil, err
	}
	at, err := c.store().Commit(ctx, b.Tip)
	if err != nil {
		return b, nil, err
	}
	changes, err := c.store().Changes(ctx, at.Tree, c.files)
	var dirty []vcs.Dirty
	for _, one := range changes {
		dirty = append(dirty, vcs.Dirty{Path: one.Path, Unstaged: true, Index: one.Old})
	}
	return b, dirty, err
}

// SetHead goes to another branch.
func (c *Clone) SetHead(ctx context.Context, branch string, _ object.ID, _ string) error {
	c.branch = branch
	return nil
}
