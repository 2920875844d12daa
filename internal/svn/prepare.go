package svn

import (
	"context"
	"crypto/sha1"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"dorvik.dev/dorvik/internal/beneath"
	"dorvik.dev/dorvik/internal/beside"
	"dorvik.dev/dorvik/internal/core/object"
)

// Likeness is a copy of a working copy beside it, as that is to be: with what svn knows of it, and with its files. svn
// makes it; the files and the database are moved from there in one go.
type Likeness struct {
	Dir   string    // its top
	Tip   object.ID // of the line, once the working copy is as this
	Base  object.ID // commit of what is checked out then
	Dirs  []string  // the folders that svn has, parents first
	looks *looks
	was   *seen // the working copy as it is
	told  []string
	lost  map[string]object.Entry // paths of properties without the file or folder that they are of
}

// Goal is what a working copy is to become.
type Goal struct {
	Theirs object.ID         // the commit to be checked out: of the line at the repository, or the one that is
	Was    object.ID         // tree of the files, with all that is not checked in
	Is     object.ID         // the same, as it is to be
	Lists  map[string]string // the change lists of files that are not as checked out
	Notes  Notes
	Copies map[string]string // of new files: the address and revision that each is a copy of
}

// Told returns what svn does not record any longer of the files, as sentences.
func (l *Likeness) Told() []string { return l.told }

// Held returns a tree without the properties that cannot be kept, since what they are of was removed.
func (l *Likeness) Held(ctx context.Context, store *object.Overlay, tree object.ID) (object.ID, error) {
	if len(l.lost) == 0 {
		return tree, nil
	}
	return edited(ctx, store, tree, l.lost)
}

// Database returns the file that says what svn knows.
func (l *Likeness) Database() string { return filepath.Join(l.Dir, ".svn", "wc.db") }

// Prepare makes a likeness in a folder that is made. It asks the repository for what is not here. Nothing else changes.
func (r *Repo) Prepare(ctx context.Context, dir string, g Goal) (*Likeness, error) {
	s, err := r.look(ctx)
	if err != nil {
		return nil, err
	}
	l, err := r.likenessOf(dir, s)
	if err != nil {
		return nil, err
	}
	theirs, err := r.store().Commit(ctx, g.Theirs)
	if err != nil {
		return nil, err
	}
	if err := l.share(ctx, r.made, s.course.base.tree, theirs.Tree); err != nil {
		return nil, err
	}
	if err := l.bring(ctx, g, s.course, theirs.Tree); err != nil {
		return nil, err
	}
	e := &editing{Likeness: l, goal: g, from: theirs.Tree, store: r.store(), at: beneath.Folder(dir)}
	if err := e.all(ctx); err != nil {
		return nil, err
	}
	return l, l.check(ctx, g)
}

// likenessOf begins a likeness.
func (r *Repo) likenessOf(dir string, s *seen) (*Likeness, error) {
	if err := os.RemoveAll(dir); err != nil {
		return nil, err
	}
	if err := r.likeness(dir); err != nil {
		return nil, err
	}
	at := &place{dir: dir, own: filepath.Join(dir, ".svn"), svn: r.svn, mirror: r.mirror, names: r.names, made: r.made,
		bare: r.bare, settingsAt: r.own}
	return &Likeness{Dir: dir, was: s, lost: map[string]object.Entry{},
		looks: &looks{courses: &courses{&copies{newSettings(&objects{at})}}}}, nil
}

// share puts the files into a likeness that stay as they are. They are the same files, by other names, as svn replaces
// files and never writes into them.
func (l *Likeness) share(ctx context.Context, store *object.Overlay, was, is object.ID) error {
	other := map[string]bool{}
	if err := store.EachChange(ctx, was, is, func(c object.Change) { other[nodeOf(c.Path)] = true }); err != nil {
		return err
	}
	for _, e := range l.was.entries {
		if e.Is.Item != "normal" { // else it is only in a change list
			other[filepath.ToSlash(e.Path)] = true
		}
	}
	nodes := l.was.course.base.nodes
	for _, path := range sortedKeys(nodes) {
		full := filepath.Join(l.Dir, filepath.FromSlash(path))
		var err error
		switch {
		case nodes[path].dir:
			err = os.MkdirAll(full, 0o755)
		case !other[path]:
			real := filepath.Join(filepath.Dir(l.was.own), filepath.FromSlash(path))
			if err = os.Link(real, full); err != nil && !errors.Is(err, fs.ErrNotExist) {
				err = copyAs(real, full)
			}
			if errors.Is(err, fs.ErrNotExist) { // in a folder that is gone
				err = nil
			}
		}
		if err != nil {
			return fmt.Errorf("preparing the joined files: %w; nothing was changed", err)
		}
	}
	return nil
}

