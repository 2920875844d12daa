package hg

import (
	"context"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/rx"
	"dorvik.dev/dorvik/internal/vcs"
)

// readers read what an operation wrote down.
var readers = map[string]func(*work, context.Context, *vcs.Unfinished) error{
	"rebase": (*work).readRebase, "graft": (*work).readGraft, "histedit": (*work).readHistedit,
	"unshelve": (*work).readUnshelve,
}

// Unfinished reads a half-done operation. The error is a *LeftError if only hg can finish it.
func (r *work) Unfinished(ctx context.Context) (*vcs.Unfinished, error) {
	o := r.begun()
	if o != nil && !o.known {
		return nil, &LeftError{o.command}
	}
	is := r.Busy()
	if is == "" {
		if !r.has(mergeFolder) {
			return nil, nil
		}
		open, err := r.conflicts(ctx)
		if err != nil || len(open) == 0 {
			return nil, err
		}
		is = vcs.Unmerged // an update joined uncommitted work with another changeset
	}
	h, err := r.here(ctx)
	if err != nil {
		return nil, err
	}
	if h.tip().IsZero() {
		return nil, nil // nothing was joined with anything
	}
	u := &vcs.Unfinished{Operation: is, By: vcs.InMercurial.Name, Branch: h.name(), Head: h.tip(), Before: h.tip(),
		Files: r.stateFiles()}
	switch {
	case o != nil:
		err = readers[o.command](r, ctx, u)
	case is == vcs.Merging:
		u.Merged = h.parents[1:]
	}
	return u, err
}

// readRebase tells of a rebase.
func (r *work) readRebase(ctx context.Context, u *vcs.Unfinished) error {
	s, err := r.rebase()
	if err != nil {
		return err
	}
	u.Before = s.from
	u.Remade = map[object.ID]object.ID{}
	if s.collapse {
		u.Todo = append(u.Todo, vcs.Command{Verb: "collapse"})
	}
	if s.keep {
		u.Options = append(u.Options, vcs.Option{Name: vcs.KeepsReplaced})
	}
	seen := map[object.ID]bool{} // what changesets go onto, and those that were made
	var listed []object.ID
	var last object.ID // on which the one is made at which it stopped
	for _, c := range s.list {
		if u.Onto.IsZero() {
			u.Onto, last = c.onto, c.onto
		}
		seen[c.onto] = true
		listed = append(listed, c.id)
		one := vcs.Command{Verb: vcs.Pick, Commit: c.id}
		switch {
		case c.made == c.id: // it stays where it is
		case !c.made.IsZero() && seen[c.made]: // nothing was left of it
			one.Verb = vcs.Drop
			u.Done = append(u.Done, one)
		case !c.made.IsZero():
			u.Done, u.Remade[c.id], seen[c.made], last = append(u.Done, one), c.made, true, c.made
		case c.left:
		case u.Stopped.IsZero():
			u.Stopped, u.Done = c.id, append(u.Done, one)
		default:
			u.Todo = append(u.Todo, one)
		}
	}
	if err := r.stoppedOn(ctx, u, last, "rebase"); err != nil {
		return err
	}
	return r.ofOneLine(ctx, u, listed)
}

// stoppedOn looks whether one is still where an operation stopped, or committed on top of that. Anywhere else it was in
// the middle of something that only hg knows.
func (r *work) stoppedOn(ctx context.Context, u *vcs.Unfinished, at object.ID, command string) error {
	if u.Picking = u.Head == at; u.Picking {
		return nil
	}
	on, err := r.Commits(ctx, "descendants(present("+at.String()+")) and "+u.Head.String())
	if err == nil && len(on) == 0 {
		err = &LeftError{command}
	}
	return err
}

