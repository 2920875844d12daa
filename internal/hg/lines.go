package hg

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// A line of Mercurial is a named branch or a bookmark. In the terms of the port, its full name is refs/heads/NAME, and
// what a remote had there is refs/remotes/PATH/NAME. The tip of the current one is the parent of the working folder.
const (
	headsAt   = "refs/heads/"
	remotesAt = "refs/remotes/"
	tagsAt    = "refs/tags/"
)

// usualBranch is the one that changesets belong to that name none.
const usualBranch = "default"

// lines reads branches and bookmarks.
type lines struct{ *settings }

// here is where the working folder is.
type here struct {
	parents  []object.ID
	branch   string
	bookmark string // the active one; empty for none
	paused   bool   // it is active again when the operation ends that is half done
}

// name returns the name of the line that one works on.
func (h here) name() string {
	if h.bookmark != "" {
		return h.bookmark
	}
	return h.branch
}

// tip returns the first parent; zero in a new repository.
func (h here) tip() (id object.ID) {
	if len(h.parents) > 0 {
		id = h.parents[0]
	}
	return id
}

// here asks where the working folder is.
func (r *lines) here(ctx context.Context) (h here, err error) {
	out, err := r.run(ctx, "asking where the working folder is", "log", "-r", "parents()", "-T",
		"{node} {activebookmark}\n")
	if err != nil {
		return h, err
	}
	for line := range strings.Lines(out) {
		hex, bookmark, _ := strings.Cut(strings.TrimSuffix(line, "\n"), " ")
		n, err := parseNode(hex)
		if err != nil {
			return h, err
		}
		h.parents = append(h.parents, n.id())
		h.bookmark = max(h.bookmark, bookmark)
	}
	h.parents = r.inOrder(h.parents)
	if out, err = r.run(ctx, "asking for the branch", "branch"); err != nil {
		return h, err
	}
	h.branch = strings.TrimSpace(out)
	return h, r.paused(&h)
}

// paused adds what a half-done operation puts back when it ends.
func (r *lines) paused(h *here) error {
	was := h.bookmark
	if r.has(rebaseFile) {
		s, err := r.rebase()
		if err != nil {
			return err
		}
		h.bookmark = cmp.Or(was, s.bookmark)
	}
	if r.has(histeditFile) { // the bookmark is not where the working folder is
		h.bookmark = cmp.Or(was, r.activeName())
		return nil
	}
	s, err := r.shelved()
	if err == nil && s != nil {
		h.parents, h.bookmark = []object.ID{s.original}, cmp.Or(was, s.bookmark)
	}
	h.paused = h.bookmark != was
	return err
}

// inOrder puts the parents of the working folder in their order. A list of changesets is in that of their numbers.
func (r *lines) inOrder(ids []object.ID) []object.ID {
	if len(ids) == 2 && nodeOf(ids[0]) != r.dirstate().p1 {
		ids[0], ids[1] = ids[1], ids[0]
	}
	return ids
}

// Current returns the line that one works on.
func (r *lines) Current(ctx context.Context) (vcs.Branch, error) {
	h, err := r.here(ctx)
	if err != nil {
		return vcs.Branch{}, err
	}
	b, err := r.following(ctx, h.name(), h.tip())
	if err == nil && b.Upstream == "" && h.bookmark != "" { // the bookmark is here alone
		b, err = r.following(ctx, h.branch, h.tip())
		b.Name = h.bookmark
	}
	if err != nil || h.tip().IsZero() {
		b.Nowhere = r.mirror.state().Revs >= 0
		return b, err
	}
	return b, r.besides(ctx, &b, h)
}

// besides finds other heads of the branch, and secret changesets of yours.
func (r *lines) besides(ctx context.Context, b *vcs.Branch, h here) error {
	at, err := r.Ref(ctx, b.Tracking)
	if err != nil {
		return err
	}
	has := "ancestors(" + h.tip().String() + ")"
	if !at.IsZero() {
		has += "+ancestors(present(" + at.String() + "))"
	}
	set := "head() and not closed() and branch(" + quoted(h.branch) + ") - (" + has + ")"
	out, err := r.run(ctx, "looking for heads", "log", "-r", set, "-T", "{node} {phase}\n")
	if err != nil {
		return err
	}
	for line := range strings.Lines(out) {
		hex, phase, _ := strings.Cut(strings.TrimSpace(line), " ")
		n, err := parseNode(hex)
		if err != nil {
			return err
		}
		b.Heads = append(b.Heads, vcs.Head{ID: n.id(), Public: phase == "public"})
	}
	out, err = r.run(ctx, "looking for secret changesets", "log", "-r", "secret() and ancestors("+h.tip().String()+")",
		"-T", "{desc|firstline}\n")
	if out != "" {
		b.Secret = strings.Split(strings.TrimSuffix(out, "\n"), "\n")
	}
	return err
}

