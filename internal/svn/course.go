package svn

import (
	"context"
	"crypto/sha1"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/odb"
)

// courses works out lines.
type courses struct{ *copies }

// course is a line as Dorvik sees it: the commit of what was checked out, and one for each revision since. Where files
// were brought to different revisions, a later commit has of each file what it had in its revision or what was checked
// out, whichever is newer. So what was checked out is where yours and theirs part, file by file.
type course struct {
	base  *base
	from  object.ID   // commit of what was checked out
	mixed bool        // no revision has all of it
	steps []object.ID // commits of the revisions since that change something
	last  int64       // the last revision among them, or of what was checked out
}

// tip returns the last commit.
func (c *course) tip() object.ID {
	if n := len(c.steps); n > 0 {
		return c.steps[n-1]
	}
	return c.from
}

// revisionID makes the id of a revision's commit. It begins with the digits of the number and an f, so what is shown of
// it can be recognised. mix tells apart what a working copy of several revisions makes of one.
func revisionID(uuid, line string, mix object.ID, rev int64) object.ID {
	sum := sha1.Sum([]byte(strings.Join([]string{uuid, line, mix.String(), strconv.FormatInt(rev, 10)}, "\x00")))
	text := strconv.FormatInt(rev, 10) + "f" + hex.EncodeToString(sum[:])
	id, err := object.ParseID(text[:2*sha1.Size])
	if err != nil {
		panic(err) // they are hexadecimal digits
	}
	return id
}

// commitOf makes the commit of a revision.
func (rec *record) commitOf(tree object.ID, parents ...object.ID) *object.Commit {
	who := object.Signature{Name: strings.NewReplacer("<", "", ">", "", "\n", " ").Replace(rec.Author),
		When: rec.Date.Unix(), Zone: "+0000"}
	if who.Name == "" {
		who.Name = "(no author)"
	}
	return &object.Commit{Tree: tree, Parents: parents, AuthorLine: who.String(), Committer: who,
		Message: strings.TrimRight(rec.Log, "\n") + "\n",
		Extra:   []object.Header{{Key: revisionHeader, Value: strconv.FormatInt(rec.Rev, 10)}}}
}

// course works out the line from what was checked out and from the revisions that are known.
func (r *courses) course(ctx context.Context, b *base) (*course, error) {
	k := r.mirror.records(b.url)
	oldest, newest := b.revs()
	if k.After > oldest {
		k.List = nil // some since then are not known
	}
	c := &course{base: b, last: b.last}
	if err := r.start(ctx, c, &k, oldest, newest); err != nil {
		return nil, err
	}
	mix := object.ID{}
	if c.mixed {
		mix = b.tree
	}
	tree, at := b.tree, c.from
	for i := range k.List {
		rec := &k.List[i]
		if rec.Rev <= oldest {
			continue
		}
		next, err := rec.onto(ctx, r.made, tree, b)
		if errors.Is(err, errUnknown) {
			c.steps, c.last = nil, b.last // as if nothing was known; a fetch reads it anew
			return c, nil
		}
		if err != nil {
			return nil, err
		}
		if next == tree {
			continue
		}
		id := revisionID(b.uuid, b.line, mix, rec.Rev)
		if err := r.keepCommit(ctx, id, rec.commitOf(next, at)); err != nil {
			return nil, err
		}
		tree, at, c.last = next, id, rec.Rev
		c.steps = append(c.steps, id)
	}
	return c, nil
}

// start finds the commit of what was checked out.
func (r *courses) start(ctx context.Context, c *course, k *records, oldest, newest int64) error {
	b := c.base
	rec, whole := k.of(b.last), oldest == newest
	if !whole {
		var err error
		if whole, rec, err = r.wholeAt(ctx, k, b); err != nil {
			return err
		}
	}
	if whole {
		c.from, c.last = revisionID(b.uuid, b.line, object.ID{}, rec.Rev), rec.Rev
		have, err := r.store().Commit(ctx, c.from)
		if err == nil && have.Tree == b.tree {
			return nil
		}
		whole = err != nil // else something of that revision is not checked out
	}
	if c.mixed = !whole; c.mixed {
		rec = &record{Rev: newest, Author: rec.Author, Date: b.when, Log: "What is checked out"}
		if oldest != newest {
			rec.Log = fmt.Sprintf("What is checked out, of the revisions %d to %d", oldest, newest)
		}
		c.from = revisionID(b.uuid, b.line+"\x00", b.tree, newest) // its revision has one, too
	}
	made := rec.commitOf(b.tree, nonZero(r.lastBefore(ctx, k, b, min(rec.Rev, oldest+1)))...)
	if c.mixed && oldest != newest {
		made.Extra = append(made.Extra, object.Header{Key: mixedHeader, Value: fmt.Sprintf("%d:%d", oldest, newest)})
	}
	if !c.mixed && !k.has(rec.Rev) { // the repository did not say yet who made it, and why
		r.bare.put(c.from, made.Encode())
		return nil
	}
	return r.keepCommit(ctx, c.from, made)
}

