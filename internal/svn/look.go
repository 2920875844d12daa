package svn

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// What was changed and is not checked in is a commit on top of what was checked out, or several: one for each change
// list. If there are change lists, what is in none of them is uncommitted work, which a check-in leaves out.

// looks reads the working copy.
type looks struct {
	*courses
	mu   sync.Mutex
	last *seen // what was read last
}

// seen is what was read of a working copy.
type seen struct {
	own       string // the .svn folder
	entries   []statusEntry
	stamps    map[string]string // of the files that it depends on
	course    *course
	groups    []group // with their commits, the oldest first
	loose     []string
	untracked []string
	left      *left
	work      *changes
	parts     map[string][]Part // of files of which only some edits are in a list
	nodes     map[string]node   // what svn has now, with properties
	props     map[string]map[string]string
}

// tip returns the last commit: of what is not checked in, or of what was checked out.
func (s *seen) tip() object.ID {
	if n := len(s.groups); n > 0 {
		return s.groups[n-1].commit
	}
	return s.course.from
}

// group is the changes of one change list.
type group struct {
	list   string // its name; empty for changes where there are no lists
	paths  []string
	commit object.ID
}

// changes are the paths of the tree that are not as they were checked out.
type changes struct {
	set  map[string]object.Entry
	list map[string]string // change lists of paths
	when time.Time         // when the last of them was saved
}

// recent returns what was read last, however old, and reads if nothing was. It suits what a recovery does not change:
// the line, the settings of the project. It costs nothing, where a look runs svn.
func (r *looks) recent(ctx context.Context) (*seen, error) {
	r.mu.Lock()
	last := r.last
	r.mu.Unlock()
	if last != nil {
		return last, nil
	}
	return r.look(ctx)
}

// look reads the working copy, as far as it is not as it was when it was read last.
func (r *looks) look(ctx context.Context) (*seen, error) {
	entries, err := r.svn.status(ctx, r.dir)
	if err != nil {
		return nil, lockedError(err, r.own)
	}
	if err := usable(entries); err != nil {
		return nil, err
	}
	stamps := r.stamps(entries)
	r.mu.Lock()
	last := r.last
	r.mu.Unlock()
	if last != nil && slices.Equal(last.entries, entries) && mapsEqual(last.stamps, stamps) {
		return last, nil
	}
	s := &seen{own: r.own, entries: entries, stamps: stamps}
	same := func(of string) bool { return last != nil && last.stamps[of] == stamps[of] }
	now := func() listing { return listing{last.nodes, last.props, nil} }
	if !same("wc.db") {
		now = r.now(ctx, entries)
	}
	if same("wc.db") && same(marks) && same("revisions") {
		s.course, s.left = last.course, last.left
	} else {
		var b *base
		if same("wc.db") && same(marks) {
			b, s.left = last.course.base, last.left
		} else {
			if b, err = r.checkedOut(ctx, entries); err != nil {
				return nil, lockedError(err, r.own)
			}
			if s.left, err = r.leftOf(ctx, entries, b); err != nil {
				return nil, err
			}
		}
		if s.course, err = r.course(ctx, b); err != nil {
			return nil, err
		}
	}
	is := now()
	if is.err != nil {
		return nil, lockedError(is.err, r.own)
	}
	if s.nodes, s.props = is.nodes, is.props; s.nodes == nil {
		s.nodes, s.props = s.course.base.nodes, s.course.base.props
	}
	if err := r.read(ctx, s); err != nil {
		return nil, err
	}
	r.mu.Lock()
	r.last = s
	r.mu.Unlock()
	return s, nil
}

func mapsEqual(a, b map[string]string) bool {
	if len(a) != len(b) {
		return false
	}
	for key, value := range a {
		if other, ok := b[key]; !ok || other != value {
			return false
		}
	}
	return true
}

// stamps tells apart versions of the files that a look depends on.
func (r *looks) stamps(entries []statusEntry) map[string]string {
	out := map[string]string{"wc.db": stampOf(filepath.Join(r.own, "wc.db")),
		"revisions": stampOf(r.mirror.file("revisions.json")), "notes": stampOf(r.notesFile())}
	for _, e := range entries {
		if e.Is.Item == "conflicted" {
			out[marks] += fmt.Sprintln(e.Path, markedAt(r.dir, e.Path))
		}
		if e.Is.Item != "unversioned" {
			out["/"+e.Path] = stampOf(filepath.Join(r.dir, filepath.FromSlash(e.Path)))
		}
	}
	return out
}

// marks is the stamp of which files in conflict have marks.
const marks = "marks"