// Named returns a branch or bookmark by name.
func (r *lines) Named(ctx context.Context, name string) (vcs.Branch, error) {
	tip, err := r.Ref(ctx, headsAt+name)
	if err != nil {
		return vcs.Branch{}, err
	}
	if r.Busy() == vcs.Rebasing { // the working folder is not where the branch is
		h, err := r.here(ctx)
		if err == nil && h.name() == name {
			tip, err = r.branchBefore()
		}
		if err != nil {
			return vcs.Branch{}, err
		}
	}
	return r.following(ctx, name, tip)
}

// branchBefore returns where the branch was before the rebase or histedit that is half done.
func (r *lines) branchBefore() (object.ID, error) {
	if r.begun().command == "rebase" {
		s, err := r.rebase()
		if err != nil {
			return object.ID{}, err
		}
		return s.from, nil
	}
	s, err := r.histedit()
	if err != nil {
		return object.ID{}, err
	}
	return s.topmost, nil
}

// following adds what a line follows: the one of its name at the path “default”, if it was seen there.
func (r *lines) following(ctx context.Context, name string, tip object.ID) (vcs.Branch, error) {
	b := vcs.Branch{Name: name, Tip: tip}
	remotes, err := r.Remotes(ctx)
	if err != nil || !slices.Contains(remotes, usualPath) {
		return b, err
	}
	to := r.lineAt(usualPath, headsAt+name)
	at, err := r.Ref(ctx, to.Tracking)
	if err != nil || at.IsZero() {
		return b, err
	}
	b.Upstream, b.Tracking, b.Remote, b.Ref = to.Name, to.Tracking, to.Remote, to.Ref
	return b, nil
}

// lineAt returns a line of a remote.
func (r *lines) lineAt(remote vcs.Remote, ref string) vcs.Line {
	name := strings.TrimPrefix(ref, headsAt)
	return vcs.Line{Name: remote.String() + "/" + name, Tracking: remotesAt + remote.Key() + "/" + name, Remote: remote,
		Ref: ref}
}

// quoted returns a name as a text in a set of revisions.
func quoted(name string) string {
	return `"literal:` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(name) + `"`
}

// one returns the newest changeset of a set of revisions, or zero.
func (r *lines) one(ctx context.Context, set string) (object.ID, error) {
	out, err := r.run(ctx, "looking for a changeset", "log", "-r", "last("+set+")", "-T", "{node}\n")
	if err != nil {
		return object.ID{}, err
	}
	ids, err := nodes(out)
	if err != nil || len(ids) == 0 {
		return object.ID{}, err
	}
	return ids[0], r.have(ctx, ids[0])
}

// have sees that the mirror has a changeset.
func (r *lines) have(ctx context.Context, id object.ID) error {
	_, _, err := r.Read(ctx, id)
	return err
}

// Ref returns the commit of a full name, or zero.
func (r *lines) Ref(ctx context.Context, name string) (object.ID, error) {
	if short, ok := strings.CutPrefix(name, headsAt); ok {
		h, err := r.here(ctx)
		if err != nil || h.name() == short {
			return h.tip(), err
		}
		return r.tipOf(ctx, short)
	}
	if short, ok := strings.CutPrefix(name, tagsAt); ok {
		return r.one(ctx, "tag("+quoted(short)+")")
	}
	id, err := r.refs.Get(name)
	if err == nil && id.IsZero() && strings.HasPrefix(name, remotesAt) {
		return r.seenAt(ctx, name)
	}
	return id, err
}

// tipOf returns the tip of a line that one does not work on: of a bookmark, or the newest open head of a branch.
func (r *lines) tipOf(ctx context.Context, name string) (object.ID, error) {
	branches, err := r.branches(ctx)
	if err != nil {
		return object.ID{}, err
	}
	if slices.Contains(branches, name) {
		return r.one(ctx, "head() and not closed() and branch("+quoted(name)+")")
	}
	out, err := r.run(ctx, "reading the bookmarks", "bookmarks", "-T", "{bookmark}\n")
	if err != nil || !slices.Contains(linesOf(out), name) {
		return object.ID{}, err
	}
	return r.one(ctx, "bookmark("+quoted(name)+")")
}

