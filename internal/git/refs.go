package git

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/rx"
	"dorvik.dev/dorvik/internal/vcs"
)

// Refs are read from their files, as gitrepository-layout tells of them. Whatever is not as plain as that (another way
// of keeping refs, names that are worked out, ids cut short) is for git.

// errUnplain says that git has to be asked.
var errUnplain = errors.New("git has to say that")

// plainName is a name that means nothing but itself in a revision.
var plainName = rx.New(`^[A-Za-z0-9_][A-Za-z0-9_./-]*$`)

// filesKeepRefs reports whether refs are kept in files.
func (r *Repo) filesKeepRefs() bool {
	_, err := os.Stat(filepath.Join(r.Common, "reftable"))
	return os.IsNotExist(err)
}

// head gives the branch that HEAD names; ok is false where it names none, or git has to be asked.
func (r *Repo) head() (branch string, ok bool) {
	data, err := os.ReadFile(filepath.Join(r.GitDir, "HEAD"))
	name, on := strings.CutPrefix(strings.TrimSuffix(string(data), "\n"), "ref: refs/heads/")
	return name, err == nil && on && r.filesKeepRefs() && plainName.MatchString(name)
}

// readRef gives what a full name points at; the zero id where it is not there.
func (r *Repo) readRef(name string) (object.ID, error) {
	if !r.filesKeepRefs() {
		return object.ID{}, errUnplain
	}
	for range 5 { // as many names as git follows, one to the other
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
		if err != nil { // not there, or a folder of others
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

// packedRef looks a name up among the packed refs.
func (r *Repo) packedRef(name string) (object.ID, error) {
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

// resolvePlain gives the commit that a plain name means, in the order in which git looks (gitrevisions).
func (r *Repo) resolvePlain(rev string) (object.ID, error) {
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
				return object.ID{}, errUnplain // such as HEAD and MERGE_HEAD
			}
			continue
		}
		id, err := r.readRef(name)
		if err != nil {
			return object.ID{}, err
		}
		if !id.IsZero() {
			if !found.IsZero() {
				return object.ID{}, errUnplain // git says that it is more than one thing
			}
			found = id
		}
	}
	if found.IsZero() {
		return object.ID{}, errUnplain
	}
	return r.peel(found)
}

// peel gives the commit that an object is, or that a tag is of.
func (r *Repo) peel(id object.ID) (object.ID, error) {
	for range 10 {
		if r.store == nil {
			return object.ID{}, errUnplain
		}
		kind, data, err := r.store.Read(id)
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

// followPlain finds what a branch follows from the settings, where all that is set is what git itself sets: one branch
// of one remote, which is pushed to as well.
func (r *Repo) followPlain(list []setting, b *vcs.Branch) bool {
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
		return true // there is nothing that it could follow
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
			return false // the short name is another's, too
		}
	}
	b.Upstream, b.Tracking, b.Remote, b.Ref = short, tracking, vcs.Remote(remote), ref
	return true
}

// trackingOf gives the local copy of a remote's branch, as what is fetched is mapped; ok is false where that is said in
// ways that are not followed here.
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
