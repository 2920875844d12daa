package svn

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"dorvik.dev/dorvik/internal/beside"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// wire talks to the repository.
type wire struct {
	*work
	sent   sync.Mutex
	became map[object.ID]object.ID // revisions of commits that were checked in
}

// Remotes returns the repository.
func (r *wire) Remotes(context.Context) ([]vcs.Remote, error) { return []vcs.Remote{repository}, nil }

// AskBy sets variables for programs that ask the person for names and passwords.
func (r *wire) AskBy(env []string) {
	r.svn.mu.Lock()
	defer r.svn.mu.Unlock()
	r.svn.env = env
}

// Fetch reads the revisions that are new.
func (r *wire) Fetch(ctx context.Context, _ vcs.Remote) error {
	s, err := r.look(ctx)
	if err != nil {
		return err
	}
	if err := r.pull(ctx, s.course.base); err != nil {
		return err
	}
	r.bare.clear()
	if s, err = r.look(ctx); err != nil {
		return err
	}
	if err := r.refresh(ctx, s.course.base); err != nil {
		return err
	}
	return r.names.Change(func(f *beside.Record) error {
		f.Put(branchOf(s).Tracking, s.course.tip(), "fetch")
		f.Fetched[repository.Key()] = time.Now().Unix()
		return nil
	})
}

// FetchRefs reads other lines.
func (r *wire) FetchRefs(ctx context.Context, _ vcs.Remote, refspecs ...string) error {
	s, err := r.look(ctx)
	if err != nil {
		return err
	}
	for _, spec := range refspecs {
		from, _, _ := strings.Cut(strings.TrimPrefix(spec, "+"), ":")
		line, ok := strings.CutPrefix(from, headsAt)
		if !ok {
			return fmt.Errorf("%s is not at a repository of Subversion: %w", from, errNotHere)
		}
		if err := r.readToParting(ctx, s.course.base, line); err != nil {
			return err
		}
	}
	return nil
}

// Deepen is not needed: nothing is cut off that a join needs.
func (r *wire) Deepen(context.Context, vcs.Remote) error { return nil }

// TrackingOf returns the name here for the line at the repository.
func (r *wire) TrackingOf(_ context.Context, _ vcs.Remote, ref string) string {
	return lineOf(strings.TrimPrefix(ref, headsAt)).Tracking
}

// RemoteHead returns the line that is checked out.
func (r *wire) RemoteHead(ctx context.Context, _ vcs.Remote) (string, error) {
	b, err := r.Current(ctx)
	return b.Ref, err
}

// RemoteTip asks the repository for the last revision of the line.
func (r *wire) RemoteTip(ctx context.Context, _ vcs.Remote, ref string) (object.ID, error) {
	s, err := r.look(ctx)
	if err != nil {
		return object.ID{}, err
	}
	if b := branchOf(s); b.Ref != ref {
		return object.ID{}, nil
	}
	last, _, err := r.there(ctx, s.course.base)
	if gone := (*vcs.Refusal)(nil); errors.As(err, &gone) && gone.Kind == vcs.Missing {
		return object.ID{}, nil
	}
	if err != nil {
		return object.ID{}, err
	}
	if r.has(s, last) {
		return s.course.tip(), nil
	}
	return revisionID(s.course.base.uuid, s.course.base.line, object.ID{}, last), nil
}

// has reports whether a revision of the line is among those that are known.
func (r *wire) has(s *seen, rev int64) bool {
	k := r.mirror.records(s.course.base.url)
	return rev <= max(k.Upto, s.course.last)
}

// RemoteTags finds none: tags of Subversion are folders of the repository.
func (r *wire) RemoteTags(context.Context, vcs.Remote) (map[string]object.ID, error) { return nil, nil }

// RemoteRefs finds none: there is the line.
func (r *wire) RemoteRefs(context.Context, vcs.Remote, ...string) (map[string]object.ID, error) {
	return nil, nil
}

// Push checks in the commits on top of the line, one revision for each. If the repository has something new, nothing is
// checked in.
func (r *wire) Push(ctx context.Context, w vcs.Sending) ([]string, error) {
	s, err := r.look(ctx)
	if err != nil {
		return nil, err
	}
	if w.Tip != s.tip() || !w.Old.IsZero() {
		return nil, errNotHere
	}
	last, _, err := r.there(ctx, s.course.base)
	if err != nil {
		return nil, err
	}
	if !r.has(s, last) || len(s.course.steps) > 0 {
		return nil, &vcs.Refusal{Kind: vcs.Behind, Short: fmt.Sprintf("the repository is at revision %d by now", last)}
	}
	groups := s.groups
	var said []string
	for i, g := range groups {
		if err := r.checkIn(ctx, s, g); err != nil {
			refused := (*vcs.Refusal)(nil)
			if i > 0 && errors.As(err, &refused) {
				refused.Went, refused.Of = i, len(groups)
			}
			return said, err
		}
	}
	if err := r.Fetch(ctx, repository); err != nil {
		return said, err
	}
	if s, err = r.look(ctx); err != nil {
		return said, err
	}
	r.note(groups, s.course)
	return said, nil
}