func stampOf(path string) string {
	info, err := os.Lstat(path)
	if err != nil {
		return ""
	}
	return fmt.Sprint(info.ModTime().UnixNano(), info.Size(), info.Mode(), inode(info))
}

// ObstructedError reports something else where svn has a file or a folder.
type ObstructedError struct{ Path string }

func (e *ObstructedError) Error() string {
	return fmt.Sprintf("%s is not what svn has there: a file stands in the place of a folder, or the reverse. Move it "+
		"away, and look again. Nothing was changed", e.Path)
}

// read sorts what was changed into groups and makes their commits.
func (r *looks) read(ctx context.Context, s *seen) error {
	for _, e := range s.entries {
		switch {
		case e.Is.Item == "unversioned":
			path := filepath.ToSlash(e.Path)
			if slices.Contains(s.left.aside, path) {
				continue
			}
			if info, err := os.Lstat(filepath.Join(r.dir, e.Path)); err == nil && info.IsDir() {
				path += "/"
			}
			s.untracked = append(s.untracked, path)
		case e.Is.Item == "obstructed":
			return &ObstructedError{e.Path}
		}
	}
	var err error
	if s.work, err = r.changed(ctx, s); err != nil {
		return err
	}
	byList := map[string][]string{}
	for path := range s.work.set {
		name := s.work.list[path]
		byList[name] = append(byList[name], path)
	}
	notes, err := r.Notes()
	if err != nil {
		return err
	}
	if err := r.divide(ctx, s, notes, byList); err != nil {
		return err
	}
	names := notes.sorted(sortedKeys(byList))
	if len(s.left.merged) > 0 { // what a merge left is settled first; until then all is uncommitted
		s.loose, names = sortedKeys(s.work.set), nil
	}
	if len(names) > 1 || len(names) == 1 && (names[0] != "" || notes.Apart) {
		s.loose = byList[""]
		slices.Sort(s.loose)
		names = slices.DeleteFunc(names, func(name string) bool { return name == "" })
	}
	return r.group(ctx, s, names, byList)
}

// group makes a commit of each list, in their order.
func (r *looks) group(ctx context.Context, s *seen, names []string, byList map[string][]string) error {
	who, err := r.Committer(ctx)
	if err != nil {
		return err
	}
	who.When, who.Zone = s.work.when.Unix(), "+0000"
	tree, parent := s.course.base.tree, s.course.from
	for _, name := range names {
		paths := byList[name]
		slices.Sort(paths)
		set := map[string]object.Entry{}
		for _, path := range paths {
			set[path] = s.work.set[path]
			for _, part := range s.parts[path] {
				if part.List == name {
					set[path] = part.To
				}
			}
		}
		if tree, err = edited(ctx, r.made, tree, set); err != nil {
			return err
		}
		message, err := r.message(name)
		if err != nil {
			return err
		}
		parent = r.made.PutCommit(&object.Commit{Tree: tree, Parents: []object.ID{parent}, AuthorLine: who.String(),
			Committer: who, Message: strings.TrimRight(message, "\n") + "\n"})
		s.groups = append(s.groups, group{name, paths, parent})
	}
	return nil
}

// divide finds the files of which only some edits are in a list, and puts them into that list, too.
func (r *looks) divide(ctx context.Context, s *seen, notes Notes, byList map[string][]string) error {
	s.parts = map[string][]Part{}
	for path := range notes.Parts {
		is, changed := s.work.set[path]
		if !changed || is.Absent() {
			continue
		}
		base, err := r.made.Find(ctx, s.course.base.tree, path)
		if err != nil {
			return err
		}
		own, parts := s.work.list[path], notes.of(path, base)
		if i := slices.IndexFunc(parts, func(p Part) bool { return p.List == own }); i >= 0 {
			parts = parts[:i] // svn was told to take all of it there
		}
		if len(parts) == 0 {
			continue
		}
		s.parts[path] = parts
		for _, part := range parts {
			byList[part.List] = append(byList[part.List], path)
		}
		if parts[len(parts)-1].To.Same(is) { // nothing is left for its own list
			byList[own] = slices.DeleteFunc(byList[own], func(p string) bool { return p == path })
			if len(byList[own]) == 0 {
				delete(byList, own)
			}
		}
	}
	return nil
}