// wholeAt reports whether files of several revisions are together as one of them has all, and which.
func (r *courses) wholeAt(ctx context.Context, k *records, b *base) (bool, *record, error) {
	oldest, newest := b.revs()
	rec := k.of(b.last)
	if k.After < 0 || k.After > oldest || k.Upto < newest {
		return false, rec, nil
	}
	for i := range k.List {
		one := &k.List[i]
		if one.Rev <= oldest {
			continue
		}
		if one.Rev > newest {
			break
		}
		next, err := one.onto(ctx, r.made, b.tree, b)
		switch {
		case errors.Is(err, errUnknown), err == nil && next != b.tree:
			return false, rec, nil
		case err != nil:
			return false, rec, err
		}
		rec = one
	}
	return true, rec, nil
}

// of returns the record of a revision, or one without a message.
func (k *records) of(rev int64) *record {
	for _, list := range [][]record{k.Old, k.List} {
		for i := range list {
			if list[i].Rev == rev {
				return &list[i]
			}
		}
	}
	return &record{Rev: rev, Log: fmt.Sprintf("Revision %d", rev)}
}

// has reports whether the author and the message of a revision are known.
func (k *records) has(rev int64) bool { return k.of(rev).Author != "" }

// lastBefore returns the commit of the last revision before one, or zero.
func (r *courses) lastBefore(ctx context.Context, k *records, b *base, rev int64) object.ID {
	all := slices.Concat(k.Old, k.List)
	for i := len(all) - 1; i >= 0; i-- {
		id := revisionID(b.uuid, b.line, object.ID{}, all[i].Rev)
		if all[i].Rev < rev && r.knows(ctx, id) {
			return id
		}
	}
	return object.ID{}
}

func nonZero(ids ...object.ID) (out []object.ID) {
	for _, id := range ids {
		if !id.IsZero() {
			out = append(out, id)
		}
	}
	return out
}

// kept is a commit under the id that it is to have.
type kept struct {
	id     object.ID
	commit *object.Commit
}

// keepCommit stores a commit with its tree, unless it is there.
func (r *courses) keepCommit(ctx context.Context, id object.ID, c *object.Commit) error {
	if _, _, err := r.mirror.store.Read(id); !errors.Is(err, object.ErrMissing) {
		return err
	}
	return r.keepCommits(ctx, []kept{{id, c}})
}

// keepCommits stores commits with their trees, at once: what they share is stored once.
func (r *courses) keepCommits(ctx context.Context, list []kept) error {
	return r.mirror.store.Add(func(w *odb.Writer) error {
		for _, k := range list {
			if err := w.PutAll(ctx, r.made, k.commit.Tree); err != nil {
				return err
			}
			if err := w.Put(k.id, object.KindCommit, k.commit.Encode()); err != nil {
				return err
			}
		}
		return nil
	})
}

// goesBack is the number of older revisions that are read the first time.
const goesBack = 100

// first reads the revisions of the line, if that was not done yet. Where the repository does not answer, the line is
// what was checked out.
func (r *courses) first(ctx context.Context, b *base) {
	if k := r.mirror.records(b.url); len(k.Old)+len(k.List) == 0 {
		_ = r.pull(ctx, b)
	}
}

// checkedOut returns what was checked out, with its tree. The first time it reads the revisions, which mostly have the
// files' texts already.
func (r *courses) checkedOut(ctx context.Context, entries []statusEntry) (*base, error) {
	b, err := r.baseOf(ctx, entries)
	if err != nil {
		return nil, err
	}
	if !b.partly() {
		r.first(ctx, b)
	}
	if b.tree, err = r.mirror.treeOf(ctx, b, r.made); err == nil && b.partly() { // they go on top of the tree
		r.first(ctx, b)
	}
	return b, err
}

