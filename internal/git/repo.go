package git

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/odb"
	"dorvik.dev/dorvik/internal/vcs"
)

// Repo is a repository with a working tree.
type Repo struct {
	Dir     string                 // top of the working tree
	GitDir  string                 // of this working tree
	hooks   atomic.Pointer[string] // the folder of those that were agreed to; nil for none
	Common  string                 // the git directory that all working trees of the repository share
	Format  object.Format
	Shallow bool

	// Hold is an open file that every command which changes branch, index or files keeps open,
	// too: whoever holds a lock on it can tell that none of them runs any more.
	Hold *os.File

	settings  settings
	known     atomic.Bool // git has said what it is
	store     *odb.Store  // nil where git reads all objects
	objects   *pool       // of processes of git, for what is not in the store
	checkouts sync.Mutex  // one is made after the other
}

// ErrNotRepo says that a folder is in no repository.
var ErrNotRepo = errors.New("this folder is not in a git repository; go to your clone, or give it with -C")

// ErrBare says that a repository has no working tree.
var ErrBare = errors.New("this is a bare repository: it has no branch to work on; go to a clone of it")

// InsideError says that a folder is inside the git directory of a repository.
type InsideError struct{ Dir string }

func (e *InsideError) Error() string {
	return "this is inside the git directory " + e.Dir + ", where no file of yours is; go to the folder above it"
}

// Open finds the repository that holds a folder.
func Open(ctx context.Context, dir string) (*Repo, error) {
	return OpenEarly(ctx, dir, func(*Early) {})
}

// OpenEarly is Open, and calls early before git is asked what the repository is, where that can be guessed: it may
// begin to read what will be asked for. Where the repository that is opened is another, all of that is to be dropped.
func OpenEarly(ctx context.Context, dir string, early func(*Early)) (*Repo, error) {
	if dir == "" {
		dir = "."
	}
	if st, err := os.Stat(dir); err != nil || !st.IsDir() {
		return nil, fmt.Errorf("no such folder: %s", dir)
	}
	r, ok := discover(ctx, dir, early)
	if !ok {
		r = &Repo{Dir: dir}
		if err := r.ask(ctx); err != nil {
			return nil, err
		}
		r.reading()
	}
	r.known.Store(true)
	return r, nil
}

// errEarly says that git may know of an object, and cannot be asked yet.
var errEarly = errors.New("git has not said yet what the repository is")

// reading makes ready to read objects.
func (r *Repo) reading() {
	r.objects = newPool(r)
	r.store = r.openStore()
}

// ask has git say what repository a folder is in.
func (r *Repo) ask(ctx context.Context) error {
	// One question. In a repository without a working tree the last part of it is an error, and the rest is answered.
	out, err := r.run(ctx, "looking for the repository", "rev-parse", "--is-bare-repository", "--is-inside-work-tree",
		"--is-shallow-repository", "--show-object-format", "--absolute-git-dir", "--path-format=absolute",
		"--git-common-dir", "--show-toplevel")
	f := strings.Split(strings.TrimSuffix(out, "\n"), "\n")
	if len(f) < 5 {
		switch {
		case err == nil:
			err = fmt.Errorf("looking for the repository: git answered %q", out)
		case code(err) == 128 && strings.Contains(err.Error(), "not a git repository"):
			err = ErrNotRepo
		case strings.Contains(err.Error(), "unknown repository extension"):
			err = fmt.Errorf("%w: the git on your PATH is too old for this repository; install a newer one", err)
		}
		return err
	}
	switch {
	case f[1] != "true" && f[0] != "true":
		return &InsideError{f[4]}
	case f[1] != "true":
		return ErrBare
	case err != nil:
		return err
	}
	r.Shallow = f[2] == "true"
	if r.Format, err = object.ParseFormat(f[3]); err != nil {
		return err
	}
	if len(f) == 7 {
		r.GitDir, r.Common, r.Dir = f[4], f[5], f[6]
	} else if err := r.places(ctx); err != nil { // a name has a line end in it
		return err
	}
	return nil
}

// places asks for each of the places by itself.
func (r *Repo) places(ctx context.Context) error {
	var at [3]string
	for i, of := range []string{"--absolute-git-dir", "--git-common-dir", "--show-toplevel"} {
		out, err := r.run(ctx, "looking for the repository", "rev-parse", "--path-format=absolute", of)
		if err != nil {
			return err
		}
		at[i] = strings.TrimSuffix(out, "\n")
	}
	r.GitDir, r.Common, r.Dir = at[0], at[1], at[2]
	return nil
}