// changed reads what is not as it was checked out.
func (r *looks) changed(ctx context.Context, s *seen) (*changes, error) {
	c := &changes{set: map[string]object.Entry{}, list: map[string]string{}, when: s.course.base.when}
	b, nodes := s.course.base, s.nodes
	lists, moves := map[string]string{}, map[string]string{}
	ask := map[string]bool{}
	for _, e := range s.entries {
		path := filepath.ToSlash(e.Path)
		if e.Is.Item == "unversioned" || e.Is.Item == "external" || e.Is.Item == "ignored" {
			continue
		}
		lists[path] = e.list
		if e.Is.To != "" {
			moves[path] = filepath.ToSlash(e.Is.To)
		}
		ask[path] = true
		if e.Is.Item == "replaced" {
			for other := range b.nodes {
				ask[other] = ask[other] || strings.HasPrefix(other, path+"/")
			}
		}
	}
	for path := range nodes {
		if _, was := b.nodes[path]; !was {
			ask[path] = true
		}
	}
	for path := range b.nodes {
		if _, is := nodes[path]; !is {
			ask[path] = true
		}
	}
	for _, path := range s.left.paths {
		was, err := r.below(ctx, b.tree, path)
		if err != nil {
			return nil, err
		}
		for at := range was {
			ask[nodeOf(at)] = true
		}
	}
	for path := range ask {
		if err := r.changedAt(ctx, s, c, path); err != nil {
			return nil, err
		}
	}
	for at := range c.set {
		list := lists[nodeOf(at)]
		if to := moves[nodeOf(at)]; list == "" && to != "" {
			list = lists[to]
		}
		if list != "" {
			c.list[at] = list
		}
	}
	return c, nil
}

// listing is the files and folders that svn has, with their properties.
type listing struct {
	nodes map[string]node
	props map[string]map[string]string
	err   error
}

// now starts to read what svn has now, where that is not what was checked out. The result waits for it.
func (r *looks) now(ctx context.Context, entries []statusEntry) func() listing {
	if !slices.ContainsFunc(entries, func(e statusEntry) bool { return e.structural() }) {
		return func() listing { return listing{} }
	}
	done := make(chan listing, 1)
	go func() {
		l := listing{nodes: map[string]node{}}
		var found []infoEntry
		found, l.err = r.svn.info(ctx, r.dir)
		for _, e := range found {
			path := nodePath(e.Path)
			if e.Schedule != "delete" && e.Kind != "none" {
				l.nodes[path] = node{dir: e.Kind == "dir", sum: e.Checksum}
			}
		}
		if l.err == nil {
			l.props, l.err = r.svn.properties(ctx, r.dir)
		}
		done <- l
	}()
	return func() listing { return <-done }
}

// changedAt notes how a file or folder differs from what was checked out.
func (r *looks) changedAt(ctx context.Context, s *seen, c *changes, path string) error {
	b := s.course.base
	put := func(at string, is object.Entry) error {
		was, err := r.made.Find(ctx, b.tree, at)
		if was.Name = ""; err == nil && was != is && !(was.IsTree() && is.Absent()) {
			c.set[at] = is
		}
		return err
	}
	n, is := s.nodes[path]
	of := map[string]string{}
	if is {
		of = s.props[path]
	}
	for name := range b.props[path] {
		if _, still := of[name]; !still && !isMode(name) {
			if err := put(propPath(path, name), object.Entry{}); err != nil {
				return err
			}
		}
	}
	for name, value := range of {
		if !isMode(name) {
			e := object.Entry{Mode: object.ModeFile, ID: r.made.Put(object.KindBlob, []byte(value))}
			if err := put(propPath(path, name), e); err != nil {
				return err
			}
		}
	}
	if is && n.dir {
		return nil
	}
	if !is {
		return put(path, object.Entry{})
	}
	e, when, err := r.entry(s.left, path, of)
	if err != nil {
		return fmt.Errorf("reading your changes: %w", err)
	}
	if err := put(path, e); err != nil {
		return err
	}
	if _, changed := c.set[path]; changed && when.After(c.when) {
		c.when = when
	}
	return nil
}

// entry reads a file of the working copy as a tree has it. It is absent if there is no file.
func (r *looks) entry(l *left, path string, props map[string]string) (e object.Entry, when time.Time, err error) {
	full, err := l.mine(r.dir, path)
	if err != nil {
		return e, when, err
	}
	return entryAt(r.made, full, props)
}

// dirty returns the uncommitted work.
func (s *seen) dirty() (out []vcs.Dirty) {
	for _, path := range s.loose {
		if !slices.ContainsFunc(s.left.merged, func(d vcs.Dirty) bool { return d.Path == path }) {
			out = append(out, vcs.Dirty{Path: path, Unstaged: true})
		}
	}
	out = append(out, s.left.merged...)
	for _, path := range s.untracked {
		out = append(out, vcs.Dirty{Path: path, Untracked: true})
	}
	return out
}
