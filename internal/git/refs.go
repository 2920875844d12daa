package git

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/rx"
	"dorvik.dev/dorvik/internal/vcs"
)

// errUnplain reports that git has to be asked.
var errUnplain = errors.New("git has to say that")

// plainName matches a name that can only be a name in a revision.
var plainName = rx.New(`^[A-Za-z0-9_][A-Za-z0-9_./-]*$`)

// filesKeepRefs reports whether refs are stored in files.
func (r *Refs) filesKeepRefs() bool {
	_, err := os.Stat(filepath.Join(r.Common, "reftable"))
	return os.IsNotExist(err)
}

// head returns the branch of HEAD. ok is false if HEAD is detached or git has to be asked.
func (r *Refs) head() (branch string, ok bool) {
	data, err := os.ReadFile(filepath.Join(r.GitDir, "HEAD"))
	name, on := strings.CutPrefix(strings.TrimSuffix(string(data), "\n"), "ref: refs/heads/")
	return name, err == nil && on && r.filesKeepRefs() && plainName.MatchString(name)
}

// detached returns the commit of a detached HEAD.
func (r *Refs) detached() (id object.ID, ok bool) {
	data, err := os.ReadFile(filepath.Join(r.GitDir, "HEAD"))
	if err != nil || !r.filesKeepRefs() {
		return object.ID{}, false
	}
	id, err = object.ParseID(strings.TrimSuffix(string(data), "\n"))
	return id, err == nil && len(id.Raw()) == r.Format.Size()
}

// readRef returns the id of a full ref name, or zero.
func (r *Refs) readRef(name string) (object.ID, error) {
	if !r.filesKeepRefs() {
		return object.ID{}, errUnplain
	}
	for range 5 { // git follows symbolic refs this deep
		if !plainName.MatchString(name) || strings.Contains(name, "..") || !strings.HasPrefix(name, "refs/") {
			return object.ID{}, errUnplain
		}
		dir := r.Common
		for _, own := range []string{"refs/bisect/", "refs/worktree/", "refs/rewritten/"} {
			if strings.HasPrefix(name, own) {
				dir = r.GitDir
			}
		}
		data, err := os.ReadFile(filepath.Join(dir, filepath.FromSlash(name)))
		if err != nil { // no such ref, or a folder of refs
			return r.packedRef(name)
		}
		text := strings.TrimSuffix(string(data), "\n")
		if to, ok := strings.CutPrefix(text, "ref: "); ok {
			name = to
			continue
		}
		if id, err := object.ParseID(text); err == nil {
			return id, nil
		}
		return object.ID{}, errUnplain
	}
	return object.ID{}, errUnplain
}

// packedRef looks up a name in packed-refs.
func (r *Refs) packedRef(name string) (object.ID, error) {
	data, err := os.ReadFile(filepath.Join(r.Common, "packed-refs"))
	if os.IsNotExist(err) {
		return object.ID{}, nil
	}
	if err != nil {
		return object.ID{}, errUnplain
	}
	for rest := data; ; {
		i := bytes.Index(rest, []byte(" "+name+"\n"))
		if i < 0 {
			return object.ID{}, nil
		}
		line := rest[bytes.LastIndexByte(rest[:i], '\n')+1 : i]
		if id, err := object.ParseID(string(line)); err == nil {
			return id, nil
		}
		rest = rest[i+1:]
	}
}

// resolvePlain returns the commit of a plain name, in git's order of search (gitrevisions).
func (r *Refs) resolvePlain(rev string) (object.ID, error) {
	if !plainName.MatchString(rev) || strings.Contains(rev, "..") {
		return object.ID{}, errUnplain
	}
	if rev == "HEAD" {
		name, ok := r.head()
		if !ok {
			return object.ID{}, errUnplain
		}
		id, err := r.readRef("refs/heads/" + name)
		if err != nil || id.IsZero() {
			return object.ID{}, errUnplain
		}
		return r.peel(id)
	}
	if id, err := object.ParseID(rev); err == nil && len(rev) == 2*r.Format.Size() {
		return r.peel(id)
	}
	found := object.ID{}
	for _, form := range []string{"%", "refs/%", "refs/tags/%", "refs/heads/%", "refs/remotes/%",
		"refs/remotes/%/HEAD"} {
		name := strings.Replace(form, "%", rev, 1)
		if !strings.HasPrefix(name, "refs/") {
			if _, err := os.Stat(filepath.Join(r.GitDir, filepath.FromSlash(name))); err == nil {
				return object.ID{}, errUnplain // a pseudo-ref such as MERGE_HEAD
			}
			continue
		}
		id, err := r.readRef(name)
		if err != nil {
			return object.ID{}, err
		}
		if !id.IsZero() {
			if !found.IsZero() {
				return object.ID{}, errUnplain // git calls the name ambiguous
			}
			found = id
		}
	}
	if found.IsZero() {
		return object.ID{}, errUnplain
	}
	return r.peel(found)
}

