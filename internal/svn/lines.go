package svn

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// A line is a folder of the repository that is checked out. In the terms of the port the repository is the remote.
const (
	headsAt   = "refs/heads/"
	remotesAt = "refs/remotes/"

	repository vcs.Remote = "repository"
)

// lines reads the line that is checked out, and what is known of it at the repository.
type lines struct{ *looks }

// lineName is how sentences name a folder of the repository.
func lineName(b *base) string {
	if b.line == "" {
		return path.Base(b.root)
	}
	return b.line
}

// lineOf returns the line at the repository.
func lineOf(name string) vcs.Line {
	return vcs.Line{Name: repository.String() + "/" + name, Tracking: remotesAt + repository.Key() + "/" + name,
		Remote: repository, Ref: headsAt + name}
}

func branchOf(s *seen) vcs.Branch {
	name := lineName(s.course.base)
	to := lineOf(name)
	return vcs.Branch{Name: name, Tip: s.tip(), Upstream: to.Name, Tracking: to.Tracking, Remote: to.Remote,
		Ref:    to.Ref,
		Linear: true, Left: s.left.paths, Ungroup: len(s.groups) == 1 && s.groups[0].list == ""}
}

// Current returns the line that is checked out.
func (r *lines) Current(ctx context.Context) (vcs.Branch, error) {
	s, err := r.look(ctx)
	if err != nil {
		return vcs.Branch{}, err
	}
	return branchOf(s), nil
}

// Named returns the line that is checked out, if that is its name.
func (r *lines) Named(ctx context.Context, name string) (vcs.Branch, error) {
	b, err := r.Current(ctx)
	if err != nil || b.Name == name {
		return b, err
	}
	return vcs.Branch{Name: name}, nil
}

// Names returns the line, what is known of it at the repository, and the other lines that are known.
func (r *lines) Names(ctx context.Context) ([]vcs.Named, error) {
	s, err := r.look(ctx)
	if err != nil {
		return nil, err
	}
	b, theirs := branchOf(s), s.course.tip()
	out := []vcs.Named{
		{Name: b.Name, Full: b.Full(), Commit: b.Tip, Object: b.Tip},
		{Name: b.Upstream, Full: b.Tracking, Commit: theirs, Object: theirs, Remote: b.Remote, Ref: b.Ref},
	}
	for _, k := range r.mirror.otherLines() {
		if k.Line == s.course.base.line {
			continue
		}
		ids, _ := k.commits(s.course.base.uuid)
		tip, line := ids[len(ids)-1], lineOf(k.Line)
		out = append(out, vcs.Named{Name: k.Line, Full: line.Tracking, Commit: tip, Object: tip,
			Remote: line.Remote, Ref: line.Ref})
	}
	return out, nil
}

// Discover reads the lines at the usual places of the repository, trunk and the folders in branches, and returns the
// number of older ones that it left out. A line that cannot be read does not keep the others away: err is of the first.
func (r *lines) Discover(ctx context.Context) (more int, err error) {
	s, err := r.look(ctx)
	if err != nil {
		return 0, err
	}
	b := s.course.base
	found, err := r.folders(ctx, b)
	if err != nil {
		return 0, err
	}
	for i, one := range found {
		if i == mostCompared {
			return len(found) - i, err
		}
		err = cmp.Or(err, r.readToParting(ctx, b, one.line))
	}
	return 0, err
}

// Ref returns the commit of a full name, or zero.
func (r *lines) Ref(ctx context.Context, name string) (object.ID, error) {
	if strings.HasPrefix(name, headsAt) || strings.HasPrefix(name, remotesAt) {
		names, err := r.Names(ctx)
		for _, n := range names {
			if n.Full == name {
				return n.Commit, nil
			}
		}
		return object.ID{}, err
	}
	return r.names.Get(name)
}