// pull reads the revisions that are new, and the first time some that are old.
func (r *courses) pull(ctx context.Context, b *base) error {
	unlock, err := r.mirror.lock()
	if err != nil {
		return err
	}
	defer unlock()
	k := r.mirror.records(b.url)
	oldest, _ := b.revs()
	_, upto, err := r.there(ctx, b)
	if err != nil {
		return err
	}
	if k.After > oldest || lacksKnown(&k, b) || k.Partly != b.partly() {
		k = r.mirror.records("") // they are read anew
		k.URL = b.url
	}
	switch k.Partly = b.partly(); {
	case k.Partly:
		err = r.readPartly(ctx, b, &k, upto)
	default:
		err = r.readWhole(ctx, b, &k, upto)
	}
	if err != nil {
		return err
	}
	k.Upto = max(k.Upto, upto)
	k.forget(oldest)
	return r.mirror.putRecords(k)
}

// mostFiles is the number of files above which the line is read partly: the first time all of them are sent.
const mostFiles = 20000

// partly reports whether not all of the line is copied, since not all of it is checked out, or as it is large. Then the
// revisions are known as far as they are newer than what was checked out.
func (b *base) partly() bool {
	for _, n := range b.nodes {
		if n.dir && n.depth != "infinity" {
			return true
		}
	}
	return len(b.nodes) > mostFiles
}

// readWhole reads revisions onto the last one that is known, or onto nothing.
func (r *courses) readWhole(ctx context.Context, b *base, k *records, upto int64) error {
	from, tree, parent := k.Upto+1, object.ID{}, object.ID{}
	if k.Upto < 0 {
		oldest, _ := b.revs()
		list, err := r.log(ctx, b, oldest)
		if err != nil {
			return err
		}
		k.After, from = oldest, oldest
		if n := len(list); n > 0 {
			k.After, from = list[n-1].Rev, list[n-1].Rev
		}
		tree = r.made.PutTree(nil)
	} else {
		parent = r.lastBefore(ctx, k, b, from)
		c, err := r.store().Commit(ctx, parent)
		if err != nil {
			return err
		}
		tree = c.Tree
	}
	if from > upto {
		return nil
	}
	v := r.reviser(ctx, b, tree, from-1)
	v.base, v.exact = nil, true
	var made []kept
	v.keep = func(rec *record, tree object.ID) error {
		if len(rec.Edits) == 0 && !parent.IsZero() { // it changed another line, or a folder without files
			return nil
		}
		k.List = append(k.List, *rec)
		id := revisionID(b.uuid, b.line, object.ID{}, rec.Rev)
		made = append(made, kept{id, rec.commitOf(tree, nonZero(parent)...)})
		parent = id
		return nil
	}
	if err := r.dump(ctx, b.url, from, upto, !parent.IsZero(), v); err != nil {
		return err
	}
	return r.keepCommits(ctx, made)
}

// readPartly reads revisions onto what was checked out.
func (r *courses) readPartly(ctx context.Context, b *base, k *records, upto int64) error {
	oldest, _ := b.revs()
	if len(k.Old) == 0 {
		list, err := r.log(ctx, b, oldest)
		if err != nil {
			return err
		}
		slices.Reverse(list)
		k.Old = list
	}
	if k.After < 0 {
		k.After, k.Upto = oldest, oldest
	}
	if upto <= k.Upto {
		return nil
	}
	return r.readNew(ctx, b, k, k.Upto, upto)
}

// forget drops the edits of revisions that are checked out. Their commits are stored.
func (k *records) forget(upto int64) {
	for len(k.List) > 0 && k.List[0].Rev <= upto {
		old := k.List[0]
		old.Edits = nil
		k.Old, k.List, k.After = append(k.Old, old), k.List[1:], max(k.After, old.Rev)
	}
}

// lacksKnown reports whether a revision is needed of which something is unknown.
func lacksKnown(k *records, b *base) bool {
	for i := range k.List {
		for _, e := range k.List[i].Edits {
			if e.Unknown && b.at(e.Node) < k.List[i].Rev {
				return true
			}
		}
	}
	return false
}