// note notes which revisions the commits of groups became: the last ones of the line.
func (r *wire) note(groups []group, c *course) {
	all := append([]object.ID{c.from}, c.steps...)
	for id := c.from; len(all) < len(groups); { // what is checked out now has them
		at, err := r.store().Commit(context.Background(), id)
		if err != nil || len(at.Parents) != 1 {
			break
		}
		id = at.Parents[0]
		all = append([]object.ID{id}, all...)
	}
	r.sent.Lock()
	defer r.sent.Unlock()
	if r.became == nil {
		r.became = map[object.ID]object.ID{}
	}
	for i := range min(len(groups), len(all)) {
		r.became[groups[len(groups)-1-i].commit] = all[len(all)-1-i]
	}
}

// Became returns what a commit became when it was checked in, or the commit.
func (r *wire) Became(id object.ID) object.ID {
	r.sent.Lock()
	defer r.sent.Unlock()
	if is, ok := r.became[id]; ok {
		return is
	}
	return id
}

// checkIn checks in the changes of a group.
func (r *wire) checkIn(ctx context.Context, s *seen, g group) error {
	message, err := r.message(g.list)
	if err != nil {
		return err
	}
	f, err := os.CreateTemp("", "dorvik-message-")
	if err != nil {
		return fmt.Errorf("checking in: %w", err)
	}
	defer os.Remove(f.Name())
	_, err = f.WriteString(message)
	if err := errors.Join(err, f.Close()); err != nil {
		return fmt.Errorf("checking in: %w", err)
	}
	paths := map[string]bool{}
	for _, path := range g.paths {
		paths[nodeOf(path)] = true
	}
	for _, e := range s.entries { // folders that are new, or that go, go along
		for path := range paths {
			within := e.Path == path || strings.HasPrefix(path, e.Path+"/")
			if within && slices.Contains([]string{"added", "deleted", "replaced"}, e.Is.Item) {
				paths[e.Path] = true
			}
		}
	}
	if err := r.bringFolders(ctx, s, paths); err != nil {
		return err
	}
	commit := func(dir string) error {
		c := in(dir, "checking in", "commit", "--quiet", "--depth", "empty", "--encoding", "UTF-8", "--file", f.Name())
		return r.svn.asked(ctx, func() error { return r.svn.at(ctx, c, sortedKeys(paths)) })
	}
	part := slices.ContainsFunc(g.paths, func(path string) bool {
		return slices.ContainsFunc(s.parts[path], func(p Part) bool { return p.List == g.list })
	})
	if !part {
		return commit(r.dir)
	}
	return r.checkInPart(ctx, s, g, commit)
}

// bringFolders has svn note that changed and removed folders are of the last revision. For svn a folder is out of date
// as soon as something in it was checked in, also from here. The repository has nothing new, so nothing is joined.
func (r *wire) bringFolders(ctx context.Context, s *seen, paths map[string]bool) error {
	var dirs []string
	for _, e := range s.entries {
		n, was := s.course.base.nodes[e.Path]
		if paths[e.Path] && was && n.dir && (e.Is.Props == "modified" || e.Is.Item == "deleted") {
			dirs = append(dirs, e.Path)
		}
	}
	if len(dirs) == 0 {
		return nil
	}
	upto := strconv.FormatInt(r.mirror.records(s.course.base.url).Upto, 10)
	c := in(r.dir, "bringing folders up to date", append([]string{"update", "--quiet", "--depth", "empty", "--accept",
		"postpone", "-r", upto}, targets(dirs)...)...)
	return r.svn.asked(ctx, func() error {
		_, err := r.svn.run(ctx, c)
		return err
	})
}

// Fetched returns earlier tips of the line at the repository.
func (r *wire) Fetched(_ context.Context, tracking string) (ids []object.ID) {
	for _, m := range r.names.Moves(tracking) {
		ids = append(ids, m.To)
	}
	return ids
}

// FetchedAt returns when the repository was asked last.
func (r *wire) FetchedAt(context.Context, vcs.Remote, string) time.Time {
	f, err := r.names.Read()
	if at := f.Fetched[repository.Key()]; err == nil && at > 0 {
		return time.Unix(at, 0)
	}
	return time.Time{}
}

// Follow is not needed: the line follows itself.
func (r *wire) Follow(context.Context, string, vcs.Remote, string) error { return nil }