// Resolve returns the commit of HEAD, a name, a number with or without an r, or an id.
func (r *lines) Resolve(ctx context.Context, rev string) (object.ID, error) {
	s, err := r.look(ctx)
	if err != nil {
		return object.ID{}, err
	}
	b := branchOf(s)
	switch rev {
	case "HEAD", "@", b.Name, b.Full():
		return b.Tip, nil
	case "BASE":
		return s.course.from, nil
	case b.Upstream, b.Tracking:
		return s.course.tip(), nil
	}
	if names, err := r.Names(ctx); err == nil {
		for _, n := range names {
			if n.Full == rev || n.Name == rev || strings.TrimPrefix(n.Ref, headsAt) == rev {
				return n.Commit, nil
			}
		}
	}
	if strings.HasPrefix(rev, "refs/") {
		id, err := r.names.Get(rev)
		if err == nil && id.IsZero() {
			err = fmt.Errorf("there is no %s", rev)
		}
		return id, err
	}
	if n, err := strconv.ParseInt(strings.TrimPrefix(rev, "r"), 10, 64); err == nil {
		return r.numbered(ctx, s, n)
	}
	if id, err := object.ParseID(rev); err == nil && r.knows(ctx, id) {
		return id, nil
	}
	return object.ID{}, fmt.Errorf("there is no revision %s", rev)
}

// numbered returns the commit of a revision.
func (r *lines) numbered(ctx context.Context, s *seen, n int64) (object.ID, error) {
	all := append([]object.ID{s.course.from}, s.course.steps...)
	for _, id := range slices.Backward(all) {
		if is, err := r.Number(ctx, id); err == nil && is == n {
			return id, nil
		}
	}
	b := s.course.base
	if id := revisionID(b.uuid, b.line, object.ID{}, n); r.knows(ctx, id) {
		return id, nil
	}
	for _, k := range r.mirror.otherLines() {
		if id := revisionID(b.uuid, k.Line, object.ID{}, n); r.knows(ctx, id) {
			return id, nil
		}
	}
	return object.ID{}, fmt.Errorf("the revision %d changed nothing in %s, or is not here", n, lineName(b))
}

// Number returns the revision of a commit; zero for one that is not checked in.
func (r *lines) Number(ctx context.Context, id object.ID) (int64, error) {
	c, err := r.store().Commit(ctx, id)
	if err != nil {
		return 0, err
	}
	return NumberOf(c), nil
}

// Shown returns the number of a commit's revision, or of the first and the last of several, as svn users write them.
func (r *lines) Shown(ctx context.Context, id object.ID) string {
	c, err := r.store().Commit(ctx, id)
	if err != nil {
		return ""
	}
	for _, h := range c.Extra {
		if h.Key == mixedHeader {
			return "r" + h.Value
		}
	}
	n := NumberOf(c)
	if n == 0 {
		return vcs.Unnumbered
	}
	return "r" + strconv.FormatInt(n, 10)
}

// Commits returns the commit of a revision.
func (r *lines) Commits(ctx context.Context, rev string) ([]object.ID, error) {
	id, err := r.Resolve(ctx, rev)
	return []object.ID{id}, err
}

// Reflog returns the moves of what is known of the repository.
func (r *lines) Reflog(_ context.Context, ref string) []vcs.RefMove { return r.names.Moves(ref) }

// OnRemote names the line at the repository if that has a commit.
func (r *lines) OnRemote(ctx context.Context, id object.ID) (string, error) {
	away, err := r.Unpushed(ctx, []object.ID{id}, nil)
	if err != nil || away[id] {
		return "", err
	}
	b, err := r.Current(ctx)
	return b.Upstream, err
}

// Unpushed reports which commits are not checked in.
func (r *lines) Unpushed(ctx context.Context, commits, _ []object.ID) (map[object.ID]bool, error) {
	out := map[object.ID]bool{}
	for _, id := range commits {
		n, err := r.Number(ctx, id)
		if err != nil && !errors.Is(err, object.ErrMissing) {
			return nil, err
		}
		out[id] = n == 0
	}
	return out, nil
}

// CheckedOut finds no other working copy.
func (r *lines) CheckedOut(context.Context, string) (string, error) { return "", nil }

// UpdateRefs moves names that Dorvik keeps. The line moves with check-ins only.
func (r *lines) UpdateRefs(_ context.Context, message string, updates ...vcs.RefUpdate) error {
	for _, u := range updates {
		if !strings.HasPrefix(u.Name, "refs/dorvik/") {
			return fmt.Errorf("%s cannot be moved here: %w", strings.TrimPrefix(u.Name, headsAt), errNotHere)
		}
	}
	return r.names.Update(message, updates)
}

// errNotHere reports something that Dorvik does in git repositories only.
var errNotHere = errors.New("that is done in git repositories only. Nothing was changed")
