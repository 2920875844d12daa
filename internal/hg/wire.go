package hg

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"dorvik.dev/dorvik/internal/beside"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/rx"
	"dorvik.dev/dorvik/internal/vcs"
)

// wire talks to remotes.
type wire struct{ *lines }

// pushTo returns the path for a push.
func (r *wire) pushTo(ctx context.Context, remote vcs.Remote) (string, error) {
	if remote != usualPath {
		return string(remote), nil
	}
	names, err := r.paths(ctx)
	if slices.Contains(names, pushPath) {
		remote = pushPath
	}
	return string(remote), err
}

// AskBy sets variables for programs that ask the person for passwords, as ssh does.
func (r *wire) AskBy(env []string) { r.hg.withEnv(env) }

// Fetch pulls: it adds the remote's changesets and leaves the working folder as it is. Then it notes where the branches
// of the remote are.
func (r *wire) Fetch(ctx context.Context, remote vcs.Remote) error {
	if err := r.pull(ctx, remote); err != nil {
		return err
	}
	return r.note(ctx, remote)
}

func (r *wire) pull(ctx context.Context, remote vcs.Remote) error {
	if strings.HasPrefix(string(remote), "-") {
		return fmt.Errorf("there is no remote %s", remote)
	}
	_, said, code, err := r.hg.all(ctx, "pull", string(remote))
	switch {
	case err != nil:
		return err
	case code != 0:
		return r.failed("asking "+remote.String(), said, code)
	}
	return r.mirror.sync(ctx)
}

// failed converts what hg said to a *vcs.Refusal, or to a *vcs.LockedError if another hg works here.
func (r *place) failed(doing string, said []string, code int) error {
	if path, ok := lockedHere(said, r.dir); ok {
		return &vcs.LockedError{Path: path, Err: &Error{doing, said, code}}
	}
	return refusalOf(said)
}

// note finds where a remote's branches are: its changesets are all but those that would go there, and secret ones.
func (r *wire) note(ctx context.Context, remote vcs.Remote) error {
	const doing = "asking what the remote has"
	out, said, code, err := r.hg.all(ctx, "log", "-r", "roots(outgoing("+strconv.Quote(string(remote))+"))", "-T",
		"{node}\n")
	if err != nil {
		return err
	}
	if code != 0 {
		return r.failed(doing, said, code)
	}
	local := "secret()"
	for _, root := range linesOf(out) {
		local += "+descendants(" + root + ")"
	}
	branches, err := r.branches(ctx)
	if err != nil {
		return err
	}
	h, err := r.here(ctx)
	if err != nil {
		return err
	}
	found := map[string]object.ID{}
	for _, branch := range branches {
		at, err := r.headThere(ctx, "branch("+quoted(branch)+") and not ("+local+")", h)
		if err != nil {
			return err
		}
		found[branch] = at
	}
	if h.bookmark != "" {
		if found[h.bookmark], err = r.RemoteTip(ctx, remote, headsAt+h.bookmark); err != nil {
			return err
		}
	}
	return r.refs.Change(func(f *beside.Record) error {
		for name, at := range found {
			f.Put(r.lineAt(remote, headsAt+name).Tracking, at, "fetch")
		}
		f.Fetched[remote.Key()] = time.Now().Unix()
		return nil
	})
}

// headThere returns the newest head of a set that is not in yours, or the newest one if all are.
func (r *wire) headThere(ctx context.Context, set string, h here) (object.ID, error) {
	if tip := h.tip(); !tip.IsZero() {
		at, err := r.one(ctx, "heads("+set+") - ancestors("+tip.String()+")")
		if err != nil || !at.IsZero() {
			return at, err
		}
	}
	return r.one(ctx, "heads("+set+")")
}

// FetchRefs pulls from a remote and notes where one of its branches is. Of other names there are none.
func (r *wire) FetchRefs(ctx context.Context, remote vcs.Remote, refspecs ...string) error {
	for _, spec := range refspecs {
		from, to, _ := strings.Cut(strings.TrimPrefix(spec, "+"), ":")
		if !strings.HasPrefix(from, headsAt) {
			return fmt.Errorf("%s is at no remote of Mercurial: %w", from, errNotHere)
		}
		if err := r.pull(ctx, remote); err != nil {
			return err
		}
		at, err := r.RemoteTip(ctx, remote, from)
		if err != nil {
			return err
		}
		if err := r.refs.Set(to, at, "fetch"); err != nil {
			return err
		}
	}
	return nil
}

// Deepen is not needed: clones have the whole history.
func (r *wire) Deepen(context.Context, vcs.Remote) error { return nil }

// TrackingOf returns the name here for a remote's branch.
func (r *wire) TrackingOf(_ context.Context, remote vcs.Remote, ref string) string {
	return r.lineAt(remote, ref).Tracking
}