// peel returns the commit that an object is or that a tag points at.
func (r *Refs) peel(id object.ID) (object.ID, error) {
	for range 10 {
		if r.objects.store == nil {
			return object.ID{}, errUnplain
		}
		kind, data, err := r.objects.store.Read(id)
		switch {
		case err != nil || kind != object.KindCommit && kind != object.KindTag:
			return object.ID{}, errUnplain
		case kind == object.KindCommit:
			return id, nil
		}
		line, _, _ := strings.Cut(string(data), "\n")
		if id, err = object.ParseID(strings.TrimPrefix(line, "object ")); err != nil {
			return object.ID{}, errUnplain
		}
	}
	return object.ID{}, errUnplain
}

// followPlain returns the upstream of a branch if its settings are those that git writes: one branch of one remote
// that is also pushed to.
func (r *Refs) followPlain(list []setting, b *vcs.Branch) bool {
	var remote, ref string
	branch := "branch." + b.Name + "."
	for _, s := range list {
		switch s.key {
		case branch + "remote":
			remote = s.value
		case branch + "merge":
			if ref != "" && ref != s.value {
				return false
			}
			ref = s.value
		case branch + "pushremote", "remote.pushdefault", "push.default":
			return false
		}
	}
	if remote == "" && ref == "" && !slices.ContainsFunc(list, func(s setting) bool {
		return strings.HasPrefix(s.key, "remote.")
	}) {
		return true // a detached HEAD has no upstream
	}
	name, on := strings.CutPrefix(ref, "refs/heads/")
	if remote == "" || remote == "." || !on || !plainName.MatchString(name) {
		return false
	}
	tracking, plain := trackingOf(list, remote, ref)
	short, is := strings.CutPrefix(tracking, "refs/remotes/")
	if !plain || !is {
		return false
	}
	for _, other := range []string{"refs/", "refs/heads/", "refs/tags/"} {
		if id, err := r.readRef(other + short); err != nil || !id.IsZero() {
			return false // the short name is ambiguous
		}
	}
	b.Upstream, b.Tracking, b.Remote, b.Ref = short, tracking, vcs.Remote(remote), ref
	return true
}

// trackingOf returns the remote-tracking branch of a remote's branch, as the fetch refspecs map it. ok is false for
// refspecs that are not supported here.
func trackingOf(list []setting, remote, ref string) (tracking string, ok bool) {
	for _, s := range list {
		switch s.key {
		case "remote." + remote + ".push", "remote." + remote + ".mirror":
			return "", false
		case "remote." + remote + ".fetch":
			from, to, ok := strings.Cut(strings.TrimPrefix(s.value, "+"), ":")
			if !ok || strings.HasPrefix(from, "^") {
				return "", false
			}
			head, many := strings.CutSuffix(from, "*")
			into, also := strings.CutSuffix(to, "*")
			rest, in := strings.CutPrefix(ref, head)
			switch {
			case many != also || strings.Contains(head+into, "*"):
				return "", false
			case tracking != "":
			case many && in:
				tracking = into + rest
			case !many && from == ref:
				tracking = to
			}
		}
	}
	return tracking, true
}