// bring has svn take back what was changed, and go to the revision. Nothing is changed there then, so svn joins
// nothing.
func (l *Likeness) bring(ctx context.Context, g Goal, c *course, tree object.ID) error {
	var paths []string
	for _, e := range l.was.entries {
		if e.Is.Item != "unversioned" && e.Is.Item != "external" {
			paths = append(paths, e.Path)
		}
	}
	svn := l.looks.svn
	if len(paths) > 0 {
		if err := svn.revert(ctx, l.Dir, paths); err != nil {
			return err
		}
		if err := l.unlist(ctx); err != nil {
			return err
		}
	}
	if g.Theirs != c.from {
		err := svn.asked(ctx, func() error {
			_, err := svn.run(ctx, in(l.Dir, "getting the new revisions", "update", "--quiet", "--ignore-externals",
				"--accept", "postpone", "-r", strconv.FormatInt(l.looks.mirror.records(c.base.url).Upto, 10)))
			return err
		})
		if err != nil {
			return err
		}
	}
	b, err := svn.readBase(ctx, l.Dir)
	if err == nil {
		b.tree, err = l.looks.mirror.treeOf(ctx, b, l.looks.made)
	}
	if err != nil {
		return err
	}
	if b.tree != tree {
		return fmt.Errorf("svn brought other files than were worked out. Look again; nothing was changed")
	}
	return nil
}

// unlist takes all files off their change lists.
func (l *Likeness) unlist(ctx context.Context) error {
	_, err := l.looks.svn.run(ctx, in(l.Dir, "sorting the change lists", "changelist", "--quiet", "--remove",
		"--recursive", "."))
	return err
}

// editing brings the files of a likeness from what is checked out to what they are to be.
type editing struct {
	*Likeness
	goal  Goal
	from  object.ID
	store *object.Overlay
	at    beneath.Folder
}

func (e *editing) all(ctx context.Context) error {
	changes, err := e.store.Changes(ctx, e.from, e.goal.Is)
	if err != nil {
		return err
	}
	if len(changes) == 0 && !slices.ContainsFunc(e.was.entries, func(s statusEntry) bool { return s.structural() }) {
		return nil
	}
	if err := e.moves(ctx); err != nil {
		return err
	}
	if err := e.folders(ctx); err != nil {
		return err
	}
	if changes, err = e.left(ctx, changes); err != nil {
		return err
	}
	if err := e.files(ctx, changes); err != nil {
		return err
	}
	if err := e.properties(ctx, changes); err != nil {
		return err
	}
	if err := e.orphans(ctx); err != nil {
		return err
	}
	return e.lists(ctx, changes)
}

// orphans finds properties of files and folders that the other side removed.
func (e *editing) orphans(ctx context.Context) error {
	top, err := e.store.Find(ctx, e.goal.Is, strings.TrimSuffix(propsAt, "/"))
	if err != nil || !top.IsTree() {
		return err
	}
	return e.store.EachChange(ctx, object.ID{}, top.ID, func(c object.Change) {
		path, name, _ := PropertyOf(propsAt + c.Path)
		if path != "" && !e.at.Has(path) {
			e.lost[propsAt+c.Path] = object.Entry{}
			e.told = append(e.told, fmt.Sprintf("The property %s of %s is left out, since %[2]s was removed.", name,
				path))
		}
	})
}

// svn runs a command that changes the likeness.
func (e *editing) svn(ctx context.Context, args ...string) error {
	_, err := e.looks.svn.run(ctx, in(e.Dir, "preparing the joined files", args...))
	return err
}