// ofOneLine looks whether the changesets of a rebase are one line, and whether one was on it. If they are several, its
// list has a verb that nobody knows, so Dorvik does not go on with it.
func (r *work) ofOneLine(ctx context.Context, u *vcs.Unfinished, listed []object.ID) error {
	if len(listed) == 0 {
		return &stateError{"rebase", errShort}
	}
	set := setOf(listed)
	heads, err := r.Commits(ctx, "heads("+set+")")
	if err != nil {
		return err
	}
	if len(heads) > 1 {
		u.Todo = append(u.Todo, vcs.Command{Verb: "another line of changesets"})
	}
	under, err := r.Commits(ctx, "("+u.Before.String()+") and descendants("+set+")")
	if len(under) == 0 {
		u.Todo = append(u.Todo, vcs.Command{Verb: "changesets of a line that you were not on"})
	}
	return err
}

// readHistedit tells of a histedit.
func (r *work) readHistedit(ctx context.Context, u *vcs.Unfinished) error {
	s, err := r.histedit()
	if err != nil {
		return err
	}
	if s.keep {
		u.Options = append(u.Options, vcs.Option{Name: vcs.KeepsReplaced})
	}
	u.Before, u.Remade = s.topmost, map[object.ID]object.ID{}
	for _, c := range s.replaced {
		one := vcs.Command{Verb: vcs.Pick, Commit: c.id}
		if len(c.by) == 0 {
			one.Verb = vcs.Drop
		} else {
			u.Remade[c.id] = c.by[len(c.by)-1]
			u.Temporary = append(u.Temporary, c.by...)
		}
		u.Done = append(u.Done, one)
	}
	rules := s.rules
	if len(rules) > 0 {
		stopped := vcs.Command{Verb: verbOf(rules[0].verb), Commit: rules[0].id}
		u.Stopped, u.Done, rules = stopped.Commit, append(u.Done, stopped), rules[1:]
		if u.Squashing = stopped.Verb == vcs.Squash; u.Squashing {
			if u.Message, err = r.messages(ctx, u.Head, stopped.Commit); err != nil {
				return err
			}
		}
		if err := r.stoppedOn(ctx, u, s.at, "histedit"); err != nil {
			return err
		}
		if u.Picking && stopped.Verb.Joins() {
			u.Amend = u.Head
		}
	}
	for _, c := range rules {
		u.Todo = append(u.Todo, vcs.Command{Verb: verbOf(c.verb), Commit: c.id})
	}
	// The list began above the newest changeset that is below both; one lower if that is to become part of the next.
	onto, err := r.one(ctx, "ancestor("+u.Head.String()+","+s.topmost.String()+")")
	if err != nil {
		return err
	}
	if onto == u.Head && len(u.Done) > 0 && u.Done[len(u.Done)-1].Verb.Joins() {
		u.Done = append([]vcs.Command{{Verb: vcs.Pick, Commit: onto}}, u.Done...)
		u.Remade[onto] = onto
		onto, err = r.one(ctx, "p1("+onto.String()+")")
	}
	u.Onto = onto
	return err
}

// messages returns the messages of changesets, one after the other.
func (r *work) messages(ctx context.Context, ids ...object.ID) (string, error) {
	var out []string
	for _, id := range ids {
		c, err := object.NewOverlay(object.SHA1, r).Commit(ctx, id)
		if err != nil {
			return "", err
		}
		out = append(out, strings.TrimSpace(c.Message))
	}
	return strings.Join(out, "\n\n") + "\n", nil
}

// verbOf returns the verb of a word in histedit's list.
func verbOf(word string) vcs.Verb {
	switch word {
	case "fold":
		return vcs.Squash
	case "roll":
		return vcs.Fixup
	case "mess":
		return vcs.Reword
	}
	return vcs.Verb(word)
}

// readUnshelve tells of an unshelve. Where hg committed the uncommitted work for a while, the files are told against
// the changeset below.
func (r *work) readUnshelve(_ context.Context, u *vcs.Unfinished) error {
	s, err := r.shelved()
	if err != nil {
		return err
	}
	u.Edits, u.Stopped, u.Temporary, u.Unshelving = s.pending, s.parents[1], s.remove, true
	if s.keep {
		return nil
	}
	shelves, err := filepath.Glob(filepath.Join(r.own, "shelved", inPattern(s.name)+".*"))
	for _, file := range shelves {
		u.Spent = append(u.Spent, "shelved/"+filepath.Base(file))
	}
	return err
}