// sourceOf returns the remote, and the ref there, that a remote-tracking branch is fetched from.
func sourceOf(list []setting, tracking string) (remote vcs.Remote, ref string) {
	for _, s := range list {
		name, is := strings.CutSuffix(strings.TrimPrefix(s.key, "remote."), ".fetch")
		from, to, ok := strings.Cut(strings.TrimPrefix(s.value, "+"), ":")
		if !is || !ok || !strings.HasPrefix(s.key, "remote.") {
			continue
		}
		head, many := strings.CutSuffix(from, "*")
		into, also := strings.CutSuffix(to, "*")
		switch rest, in := strings.CutPrefix(tracking, into); {
		case many && also && in:
			return vcs.Remote(name), head + rest
		case !many && to == tracking:
			return vcs.Remote(name), from
		}
	}
	return "", ""
}

// TrackingOf returns the ref here that a fetch of a remote's branch updates, or an empty string.
func (r *Refs) TrackingOf(ctx context.Context, remote vcs.Remote, ref string) string {
	list, err := r.config.allSettings(ctx)
	if err != nil {
		return ""
	}
	tracking, _ := trackingOf(list, string(remote), ref)
	return tracking
}

// Refs reads and moves branches, tags and other refs.
type Refs struct {
	*Place
	config  *Configuration
	objects *Objects
}

// Ref returns the id of a full ref name, or zero.
func (r *Refs) Ref(ctx context.Context, name string) (object.ID, error) {
	if id, err := r.readRef(name); err == nil {
		return id, nil
	}
	out, err := r.run(ctx, "reading "+name, "for-each-ref", "--format=%(refname)%00%(objectname)", name)
	if err != nil {
		return object.ID{}, err
	}
	for line := range strings.SplitSeq(out, "\n") {
		if ref, id, ok := strings.Cut(line, "\x00"); ok && ref == name {
			return object.ParseID(id)
		}
	}
	return object.ID{}, nil
}

// Resolve returns the commit a revision names.
func (r *Refs) Resolve(ctx context.Context, rev string) (object.ID, error) {
	if id, err := r.resolvePlain(rev); err == nil {
		return id, nil
	}
	out, err := r.run(ctx, "looking up "+rev, "rev-parse", "--verify", "--quiet", "--end-of-options", rev+"^{commit}")
	if err != nil {
		return object.ID{}, fmt.Errorf("there is no commit named %q here", rev)
	}
	return object.ParseID(strings.TrimSpace(out))
}

// Commits returns the commit of a revision, or those of a range such as A..B, oldest first.
func (r *Refs) Commits(ctx context.Context, rev string) ([]object.ID, error) {
	if !strings.Contains(rev, "..") {
		id, err := r.Resolve(ctx, rev)
		return []object.ID{id}, err
	}
	out, err := r.run(ctx, "looking up "+rev, "rev-list", "--reverse", "--topo-order", "--end-of-options", rev, "--")
	if err != nil {
		return nil, fmt.Errorf("there are no commits %q here", rev)
	}
	var ids []object.ID
	for line := range strings.Lines(out) {
		id, err := object.ParseID(strings.TrimSpace(line))
		if err != nil {
			return nil, fmt.Errorf("looking up %s: %w", rev, err)
		}
		ids = append(ids, id)
	}
	return ids, nil
}

// UpdateRefs moves refs, all or none. Each must still have its old value.
func (r *Refs) UpdateRefs(ctx context.Context, message string, updates ...vcs.RefUpdate) error {
	zero := strings.Repeat("0", 2*r.Format.Size())
	hex := func(id object.ID) string {
		if id.IsZero() {
			return zero
		}
		return id.String()
	}
	var in strings.Builder
	for _, u := range updates {
		if u.New.IsZero() {
			fmt.Fprintf(&in, "delete %s\x00%s\x00", u.Name, hex(u.Old))
			continue
		}
		fmt.Fprintf(&in, "update %s\x00%s\x00%s\x00", u.Name, hex(u.New), hex(u.Old))
	}
	_, _, err := r.runIn(ctx, call{doing: "moving " + updates[0].Name, stdin: strings.NewReader(in.String()),
		args: []string{"update-ref", "-m", message, "--stdin", "-z"}, hold: r.Hold})
	if err == nil {
		return nil
	}
	for _, u := range updates {
		if at, rerr := r.Ref(ctx, u.Name); rerr == nil && at != u.Old {
			return &vcs.RefMovedError{Name: u.Name, Err: err}
		}
	}
	return lockedBy(err, err.Error())
}