// RemoteHead returns the usual branch.
func (r *wire) RemoteHead(context.Context, vcs.Remote) (string, error) {
	return headsAt + usualBranch, nil
}

// RemoteTip asks the remote for the newest changeset of a branch or bookmark.
func (r *wire) RemoteTip(ctx context.Context, remote vcs.Remote, ref string) (object.ID, error) {
	name := strings.TrimPrefix(ref, headsAt)
	to, err := r.pushTo(ctx, remote)
	if err != nil {
		return object.ID{}, err
	}
	out, said, code, err := r.hg.all(ctx, "identify", "--id", "--debug", "-r", name, to)
	switch {
	case err != nil:
		return object.ID{}, err
	case code != 0 && strings.Contains(strings.Join(said, "\n"), "unknown revision"):
		return object.ID{}, nil
	case code != 0:
		return object.ID{}, r.failed("asking "+remote.String(), said, code)
	}
	return object.ParseID(strings.TrimSpace(out))
}

// RemoteTags finds none: tags of Mercurial are part of the history.
func (r *wire) RemoteTags(context.Context, vcs.Remote) (map[string]object.ID, error) { return nil, nil }

// RemoteRefs finds none: remotes of Mercurial have branches and bookmarks only.
func (r *wire) RemoteRefs(context.Context, vcs.Remote, ...string) (map[string]object.ID, error) {
	return nil, nil
}

// Push adds changesets to a branch or bookmark of a remote. A branch that the remote was never seen with is created.
func (r *wire) Push(ctx context.Context, s vcs.Sending) ([]string, error) {
	if !s.Old.IsZero() || s.Tip.IsZero() {
		return nil, errNotHere
	}
	name := strings.TrimPrefix(s.Ref, headsAt)
	args := []string{"push", "-r", s.Tip.String()}
	h, err := r.here(ctx)
	if err != nil {
		return nil, err
	}
	tracking := r.lineAt(s.Remote, s.Ref).Tracking
	switch at, err := r.refs.Get(tracking); {
	case err != nil:
		return nil, err
	case name == h.bookmark:
		args = append(args, "-B", name)
	case at.IsZero():
		args = append(args, "--new-branch")
	}
	goes, err := r.Commits(ctx, "heads(ancestors("+s.Tip.String()+") - secret())")
	if err != nil {
		return nil, err
	}
	if len(goes) > 1 {
		return nil, &vcs.Refusal{Kind: vcs.Other,
			Short: "the merge is secret, as a commit is that it joins, and without " +
				"it two heads would go; “hg phase --draft -r .” lets both go"}
	}
	to, err := r.pushTo(ctx, s.Remote)
	if err != nil {
		return nil, err
	}
	out, said, code, err := r.hg.all(ctx, append(args, to)...)
	if err != nil {
		return nil, err
	}
	for i, line := range said {
		said[i] = component.ReplaceAllString(vcs.WithoutSecrets(line), "$1")
	}
	words := append(serverWords(out), said...)
	const nothingNew = 1
	switch {
	case code == nothingNew && secretOnly.MatchString(out):
		return words, &vcs.Refusal{Kind: vcs.Other,
			Short: "the changesets are secret; “hg phase --draft -r .” lets them go"}
	case code != 0 && code != nothingNew:
		return words, r.failed("pushing", words, code)
	}
	if len(goes) == 0 { // all is secret
		return words, nil
	}
	return words, r.refs.Set(tracking, goes[0], "update by push")
}

// usual is what hg says of every push, and of the changesets that went.
var usual = rx.New(`^(remote: )?(pushing to |searching for changes|all remote heads known|no changes found|addin` +
	`g |added \d|` +
	`\d+ new |\d+ local changes|(updating|exporting) bookmark|new changesets )`)

// secretOnly is what hg says if nothing went because it is secret.
var secretOnly = rx.New(`no changes found \(ignored \d+ secret changesets?\)`)

// serverWords returns what the server and its hooks said. Those of a server in a folder write where hg does.
func serverWords(out string) (words []string) {
	for _, line := range linesOf(out) {
		if !usual.MatchString(line) {
			words = append(words, vcs.WithoutSecrets(line))
		}
	}
	return words
}

// Fetched returns earlier tips of a remote's branch.
func (r *wire) Fetched(_ context.Context, tracking string) (ids []object.ID) {
	for _, m := range r.refs.Moves(tracking) {
		ids = append(ids, m.To)
	}
	return ids
}

// FetchedAt returns when a remote was asked last.
func (r *wire) FetchedAt(_ context.Context, remote vcs.Remote, _ string) time.Time {
	f, err := r.refs.Read()
	if at := f.Fetched[remote.Key()]; err == nil && at > 0 {
		return time.Unix(at, 0)
	}
	return time.Time{}
}

// Follow is not needed: a branch follows the one of its name.
func (r *wire) Follow(context.Context, string, vcs.Remote, string) error { return nil }