// inPattern returns a name as it is in a pattern of files.
func inPattern(name string) string {
	return strings.NewReplacer(`\`, `\\`, "*", `\*`, "?", `\?`, "[", `\[`).Replace(name)
}

// readGraft tells of a graft.
func (r *work) readGraft(ctx context.Context, u *vcs.Unfinished) error {
	s, err := r.graft()
	if err != nil {
		return err
	}
	for i, id := range s.list {
		one := vcs.Command{Verb: vcs.Pick, Commit: id}
		if i == 0 {
			u.Stopped, u.Done = id, append(u.Done, one)
		} else {
			u.Todo = append(u.Todo, one)
		}
	}
	if len(s.made) > 0 { // the branch began below the first of them
		u.Before, err = r.one(ctx, "p1("+s.made[0].String()+")")
	}
	return err
}

// conflicts returns the files that hg calls unresolved.
func (r *work) conflicts(ctx context.Context) (map[string]bool, error) {
	out, said, code, err := r.hg.all(ctx, "files", "-T", "{path}\\0", "-R", r.dir, "set:unresolved()")
	if err != nil {
		return nil, err
	}
	const noneFound = 1
	if code != 0 && code != noneFound {
		return nil, &Error{"looking for conflicts", said, code}
	}
	open := map[string]bool{}
	for path := range strings.SplitSeq(out, "\x00") {
		if path != "" {
			open[path] = true
		}
	}
	return open, nil
}

// sides are the three versions of a file in conflict: of the base, yours and theirs.
type sides func(path string) ([3]object.Entry, error)

// midway marks the files of a half-done operation: those in conflict, with what the three sides have, and the rest,
// which is part of what hg would commit next.
func (r *work) midway(ctx context.Context, dirty []vcs.Dirty) error {
	u, err := r.Unfinished(ctx)
	if err != nil || u == nil {
		return err
	}
	open, err := r.conflicts(ctx)
	if err != nil {
		return err
	}
	of := r.joined
	if u.Operation == vcs.Unmerged && !u.Unshelving {
		of = r.left
	}
	is, err := of(ctx, object.NewOverlay(object.SHA1, r), u)
	if err != nil {
		return err
	}
	for i := range dirty {
		d := &dirty[i]
		switch {
		case d.Untracked:
		case !open[d.Path]:
			d.Staged, d.Unstaged = true, false
		default:
			d.Conflict, d.Unstaged, d.Index = true, false, object.Entry{}
			if d.Stages, err = is(d.Path); err != nil {
				return err
			}
		}
	}
	return nil
}

// joined returns the sides of an operation that joins changesets.
func (r *work) joined(ctx context.Context, store *object.Overlay, u *vcs.Unfinished) (sides, error) {
	one, other := u.Head, u.Stopped
	if len(u.Merged) > 0 {
		other = u.Merged[0]
	}
	if u.Unshelving {
		one = u.Edits
	}
	base := "ancestor(" + one.String() + "," + other.String() + ")"
	if u.Operation != vcs.Merging {
		base = "p1(" + other.String() + ")"
	}
	below, err := r.one(ctx, base)
	if err != nil {
		return nil, err
	}
	var trees [3]object.ID
	for k, id := range []object.ID{below, one, other} {
		if trees[k], err = treeOf(ctx, store, id); err != nil {
			return nil, err
		}
	}
	return func(path string) (out [3]object.Entry, err error) {
		for k, tree := range trees {
			e, err := store.Find(ctx, tree, path)
			if err != nil {
				return out, err
			}
			out[k] = e.Detached()
		}
		return out, nil
	}, nil
}

// treeOf returns the tree of a commit; zero for none.
func treeOf(ctx context.Context, store *object.Overlay, id object.ID) (object.ID, error) {
	if id.IsZero() {
		return id, nil
	}
	c, err := store.Commit(ctx, id)
	if err != nil {
		return object.ID{}, err
	}
	return c.Tree, nil
}

// mergeState is what hg says of files in conflict.
type mergeState struct {
	Commits []struct{ Name, Node string }
	Files   []struct {
		Path         string
		LocalKey     string `json:"local_key"` // the file in the folder, which holds what the working folder had
		LocalFlags   string `json:"local_flags"`
		OtherPath    string `json:"other_path"`
		OtherNode    string `json:"other_node"`
		AncestorPath string `json:"ancestor_path"`
		AncestorNode string `json:"ancestor_node"`
		Extras       []struct{ Key, Value string }
	}
}

// notUTF8 matches how hg writes a byte of a name that is not UTF-8 into JSON: as half of a pair of surrogates. In its
// place comes a rune that no name has, from U+10FF80 on.
var notUTF8 = rx.New(`\\udc([89a-f][0-9a-f])`)

// bytesOf returns a name with the bytes in the places of such runes.
func bytesOf(name string) string {
	var b strings.Builder
	for _, c := range name {
		if c >= 0x10FF80 {
			b.WriteByte(byte(c))
		} else {
			b.WriteRune(c)
		}
	}
	return b.String()
}

// left returns the sides of conflicts without an operation: an update left them, which joined uncommitted work with
// another changeset. Yours is the work, as hg put it aside.
func (r *work) left(ctx context.Context, store *object.Overlay, _ *vcs.Unfinished) (sides, error) {
	const doing = "reading what an update left in conflict"
	out, err := r.run(ctx, doing, "debugmergestate", "-T", "json")
	if err != nil {
		return nil, err
	}
	var list []mergeState
	err = json.Unmarshal([]byte(notUTF8.ReplaceAllString(out, `\udbff\udf$1`)), &list)
	if err != nil || len(list) != 1 {
		return nil, &stateError{"update", err}
	}
	nodes := map[string]string{}
	for _, c := range list[0].Commits {
		nodes[c.Name] = c.Node
	}
	f := &fields{}
	find := func(hex, path string) (object.Entry, error) {
		tree, err := treeOf(ctx, store, f.id(hex))
		if err = errors.Join(err, f.err); err != nil {
			return object.Entry{}, err
		}
		e, err := store.Find(ctx, tree, path)
		return e.Detached(), err
	}
	return func(path string) (out [3]object.Entry, err error) {
		for _, c := range list[0].Files {
			if bytesOf(c.Path) != path {
				continue
			}
			was := nodes["local"] // the ancestor is there, unless it is said to be elsewhere
			for _, x := range c.Extras {
				if x.Key == "ancestorlinknode" {
					was = x.Value
				}
			}
			if strings.Trim(c.AncestorNode, "0") != "" {
				if out[0], err = find(was, bytesOf(c.AncestorPath)); err != nil {
					return out, err
				}
			}
			if out[1], err = r.putAside(c.LocalKey, c.LocalFlags); err != nil {
				return out, err
			}
			if strings.Trim(c.OtherNode, "0") != "" {
				out[2], err = find(nodes["other"], bytesOf(c.OtherPath))
			}
			return out, err
		}
		return out, nil
	}, nil
}

// putAside keeps in the mirror what hg put aside of a file that it joined, and returns its entry.
func (r *work) putAside(key, flags string) (e object.Entry, err error) {
	if strings.Trim(key, "0") == "" {
		return e, nil
	}
	data, err := os.ReadFile(filepath.Join(r.own, mergeFolder, filepath.Base(key)))
	if err != nil {
		return e, err
	}
	e.Mode = map[string]object.Mode{"l": object.ModeLink, "x": object.ModeExec, "": object.ModeFile}[flags]
	e.ID, err = r.mirror.store.Put(data)
	return e, err
}