// openStore opens the objects to be read without git; nil where git alone can say what an object is: it may stand for
// another (git-replace), or be kept in a way that is not known here.
func (r *Repo) openStore() *odb.Store {
	if os.Getenv("GIT_REPLACE_REF_BASE") != "" {
		return nil
	}
	for _, name := range []string{"refs/replace", "reftable"} {
		if entries, err := os.ReadDir(filepath.Join(r.Common, name)); err == nil && len(entries) > 0 {
			return nil
		}
	}
	if packed, err := os.ReadFile(filepath.Join(r.Common, "packed-refs")); err == nil &&
		bytes.Contains(packed, []byte(" refs/replace/")) {
		return nil
	}
	s, err := odb.Open(filepath.Join(r.Common, "objects"), r.Format)
	if err != nil {
		return nil
	}
	return s
}

// Close ends the processes that read objects.
func (r *Repo) Close() { r.objects.close() }

// Read gives an object; it makes Repo an object.Reader. What is not found here git is asked for: it may have to be
// fetched, in a clone that is partial.
func (r *Repo) Read(id object.ID) (kind object.Kind, data []byte, err error) {
	if r.store != nil {
		if kind, data, err = r.store.Read(id); err == nil {
			return kind, data, nil
		}
	}
	if !r.known.Load() {
		return 0, nil, fmt.Errorf("object %s: %w", id, errEarly)
	}
	r.objects.with(func(b *batch) { kind, data, err = b.read(id) })
	return kind, data, err
}

// ReadMany makes Repo an object.ManyReader.
func (r *Repo) ReadMany(ids []object.ID, each func(id object.ID, kind object.Kind, data []byte)) {
	if r.store != nil {
		if ids = r.store.ReadMany(ids, each); len(ids) == 0 {
			return
		}
	}
	if !r.known.Load() {
		return
	}
	r.objects.with(func(b *batch) { b.readMany(ids, each) })
}

// Resolve gives the commit a revision names.
func (r *Repo) Resolve(ctx context.Context, rev string) (object.ID, error) {
	if id, err := r.resolvePlain(rev); err == nil {
		return id, nil
	}
	out, err := r.run(ctx, "looking up "+rev, "rev-parse", "--verify", "--quiet", "--end-of-options", rev+"^{commit}")
	if err != nil {
		return object.ID{}, fmt.Errorf("there is no commit named %q here", rev)
	}
	return object.ParseID(strings.TrimSpace(out))
}