// HoldAt sets refs/dorvik/NAME to a commit, which protects it from git gc.
func (r *Refs) HoldAt(ctx context.Context, name string, at object.ID) error {
	full := "refs/dorvik/" + name
	old, err := r.Ref(ctx, full)
	if err != nil {
		return err
	}
	return r.UpdateRefs(ctx, "dorvik: "+name, vcs.RefUpdate{Name: full, New: at, Old: old})
}

// OnRemote returns a remote-tracking branch that contains a commit, such as "origin/main", or a tag, such as "tag v1",
// or "". A tag counts because it may have been pushed.
func (r *Refs) OnRemote(ctx context.Context, id object.ID) (string, error) {
	out, err := r.run(ctx, "looking whether "+id.String()+" was pushed",
		"for-each-ref", "--count=20", "--format=%(if)%(symref)%(then)%(else)%(refname)%(end)",
		"--contains", id.String(), "refs/remotes", "refs/tags") // origin/HEAD is not a branch
	on, _, _ := strings.Cut(strings.TrimLeft(out, "\n"), "\n")
	if tag, ok := strings.CutPrefix(on, "refs/tags/"); ok {
		return "tag " + tag, err
	}
	return strings.TrimPrefix(on, "refs/remotes/"), err
}

// Unpushed returns those of some commits that no remote-tracking branch and no tag contains. It does not look below
// their parents.
func (r *Refs) Unpushed(ctx context.Context, commits, below []object.ID) (map[object.ID]bool, error) {
	var ask strings.Builder
	for _, id := range commits {
		fmt.Fprintln(&ask, id)
	}
	for _, id := range below {
		fmt.Fprintf(&ask, "^%s\n", id)
	}
	out, _, err := r.runIn(ctx, call{doing: "looking which commits were pushed",
		stdin: strings.NewReader(ask.String()), args: []string{"rev-list", "--ignore-missing", "--not", "--remotes",
			"--tags", "--not", "--stdin"}})
	if err != nil {
		return nil, err
	}
	unpushed := map[object.ID]bool{}
	for line := range strings.Lines(string(out)) {
		id, err := object.ParseID(strings.TrimSpace(line))
		if err != nil {
			return nil, fmt.Errorf("looking which commits were pushed: %w", err)
		}
		unpushed[id] = true
	}
	return unpushed, nil
}

// Fetched lists the commits that a remote-tracking branch was at, according to its reflog, without those that a push
// from here set.
func (r *Refs) Fetched(ctx context.Context, tracking string) (ids []object.ID) {
	for _, m := range r.Reflog(ctx, tracking) {
		if m.Why != "update by push" && !slices.Contains(ids, m.To) {
			ids = append(ids, m.To)
		}
	}
	return ids
}

// Remotes lists the remotes, the default for pushes first.
func (r *Refs) Remotes(ctx context.Context) ([]vcs.Remote, error) {
	set, err := r.config.Settings(ctx, `^(remote\..*\.url|remote\.pushdefault)$`)
	if err != nil {
		return nil, err
	}
	usual := set["remote.pushdefault"]
	if usual == "" {
		usual = "origin"
	}
	var all []vcs.Remote
	for key := range set {
		if name, ok := strings.CutSuffix(strings.TrimPrefix(key, "remote."), ".url"); ok {
			all = append(all, vcs.Remote(name))
		}
	}
	slices.Sort(all)
	if i := slices.Index(all, vcs.Remote(usual)); i > 0 {
		all = slices.Insert(slices.Delete(all, i, i+1), 0, vcs.Remote(usual))
	}
	return all, nil
}

// FetchedAt returns when git or Dorvik last updated the remote-tracking branch, or the zero time.
func (r *Refs) FetchedAt(ctx context.Context, remote vcs.Remote, tracking string) (at time.Time) {
	for _, name := range []string{"FETCH_HEAD", "logs/" + tracking, askedName(remote)} {
		file, err := r.Inside(ctx, name)
		if err != nil {
			continue
		}
		if info, err := os.Stat(file); err == nil && info.ModTime().After(at) {
			at = info.ModTime()
		}
	}
	return at
}

// askedName is the file whose age tells when a remote was last asked.
func askedName(remote vcs.Remote) string { return "dorvik/asked-" + remote.Key() }