// moves repeats what svn noted as moved, where the result has it moved, too.
func (e *editing) moves(ctx context.Context) error {
	var list []statusEntry
	for _, s := range e.was.entries {
		if s.Is.From != "" {
			list = append(list, s)
		}
	}
	slices.SortFunc(list, func(a, b statusEntry) int { return strings.Compare(a.Path, b.Path) })
	for _, s := range list {
		from, to := filepath.ToSlash(s.Is.From), filepath.ToSlash(s.Path)
		stays, err := e.store.Find(ctx, e.goal.Is, from)
		if err != nil {
			return err
		}
		comes, err := e.store.Find(ctx, e.goal.Is, to)
		if err != nil {
			return err
		}
		if !stays.Absent() || comes.Absent() || !e.at.Has(from) || e.at.Has(to) {
			e.tell(to, from)
			continue
		}
		if err := e.svn(ctx, "move", "--quiet", "--parents", target(from), target(to)); err != nil {
			return err
		}
	}
	for _, s := range e.was.entries {
		if s.Is.Copied && s.Is.From == "" && s.Is.Item == "added" {
			e.tell(filepath.ToSlash(s.Path), "")
		}
	}
	return nil
}

func (e *editing) tell(path, from string) {
	if from == "" {
		from = "another one"
	}
	e.told = append(e.told, fmt.Sprintf("%s is added as new: that svn had noted it as made from %s does not last.",
		path,
		from))
}