// there asks the repository for the last revision that changed the line, and for the last of all.
func (r *courses) there(ctx context.Context, b *base) (last, upto int64, err error) {
	var l infoList
	err = r.svn.asked(ctx, func() error {
		return r.svn.xml(ctx, in(r.dir, "asking the repository", "info", "-r", "HEAD", target(b.url)), &l)
	})
	if err != nil {
		return 0, 0, err
	}
	if len(l.Entries) != 1 {
		return 0, 0, errors.New("the repository does not say which revision it has")
	}
	upto, err = strconv.ParseInt(l.Entries[0].Revision, 10, 64)
	return l.Entries[0].Commit.Revision, upto, err
}

// readNew reads the revisions after one.
func (r *courses) readNew(ctx context.Context, b *base, k *records, from, upto int64) error {
	tree := b.tree
	for i := range k.List {
		next, err := k.List[i].onto(ctx, r.made, tree, b)
		if err != nil {
			return err
		}
		tree = next
	}
	v := r.reviser(ctx, b, tree, from)
	trees := []object.ID{tree}
	v.keep = func(rec *record, tree object.ID) error {
		k.List, trees = append(k.List, *rec), append(trees, tree)
		return nil
	}
	if err := r.dump(ctx, b.url, from+1, upto, true, v); err != nil {
		return err
	}
	return r.mirror.store.Add(func(w *odb.Writer) error { // the records name the contents
		return w.PutAll(ctx, r.made, trees...)
	})
}

// reviser begins at a tree of the line.
func (r *courses) reviser(ctx context.Context, b *base, tree object.ID, rev int64) *reviser {
	return &reviser{made: r.made, line: b.line, base: b, tree: tree, at: map[int64]object.ID{rev: tree},
		other: func(path string, rev int64, dir bool) (map[string]object.Entry, error) {
			return r.elsewhere(ctx, b, path, rev, dir)
		}}
}

// dump has a reviser go through revisions of the repository.
func (r *courses) dump(ctx context.Context, url string, from, upto int64, incremental bool, v *reviser) error {
	args := []string{"dump", "--quiet", "-r", fmt.Sprintf("%d:%d", from, upto), url}
	if incremental {
		args = append(args, "--incremental")
	}
	c := in(r.dir, "reading the revisions", args...)
	c.dump = true
	err := r.svn.asked(ctx, func() error {
		return r.svn.stream(ctx, c, func(out io.Reader) error {
			return readDump(out, func(is revision) error {
				return v.revision(ctx, is)
			}, func(c change) error { return v.change(ctx, c) })
		})
	})
	if err != nil {
		return err
	}
	return v.end(ctx)
}

// elsewhere reads what a path of the repository was in a revision, with paths below it.
func (r *courses) elsewhere(ctx context.Context, b *base, path string, rev int64, dir bool) (map[string]object.Entry,
	error) {
	at := path
	if !dir {
		at = folder(path)
	}
	v := r.reviser(ctx, b, r.made.PutTree(nil), rev-1)
	v.base, v.line, v.exact = nil, at, true
	v.keep = func(*record, object.ID) error { return nil }
	if err := r.dump(ctx, strings.TrimSuffix(b.root+"/"+escaped(at), "/"), rev, rev, false, v); err != nil {
		return nil, err
	}
	out := map[string]object.Entry{}
	err := r.made.EachChange(ctx, object.ID{}, v.tree, func(c object.Change) {
		name := filepath.Base(path)
		switch of, prop, ok := PropertyOf(c.Path); {
		case dir:
			out[c.Path] = c.New
		case ok && of == name:
			out[propPath("", prop)] = c.New
		case c.Path == name:
			out[""] = c.New
		}
	})
	return out, err
}

// log is what “svn log” prints.
type logList struct {
	Entries []struct {
		Revision int64     `xml:"revision,attr"`
		Author   string    `xml:"author"`
		Date     time.Time `xml:"date"`
		Msg      string    `xml:"msg"`
	} `xml:"logentry"`
}

// log reads who made the last revisions of the line up to one, the newest first.
func (r *courses) log(ctx context.Context, b *base, upto int64) (list []record, err error) {
	var l logList
	err = r.svn.asked(ctx, func() error {
		return r.svn.xml(ctx, in(r.dir, "reading the history", "log", "--stop-on-copy", "--limit",
			strconv.Itoa(goesBack), target(b.url)+"@"+strconv.FormatInt(upto, 10)), &l)
	})
	for _, e := range l.Entries {
		list = append(list, record{Rev: e.Revision, Author: e.Author, Date: e.Date, Log: e.Msg})
	}
	return list, err
}