// Commits gives the commit a revision names, or those of a range such as A..B,
// the oldest first.
func (r *Repo) Commits(ctx context.Context, rev string) ([]object.ID, error) {
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

// Status reads the branch and the uncommitted work. It writes nothing.
func (r *Repo) Status(ctx context.Context) (vcs.Branch, []vcs.Dirty, error) {
	out, err := r.run(ctx, "reading the status", "status", "--porcelain=v2", "--branch", "-z",
		"--untracked-files=normal", "--no-renames", "--ignore-submodules=dirty")
	if err != nil {
		return vcs.Branch{}, nil, err
	}
	b, dirty, err := parseStatus(out)
	if err != nil || b.Name == "" {
		return b, dirty, err
	}
	return b, dirty, r.readUpstream(ctx, &b)
}

// Named is a branch by its name, whether one is on it or not.
func (r *Repo) Named(ctx context.Context, name string) (vcs.Branch, error) {
	b := vcs.Branch{Name: name}
	var err error
	if b.Tip, err = r.Ref(ctx, b.Full()); err != nil {
		return b, err
	}
	return b, r.readUpstream(ctx, &b)
}

// Current reads the branch without its uncommitted work, which in a large working
// tree takes long to find.
func (r *Repo) Current(ctx context.Context) (vcs.Branch, error) {
	var b vcs.Branch
	if name, ok := r.head(); ok {
		if id, err := r.readRef("refs/heads/" + name); err == nil && !id.IsZero() {
			b.Name, b.Tip = name, id
			return b, r.readUpstream(ctx, &b)
		}
	}
	// Unborn, the branch has a name and no commit, and this fails.
	out, err := r.run(ctx, "looking where you are", "rev-parse", "HEAD", "--symbolic-full-name", "HEAD")
	if err != nil {
		b, _, err = r.Status(ctx)
		return b, err
	}
	tip, name, _ := strings.Cut(strings.TrimSuffix(out, "\n"), "\n")
	if b.Tip, err = object.ParseID(tip); err != nil {
		return b, fmt.Errorf("looking where you are: %w", err)
	}
	var on bool
	if b.Name, on = strings.CutPrefix(name, "refs/heads/"); !on {
		b.Name = ""
		return b, nil
	}
	return b, r.readUpstream(ctx, &b)
}

// readUpstream finds what a branch follows.
func (r *Repo) readUpstream(ctx context.Context, b *vcs.Branch) error {
	if list, err := r.allSettings(ctx); err == nil && r.followPlain(list, b) {
		return nil
	}
	return r.followAsked(ctx, b)
}

// followAsked has git say what a branch follows.
func (r *Repo) followAsked(ctx context.Context, b *vcs.Branch) error {
	out, err := r.run(ctx, "reading what "+b.Name+" follows", "for-each-ref",
		"--format=%(upstream:short)%00%(upstream)%00%(upstream:remotename)%00%(upstream:remoteref)%00"+
			"%(push:short)%00%(push)%00%(push:remotename)%00%(push:remoteref)", b.Full())
	if err != nil {
		return err
	}
	if f := strings.Split(strings.TrimSuffix(out, "\n"), "\x00"); len(f) == 8 {
		b.Upstream, b.Tracking, b.Remote, b.Ref = f[0], f[1], vcs.Remote(f[2]), f[3]
		d := vcs.Dest{Name: f[4], Tracking: f[5], Remote: vcs.Remote(f[6]), Ref: f[7]}
		if d.Tracking == "" && d.Remote != "" && d.Remote != b.Remote {
			// For push.default=simple git names none; it pushes to the same name there.
			at := string(d.Remote)
			if strings.Contains(at, "://") { // nothing is copied from there
				at = d.Remote.Key()
			}
			d.Name, d.Tracking, d.Ref = d.Remote.String()+"/"+b.Name, "refs/remotes/"+at+"/"+b.Name, b.Full()
		}
		if d.Tracking != "" && d.Tracking != b.Tracking {
			if d.Ref == "" { // by its name
				d.Ref = b.Full()
			}
			b.Dest = d
		}
	}
	return nil
}

func parseStatus(out string) (b vcs.Branch, dirty []vcs.Dirty, err error) {
	for rec := range strings.SplitSeq(out, "\x00") {
		kind, rest, _ := strings.Cut(rec, " ")
		switch kind {
		case "#":
			key, value, _ := strings.Cut(rest, " ")
			switch key {
			case "branch.oid":
				if value != "(initial)" {
					if b.Tip, err = object.ParseID(value); err != nil {
						return b, nil, fmt.Errorf("reading the status: %w", err)
					}
				}
			case "branch.head":
				if value != "(detached)" {
					b.Name = value
				}
			}
		case "1", "u":
			n := 8
			if kind == "u" {
				n = 10
			}
			f := strings.SplitN(rest, " ", n)
			if len(f) < n || len(f[0]) < 2 {
				return b, nil, fmt.Errorf("reading the status: git answered %q", rec)
			}
			d := vcs.Dirty{Path: f[n-1], Staged: f[0][0] != '.', Unstaged: f[0][1] != '.', Conflict: kind == "u"}
			modes, ids := f[3:4], f[6:7] // the index's
			if d.Conflict {
				modes, ids = f[2:5], f[6:9] // base, HEAD's side, the other
			}
			stages, err := parseStages(modes, ids)
			if err != nil {
				return b, nil, fmt.Errorf("reading the status: %w", err)
			}
			if d.Conflict {
				d.Stages = stages
			} else {
				d.Index = stages[0]
			}
			dirty = append(dirty, d)
		case "?":
			dirty = append(dirty, vcs.Dirty{Path: rest, Untracked: true})
		}
	}
	return b, dirty, nil
}

// parseStages reads the entries of a conflict from their modes and ids. A stage that is not there has mode 0.
func parseStages(modes, ids []string) (out [3]object.Entry, err error) {
	for i := range modes {
		mode, err := strconv.ParseUint(modes[i], 8, 32)
		if err != nil {
			return out, err
		}
		if mode == 0 {
			continue
		}
		if out[i].ID, err = object.ParseID(ids[i]); err != nil {
			return out, err
		}
		out[i].Mode = object.Mode(mode)
	}
	return out, nil
}

// Ref gives what a full ref name points at; the zero id where it does not exist.
func (r *Repo) Ref(ctx context.Context, name string) (object.ID, error) {
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

// Fetched lists the commits that the local copy of a remote branch was at, as its
// reflog has them; those that a push from here put there are left out. Without a
// reflog file there are none.
func (r *Repo) Fetched(ctx context.Context, tracking string) (ids []object.ID) {
	for _, m := range r.Reflog(ctx, tracking) {
		if m.Why != "update by push" && !slices.Contains(ids, m.To) {
			ids = append(ids, m.To)
		}
	}
	return ids
}

// FetchedAt gives when the local copy of a remote's branch was last brought up to date, by git or by
// Dorvik; the zero time where nothing tells.
func (r *Repo) FetchedAt(ctx context.Context, remote vcs.Remote, tracking string) (at time.Time) {
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

// UpdateRefs moves refs all together or not at all, each only if it is still at
// its old value.
func (r *Repo) UpdateRefs(ctx context.Context, message string, updates ...vcs.RefUpdate) error {
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

// Committer is the person git would record as committer now.
func (r *Repo) Committer(ctx context.Context) (object.Signature, error) {
	out, err := r.run(ctx, "asking who you are", "var", "GIT_COMMITTER_IDENT")
	if err != nil {
		if code(err) != 128 { // with which git says that it does not know
			return object.Signature{}, err
		}
		return object.Signature{}, errors.New("git does not know who you are; set user.name and user.email with git " +
			"config, in another terminal, and try again")
	}
	return object.ParseSignature(strings.TrimSpace(out)), nil
}

// Editor is the line for the shell by which git would open an editor: GIT_EDITOR, core.editor, VISUAL, EDITOR.
func (r *Repo) Editor(ctx context.Context) (string, error) {
	out, err := r.run(ctx, "asking which editor is yours", "var", "GIT_EDITOR")
	return strings.TrimSpace(out), err
}

// Inside gives the place of a file of the repository's own directory.
func (r *Repo) Inside(ctx context.Context, name string) (string, error) {
	if r.Common == r.GitDir && name != "hooks" { // which may be set to be elsewhere
		return filepath.Join(r.GitDir, filepath.FromSlash(name)), nil
	}
	out, err := r.run(ctx, "looking for "+name, "rev-parse", "--path-format=absolute", "--git-path", name)
	return strings.TrimSuffix(out, "\n"), err
}

// OnRemote gives a remote branch whose local copy holds a commit, such as "origin/main", or a tag,
// such as "tag v1"; empty where none does. A tag may have been pushed, and nothing here says that
// it was not.
func (r *Repo) OnRemote(ctx context.Context, id object.ID) (string, error) {
	out, err := r.run(ctx, "looking whether "+id.String()+" was pushed",
		"for-each-ref", "--count=20", "--format=%(if)%(symref)%(then)%(else)%(refname)%(end)",
		"--contains", id.String(), "refs/remotes", "refs/tags") // origin/HEAD is no branch
	on, _, _ := strings.Cut(strings.TrimLeft(out, "\n"), "\n")
	if tag, ok := strings.CutPrefix(on, "refs/tags/"); ok {
		return "tag " + tag, err
	}
	return strings.TrimPrefix(on, "refs/remotes/"), err
}

// Unpushed tells which of some commits no local copy of a remote's branch, and no tag, holds. They stand on others,
// below which nothing is looked at.
func (r *Repo) Unpushed(ctx context.Context, commits, below []object.ID) (map[object.ID]bool, error) {
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

// Remotes lists the remotes, the one that is pushed to by itself first.
func (r *Repo) Remotes(ctx context.Context) ([]vcs.Remote, error) {
	set, err := r.Settings(ctx, `^(remote\..*\.url|remote\.pushdefault)$`)
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

// Follow has a branch follow one of a remote.
func (r *Repo) Follow(ctx context.Context, branch string, remote vcs.Remote, ref string) error {
	for _, kv := range [][2]string{{"remote", string(remote)}, {"merge", ref}} {
		if _, err := r.run(ctx, "having "+branch+" follow "+remote.String(), "config", "branch."+branch+"."+kv[0],
			kv[1]); err != nil {
			return err
		}
	}
	return nil
}

// Settings gives all settings whose keys match an expression, by their keys: as
// git prints them, with the first and the last part in small letters and what is between as written.
func (r *Repo) Settings(ctx context.Context, pattern string) (map[string]string, error) {
	re, err := regexp.Compile(pattern)
	if err != nil {
		return nil, fmt.Errorf("reading the settings: %w", err)
	}
	list, err := r.allSettings(ctx)
	if err != nil {
		return nil, err
	}
	all := map[string]string{}
	for _, one := range list {
		if re.MatchString(one.key) {
			all[one.key] = one.value
			if one.bare {
				all[one.key] = "true" // a key alone
			}
		}
	}
	return all, nil
}

// UnsetConfig takes a setting out of the repository's own configuration. One that is not there is no error.
func (r *Repo) UnsetConfig(ctx context.Context, key string) error {
	_, err := r.run(ctx, "clearing "+key, "config", "--unset-all", key)
	if code(err) == 5 { // by which git says that it was not set
		return nil
	}
	return err
}

// SetConfig sets something in the repository's own configuration, in place of all it was set to there.
func (r *Repo) SetConfig(ctx context.Context, key, value string) error {
	_, err := r.run(ctx, "setting "+key, "config", "--replace-all", key, value)
	return err
}