// folders adds and removes the folders that were added or removed, where the result agrees.
func (e *editing) folders(ctx context.Context) error {
	for _, s := range e.was.entries {
		path := filepath.ToSlash(s.Path)
		n, was := e.was.course.base.nodes[path]
		in, err := e.store.Find(ctx, e.goal.Is, path)
		if err != nil {
			return err
		}
		switch {
		case s.Is.Item == "deleted" && was && n.dir && in.Absent() && e.at.Has(path):
			err = e.svn(ctx, "remove", "--quiet", "--force", target(path))
		case s.Is.Item == "added" && !e.at.Has(path) && e.was.isDir(path):
			if err = os.MkdirAll(filepath.Join(e.Dir, filepath.FromSlash(path)), 0o755); err == nil {
				err = e.svn(ctx, "add", "--quiet", "--parents", "--depth", "empty", "--no-auto-props", target(path))
			}
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// isDir reports whether there is a folder at a path of the working copy.
func (s *seen) isDir(path string) bool {
	info, err := os.Lstat(filepath.Join(filepath.Dir(s.own), filepath.FromSlash(path)))
	return err == nil && info.IsDir()
}

// left returns the changes that are left after folders were moved and removed.
func (e *editing) left(ctx context.Context, changes []object.Change) ([]object.Change, error) {
	var out []object.Change
	for _, c := range changes {
		_, _, isProp := PropertyOf(c.Path)
		if !isProp && c.New.Absent() && !e.at.Has(c.Path) {
			continue
		}
		out = append(out, c)
	}
	return out, ctx.Err()
}

// files writes the files, and has svn add and remove them.
func (e *editing) files(ctx context.Context, changes []object.Change) error {
	var gone, added []string
	missing := map[string]bool{}
	for _, s := range e.was.entries {
		missing[filepath.ToSlash(s.Path)] = s.Is.Item == "missing"
	}
	for _, c := range changes {
		if _, _, ok := PropertyOf(c.Path); ok {
			continue
		}
		if err := e.copied(ctx, c); err != nil {
			return err
		}
		if c.New.Absent() || e.at.Has(c.Path) && c.New.Mode == object.ModeLink != (c.Old.Mode == object.ModeLink) {
			if err := e.at.Remove(c.Path); err != nil {
				return err
			}
		}
		if c.New.Absent() {
			if !missing[c.Path] {
				gone = append(gone, c.Path)
			}
			continue
		}
		if err := e.write(ctx, c); err != nil {
			return fmt.Errorf("preparing %s: %w", c.Path, err)
		}
		added = append(added, c.Path)
	}
	if len(gone) > 0 {
		c := in(e.Dir, "preparing the joined files", "remove", "--quiet", "--force")
		if err := e.looks.svn.at(ctx, c, gone); err != nil {
			return err
		}
	}
	if len(added) > 0 {
		c := in(e.Dir, "preparing the joined files", "add", "--quiet", "--force", "--parents", "--depth", "empty",
			"--no-auto-props", "--no-ignore")
		return e.looks.svn.at(ctx, c, added)
	}
	return nil
}

// copied has svn make a new file as a copy of one on another line, so that it keeps its history. What is in it is
// written then.
func (e *editing) copied(ctx context.Context, c object.Change) error {
	from := e.goal.Copies[c.Path]
	if from == "" || !c.Old.Absent() || e.at.Has(c.Path) {
		return nil
	}
	err := e.looks.svn.asked(ctx, func() error {
		return e.svn(ctx, "copy", "--quiet", "--parents", from, target(c.Path))
	})
	if err != nil {
		return err
	}
	return e.svn(ctx, "propdel", "--quiet", mergeinfoName, target(
		c.Path)) // svn may note what the line holds there, too
}

// write writes a file. One that the change leaves as it is in the working copy is copied with its time, byte for byte.
func (e *editing) write(ctx context.Context, c object.Change) error {
	if e.at.Has(c.Path) {
		if err := e.at.Remove(c.Path); err != nil {
			return err
		}
	}
	was, err := e.store.Find(ctx, e.goal.Was, c.Path)
	if err != nil {
		return err
	}
	if was.Name, c.New.Name = "", ""; was == c.New {
		full := filepath.Join(e.Dir, filepath.FromSlash(c.Path))
		if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
			return err
		}
		return copyAs(filepath.Join(filepath.Dir(e.was.own), filepath.FromSlash(c.Path)), full)
	}
	data, err := e.store.Blob(ctx, c.New.ID)
	if err != nil {
		return err
	}
	return beside.WriteEntry(e.at, c.Path, c.New, data)
}

// properties has svn set and remove properties.
func (e *editing) properties(ctx context.Context, changes []object.Change) error {
	for _, c := range changes {
		path, name, ok := PropertyOf(c.Path)
		if !ok {
			if err := e.modes(ctx, c); err != nil {
				return err
			}
			continue
		}
		if path != "" && !e.at.Has(path) {
			continue // it goes with what it belongs to
		}
		if c.New.Absent() {
			if err := e.svn(ctx, "propdel", "--quiet", name, target(path)); err != nil {
				return err
			}
			continue
		}
		value, err := e.store.Blob(ctx, c.New.ID)
		if err != nil {
			return err
		}
		if err := e.set(ctx, name, path, value); err != nil {
			return err
		}
	}
	return nil
}

// modes has svn note that a file can be run, or is a link.
func (e *editing) modes(ctx context.Context, c object.Change) error {
	if c.New.Absent() {
		return nil
	}
	was := c.Old.Mode
	if s := e.movedTo(c.Path); s != "" { // svn move brought the properties along
		from, err := e.store.Find(ctx, e.from, s)
		if err != nil {
			return err
		}
		was = from.Mode
	}
	for name, mode := range map[string]object.Mode{propExec: object.ModeExec, propLink: object.ModeLink} {
		switch {
		case c.New.Mode == mode && (was != mode || name == propExec):
			if err := e.set(ctx, name, c.Path, []byte("*")); err != nil {
				return err
			}
		case c.New.Mode != mode && was == mode:
			if err := e.svn(ctx, "propdel", "--quiet", name, target(c.Path)); err != nil {
				return err
			}
		}
	}
	return nil
}

// movedTo returns what a path was noted to be moved from, or nothing.
func (e *editing) movedTo(path string) string {
	for _, s := range e.was.entries {
		to := filepath.ToSlash(s.Path)
		if s.Is.From == "" {
			continue
		}
		if rest, ok := strings.CutPrefix(path, to+"/"); ok {
			return filepath.ToSlash(s.Is.From) + "/" + rest
		}
		if to == path {
			return filepath.ToSlash(s.Is.From)
		}
	}
	return ""
}

// set has svn set a property, byte for byte.
func (e *editing) set(ctx context.Context, name, path string, value []byte) error {
	f, err := os.CreateTemp("", "dorvik-property-")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	_, err = f.Write(value)
	if err := errors.Join(err, f.Close()); err != nil {
		return err
	}
	return e.svn(ctx, "propset", "--quiet", "--force", "--file", f.Name(), name, target(path))
}

// lists has svn note the change lists.
func (e *editing) lists(ctx context.Context, changes []object.Change) error {
	of := map[string][]string{}
	for _, c := range changes {
		path := nodeOf(c.Path)
		if name := e.goal.Lists[path]; name != "" && !slices.Contains(of[name], path) && !e.isFolder(path) {
			of[name] = append(of[name], path)
		}
	}
	for _, s := range e.was.entries { // files that are in a list and as they were checked out
		if path := filepath.ToSlash(s.Path); s.list != "" && s.Is.Item == "normal" && e.goal.Lists[path] == "" &&
			e.at.Has(path) && !e.isFolder(path) && !slices.Contains(of[s.list], path) {
			of[s.list] = append(of[s.list], path)
		}
	}
	for _, name := range sortedKeys(of) {
		c := in(e.Dir, "sorting the change lists", "changelist", "--quiet", name)
		if err := e.looks.svn.at(ctx, c, of[name]); err != nil {
			return err
		}
	}
	return nil
}

func (e *editing) isFolder(path string) bool {
	info, err := e.at.Lstat(path)
	return err == nil && info.IsDir()
}

// check sees that the likeness is as it was to be, and notes what Dorvik will find there.
func (l *Likeness) check(ctx context.Context, g Goal) error {
	l.looks.notes = &g.Notes
	s, err := l.looks.look(ctx)
	if err != nil {
		return err
	}
	tree, err := edited(ctx, l.looks.made, s.course.base.tree, s.work.set)
	if err != nil {
		return err
	}
	if g.Is, err = l.Held(ctx, l.looks.store(), g.Is); err != nil {
		return err
	}
	if tree != g.Is {
		return fmt.Errorf("svn does not take the joined files as they are to be%s. Nothing was changed",
			difference(ctx, l.looks.store(), g.Is, tree))
	}
	l.Tip, l.Base, l.Dirs = s.tip(), s.course.from, s.dirs()
	return nil
}

// difference names a path in which two trees differ.
func difference(ctx context.Context, store *object.Overlay, a, b object.ID) string {
	changes, err := store.Changes(ctx, a, b)
	if err != nil || len(changes) == 0 {
		return ""
	}
	return ", " + changes[0].Path + " for one"
}

// Dirs returns the folders that svn has in the working copy, parents first.
func (r *Repo) Dirs(ctx context.Context) ([]string, error) {
	s, err := r.look(ctx)
	if err != nil {
		return nil, err
	}
	return s.dirs(), nil
}

func (s *seen) dirs() (out []string) {
	for _, path := range sortedKeys(s.nodes) {
		if s.nodes[path].dir && path != "" {
			out = append(out, path)
		}
	}
	return out
}

// WriteFile writes an entry of a tree into a folder.
func WriteFile(ctx context.Context, store *object.Overlay, dir, path string, e object.Entry) error {
	data, err := store.Blob(ctx, e.ID)
	if err != nil {
		return err
	}
	return beside.WriteEntry(beneath.Folder(dir), path, e, data)
}

// Restore makes a folder for svn of a database that was kept, and sees that the texts are there that it names: svn
// removes those that it does not need any longer.
func Restore(ctx context.Context, r *Repo, database, dir string, at object.ID) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	if err := copyAs(database, filepath.Join(dir, "wc.db")); err != nil {
		return fmt.Errorf("reading what was kept: %w; nothing was changed", err)
	}
	return r.mirror.giveBack(ctx, r.store(), at)
}

// giveBack sees that svn has the texts of a commit and of those before it on the line, as far as they were copied.
func (m *mirror) giveBack(ctx context.Context, store *object.Overlay, at object.ID) error {
	c, err := store.Commit(ctx, at)
	if err != nil {
		return err
	}
	for NumberOf(c) == 0 && len(c.Parents) == 1 { // what was not checked in is not among them
		if c, err = store.Commit(ctx, c.Parents[0]); err != nil {
			return err
		}
	}
	var failed error
	err = store.EachChange(ctx, object.ID{}, c.Tree, func(ch object.Change) {
		if _, _, property := PropertyOf(ch.Path); property || failed != nil {
			return
		}
		data, err := store.Blob(ctx, ch.New.ID)
		if err == nil {
			if ch.New.Mode == object.ModeLink {
				data = append([]byte(linkMark), data...)
			}
			err = m.haveText(data)
		}
		failed = err
	})
	if err == nil {
		err = failed
	}
	if err != nil {
		return fmt.Errorf("giving svn the texts back: %w; nothing was changed", err)
	}
	return nil
}

// haveText sees that svn has a text.
func (m *mirror) haveText(data []byte) error {
	sum := sha1.Sum(data)
	name := hex.EncodeToString(sum[:])
	path := filepath.Join(m.pristine, name[:2], name+".svn-base")
	if _, err := os.Lstat(path); err == nil {
		return nil
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	return beside.WriteFile(path, data)
}