// branches returns the names of the open branches.
func (r *lines) branches(ctx context.Context) ([]string, error) {
	out, err := r.run(ctx, "reading the branches", "branches", "-T", "{branch}\n")
	return linesOf(out), err
}

// seenAt guesses where a branch of the usual remote is that Dorvik never asked: what is public came from there.
func (r *lines) seenAt(ctx context.Context, tracking string) (object.ID, error) {
	name, ok := strings.CutPrefix(tracking, remotesAt+string(usualPath)+"/")
	f, err := r.refs.Read()
	if !ok || err != nil || f.Fetched[string(usualPath)] > 0 {
		return object.ID{}, err
	}
	branches, err := r.branches(ctx)
	if err != nil || !slices.Contains(branches, name) {
		return object.ID{}, err
	}
	return r.one(ctx, "heads(public() and branch("+quoted(name)+"))")
}

// listedName is an entry of a list in JSON.
type listedName struct {
	Branch   string `json:"branch"`
	Bookmark string `json:"bookmark"`
	Tag      string `json:"tag"`
	Node     string `json:"node"`
	Closed   bool   `json:"closed"`
}

// Names returns the branches, bookmarks, tags, and what remotes had.
func (r *lines) Names(ctx context.Context) (out []vcs.Named, err error) {
	h, err := r.here(ctx)
	if err != nil {
		return nil, err
	}
	add := func(name, full, node string) error {
		if full == headsAt+h.name() && !h.tip().IsZero() { // one works on one of its heads
			node = h.tip().String()
		}
		n, err := parseNode(node)
		if err == nil {
			out = append(out, vcs.Named{Name: name, Full: full, Commit: n.id(), Object: n.id()})
		}
		return err
	}
	for _, of := range []string{"branches", "bookmarks", "tags"} {
		text, err := r.run(ctx, "reading the "+of, of, "-T", "json")
		if err != nil {
			return nil, err
		}
		var list []listedName
		if err := json.Unmarshal([]byte(text), &list); err != nil {
			return nil, fmt.Errorf("reading the %s: %w", of, err)
		}
		for _, l := range list {
			switch {
			case l.Closed, l.Tag == "tip":
			case l.Tag != "":
				err = add(l.Tag, tagsAt+l.Tag, l.Node)
			default:
				err = add(l.Branch+l.Bookmark, headsAt+l.Branch+l.Bookmark, l.Node)
			}
			if err != nil {
				return nil, err
			}
		}
	}
	kept, err := r.refs.All()
	if err != nil {
		return nil, err
	}
	for full, id := range kept {
		if rest, ok := strings.CutPrefix(full, remotesAt); ok {
			remote, name, _ := strings.Cut(rest, "/")
			out = append(out, vcs.Named{Name: rest, Full: full, Commit: id, Object: id, Remote: vcs.Remote(remote),
				Ref: headsAt + name})
		}
	}
	slices.SortFunc(out, func(a, b vcs.Named) int { return strings.Compare(a.Full, b.Full) })
	return out, nil
}

// Resolve returns the changeset of a revision as hg understands it, or of a full name.
func (r *lines) Resolve(ctx context.Context, rev string) (object.ID, error) {
	if strings.HasPrefix(rev, "refs/") {
		id, err := r.Ref(ctx, rev)
		if err == nil && id.IsZero() {
			err = fmt.Errorf("there is no %s", rev)
		}
		return id, err
	}
	if rev == "HEAD" {
		rev = "."
	}
	if id, err := object.ParseID(rev); err == nil && r.have(ctx, id) == nil {
		return id, nil
	}
	ids, err := r.Commits(ctx, rev)
	switch {
	case err != nil:
		return object.ID{}, err
	case len(ids) == 0:
		return object.ID{}, fmt.Errorf("there is no changeset %s", rev)
	}
	return ids[len(ids)-1], r.have(ctx, ids[len(ids)-1])
}

// Commits returns the changesets of a set of revisions.
func (r *lines) Commits(ctx context.Context, rev string) ([]object.ID, error) {
	if strings.HasPrefix(rev, "-") {
		return nil, fmt.Errorf("there is no changeset %s", rev)
	}
	out, err := r.run(ctx, "looking for "+rev, "log", "-r", rev, "-T", "{node}\n")
	if err != nil {
		return nil, err
	}
	return nodes(out)
}

// Reflog returns the moves of a name of a remote, as far as Dorvik made them.
func (r *lines) Reflog(_ context.Context, ref string) []vcs.RefMove { return r.refs.Moves(ref) }

// OnRemote returns a branch of a remote that has a changeset, as far as it was seen, or an empty text.
func (r *lines) OnRemote(ctx context.Context, id object.ID) (string, error) {
	away, err := r.Unpushed(ctx, []object.ID{id}, nil)
	if err != nil || away[id] {
		return "", err
	}
	kept, err := r.refs.All()
	if err != nil {
		return "", err
	}
	for _, full := range slices.Sorted(maps.Keys(kept)) {
		name, ok := strings.CutPrefix(full, remotesAt)
		if !ok {
			continue
		}
		on, err := r.Commits(ctx, "present("+id.String()+") and ancestors(present("+kept[full].String()+"))")
		if err != nil || len(on) > 0 {
			return name, err
		}
	}
	h, err := r.here(ctx)
	if err != nil {
		return "", err
	}
	to := r.lineAt(usualPath, headsAt+h.branch) // it was never asked, but what is public came from there
	at, err := r.Ref(ctx, to.Tracking)
	if err != nil || at.IsZero() {
		return "", err
	}
	return to.Name, nil
}

// mostInSet is the number of changesets that are asked for at once.
const mostInSet = 400

// Unpushed reports which changesets are not public and were on no remote when it was asked last. One that hg does not
// have was made here.
func (r *lines) Unpushed(ctx context.Context, commits, _ []object.ID) (map[object.ID]bool, error) {
	kept, err := r.refs.All()
	if err != nil {
		return nil, err
	}
	var seen []string
	for full, id := range kept {
		if strings.HasPrefix(full, remotesAt) {
			seen = append(seen, "present("+id.String()+")")
		}
	}
	out := map[object.ID]bool{}
	for _, id := range commits {
		out[id] = true
	}
	for some := range slices.Chunk(commits, mostInSet) {
		var sets []string
		for _, id := range some {
			sets = append(sets, "present("+id.String()+")")
		}
		set := "(" + strings.Join(sets, "+") + ") and (public()"
		if len(seen) > 0 {
			set += " + ancestors(" + strings.Join(seen, "+") + ")"
		}
		text, err := r.run(ctx, "asking what others have", "log", "-r", set+")", "-T", "{node}\n")
		if err != nil {
			return nil, err
		}
		public, err := nodes(text)
		if err != nil {
			return nil, err
		}
		for _, id := range public {
			out[id] = false
		}
	}
	return out, nil
}

// CheckedOut finds no other working folder.
func (r *lines) CheckedOut(context.Context, string) (string, error) { return "", nil }

// UpdateRefs moves names that Dorvik keeps. Branches and bookmarks of Mercurial move with changesets only.
func (r *lines) UpdateRefs(_ context.Context, message string, updates ...vcs.RefUpdate) error {
	for _, u := range updates {
		if !strings.HasPrefix(u.Name, "refs/dorvik/") && !strings.HasPrefix(u.Name, remotesAt) {
			return fmt.Errorf("%s cannot be moved here: %w", strings.TrimPrefix(u.Name, headsAt), errNotHere)
		}
	}
	return r.refs.Update(message, updates)
}

// errNotHere reports something that Dorvik does in git repositories only.
var errNotHere = errors.New("that is done in git repositories only. Nothing was changed")

// usualPath is the path that hg pulls from and pushes to when none is named. pushPath is where it pushes, if set.
const (
	usualPath vcs.Remote = "default"
	pushPath  vcs.Remote = "default-push"
)

// Remotes returns the paths of the repository, the usual one first.
func (r *lines) Remotes(ctx context.Context) ([]vcs.Remote, error) {
	names, err := r.paths(ctx)
	i := slices.Index(names, usualPath)
	if i > 0 {
		names = slices.Insert(slices.Delete(names, i, i+1), 0, usualPath)
	}
	return slices.DeleteFunc(names, func(n vcs.Remote) bool { return n == pushPath }), err
}

// paths returns the names of all paths in the settings, sorted.
func (r *lines) paths(ctx context.Context) (names []vcs.Remote, err error) {
	all, err := r.config.all(ctx)
	for _, s := range all {
		name, ok := strings.CutPrefix(s.Name, "paths.")
		if ok && s.Value != "" && !strings.Contains(name, ":") { // after a colon is an option of the path
			names = append(names, vcs.Remote(name))
		}
	}
	slices.Sort(names)
	return names, err
}
