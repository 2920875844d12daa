package hg

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"

	"dorvik.dev/dorvik/internal/beside"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/odb"
)

// mirror is Dorvik's copy of the changesets as objects of core. A commit has its changeset's node as id; trees and
// files have the hash of their content. hg hands over what is new as a bundle, which is read here; that is faster by
// far than asking for files one by one. Nothing is removed from the mirror, so what hg stripped can still be read.
type mirror struct {
	dir   string
	hg    *server
	store *beside.Objects

	mu     sync.Mutex
	copies map[string][]string // see recorded; nil if it is not read
	known  mirrorState         // when it was read
}

// mirrorState is how far the mirror got. It is written last, so what an interrupted import appended is cut off again.
type mirrorState struct {
	Version int
	Revs    int    // number of the last revision
	Tip     string // its node
	Files   int64  // bytes of the list of file revisions
	Sets    int64  // bytes of the list of changesets
	Copies  int64  // bytes of the list of copies
}

const mirrorVersion = 2

func openMirror(hg *server, dir string) (*mirror, error) {
	store, err := beside.OpenObjects(filepath.Join(dir, "objects"))
	return &mirror{dir: dir, hg: hg, store: store}, err
}

func (m *mirror) file(name string) string { return filepath.Join(m.dir, name) }

// state reads how far the mirror got. Of a damaged or older state nothing is used.
func (m *mirror) state() mirrorState {
	none := mirrorState{Version: mirrorVersion, Revs: -1}
	data, err := os.ReadFile(m.file("state.json"))
	if err != nil {
		return none
	}
	s := none
	if json.Unmarshal(data, &s) != nil || s.Version != mirrorVersion {
		return none
	}
	return s
}

// lock waits until no other process adds to the mirror.
func (m *mirror) lock() (unlock func(), err error) {
	f, err := os.OpenFile(m.file("lock"), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX); err != nil {
		f.Close()
		return nil, err
	}
	return func() { f.Close() }, nil
}

// sync adds what is new in the repository.
func (m *mirror) sync(ctx context.Context) error {
	at := m.state()
	m.forgetCopies(at)
	tip, err := m.tip(ctx, "tip")
	if err != nil || tip.rev < 0 || tip.rev == at.Revs && tip.node == at.Tip {
		return err
	}
	unlock, err := m.lock()
	if err != nil {
		return fmt.Errorf("reading the history: %w", err)
	}
	defer unlock()
	if at = m.state(); tip.rev == at.Revs && tip.node == at.Tip { // another process was first
		return nil
	}
	im := &importer{mirror: m, at: at, tip: tip}
	if err := im.load(); err != nil {
		return fmt.Errorf("reading what is known of the history: %w", err)
	}
	from, err := im.first(ctx)
	if err != nil {
		return err
	}
	if from <= tip.rev {
		if err := im.take(ctx, from); err != nil {
			return err
		}
	}
	if err := im.close(); err != nil {
		return err
	}
	return m.store.Gather(ctx)
}

// revAt is a revision with its number, which only this repository has.
type revAt struct {
	rev  int
	node string
}

// tip asks for the newest revision of a set; rev is -1 if it has none.
func (m *mirror) tip(ctx context.Context, set string) (revAt, error) {
	out, err := m.hg.run(ctx, "reading the history", "log", "-r", set, "-T", "{rev} {node}\n")
	at := revAt{rev: -1}
	if err != nil {
		return at, err
	}
	for line := range strings.Lines(out) {
		rev, node, _ := strings.Cut(strings.TrimSpace(line), " ")
		if at.rev, err = strconv.Atoi(rev); err != nil {
			return at, fmt.Errorf("hg numbers a changeset %q", rev)
		}
		at.node = node
	}
	return at, nil
}

// importer adds changesets to a mirror.
type importer struct {
	*mirror
	at  mirrorState
	tip revAt

	files     map[node]fileRev // what is known
	sets      map[node]node    // changesets and their manifests
	manifests map[node]node    // the reverse
	newFiles  []byte           // to be appended
	newSets   []byte
	copies    map[string][]string // what a path was recorded to be a copy of
	newCopies []byte

	out       *odb.Writer
	made      *object.Overlay
	trees     map[node]object.ID // of manifests
	changelog []*incoming
	lists     []*revision // manifests
	texts     *textCache  // of manifests
}

// fileRev is the revision of a file: its content, and what is known about it.
type fileRev struct {
	blob object.ID
	meta string
}

// incoming is a changeset that is being added.
type incoming struct {
	rev *revision
	set *changeset
}

// load reads the lists of what is known.
func (im *importer) load() error {
	files, err := im.list("files", im.at.Files)
	if err != nil {
		return err
	}
	copies, err := im.list("copies", im.at.Copies)
	if err != nil {
		return err
	}
	if im.sets, err = im.manifestsOf(im.at); err != nil {
		return err
	}
	im.copies = copiesIn(copies)
	im.files, im.manifests = map[node]fileRev{}, map[node]node{}
	for len(files) >= 42 {
		size := int(binary.BigEndian.Uint16(files[40:]))
		if len(files) < 42+size {
			return errors.New("the list of files is cut off")
		}
		im.files[node(files[:20])] = fileRev{object.RawID(files[20:40]), string(files[42 : 42+size])}
		files = files[42+size:]
	}
	for set, manifest := range im.sets {
		im.manifests[manifest] = set
	}
	return nil
}

// manifestsOf returns the changesets that the mirror has, each with its manifest.
func (m *mirror) manifestsOf(at mirrorState) (map[node]node, error) {
	list, err := m.list("changesets", at.Sets)
	out := make(map[node]node, len(list)/40)
	for ; len(list) >= 40; list = list[40:] {
		out[node(list[:20])] = node(list[20:40])
	}
	return out, err
}

// copiesIn reads a list of copies: for each the path, and what it is a copy of, each with a zero byte at its end.
func copiesIn(list []byte) map[string][]string {
	out := map[string][]string{}
	for words := bytes.Split(list, []byte{0}); len(words) > 2; words = words[2:] {
		to, from := string(words[0]), string(words[1])
		out[to] = append(out[to], from)
	}
	return out
}

// recorded returns what a file was recorded to be a copy of.
func (m *mirror) recorded(path string) []string {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.copies == nil {
		m.known, m.copies = m.state(), map[string][]string{}
		// A list that is shorter than noted is damaged; then renames are found by their contents.
		if data, err := os.ReadFile(m.file("copies")); err == nil && int64(len(data)) >= m.known.Copies {
			m.copies = copiesIn(data[:m.known.Copies])
		}
	}
	return m.copies[path]
}

// forgetCopies has the list of copies be read again if there are more.
func (m *mirror) forgetCopies(at mirrorState) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.known.Copies != at.Copies {
		m.copies = nil
	}
}

// list reads a list up to a length. What follows is of an interrupted import, or of a process that is importing.
func (m *mirror) list(name string, size int64) ([]byte, error) {
	data, err := os.ReadFile(m.file(name))
	if errors.Is(err, fs.ErrNotExist) && size == 0 {
		return nil, nil
	}
	if err == nil && int64(len(data)) < size {
		return nil, fmt.Errorf("%s is shorter than it was; remove %s, and it is made again", name, m.dir)
	}
	return data[:min(int64(len(data)), size)], err
}

// first returns the number of the first revision that may be new. Stripping renumbers revisions; then all are compared.
func (im *importer) first(ctx context.Context) (int, error) {
	if im.at.Revs < 0 {
		return 0, nil
	}
	if im.tip.rev > im.at.Revs {
		if was, err := im.mirror.tip(ctx, strconv.Itoa(im.at.Revs)); err == nil && was.node == im.at.Tip {
			return im.at.Revs + 1, nil
		}
	}
	out, err := im.hg.run(ctx, "reading the history", "log", "-r", "all()", "-T", "{rev} {node}\n")
	if err != nil {
		return 0, err
	}
	for line := range strings.Lines(out) {
		rev, hex, _ := strings.Cut(strings.TrimSpace(line), " ")
		n, err := parseNode(hex)
		if err != nil {
			return 0, err
		}
		if _, known := im.sets[n]; !known {
			return strconv.Atoi(rev)
		}
	}
	return im.tip.rev + 1, nil
}

// take adds the revisions from a number on.
func (im *importer) take(ctx context.Context, from int) (err error) {
	bundle := im.mirror.file("new.hg")
	defer os.Remove(bundle)
	base := "null"
	if from > 0 {
		base = fmt.Sprintf("heads(0:%d)", from-1)
	}
	os.Remove(bundle) // of an interrupted run
	if _, err := im.hg.run(ctx, "reading the history", "bundle", "--quiet", "--type", "none-v2", "-r",
		fmt.Sprintf("%d:", from), "--base", base, bundle); err != nil {
		return err
	}
	f, err := os.Open(bundle)
	if err != nil {
		return err
	}
	defer f.Close()
	if im.out, err = odb.NewWriter(im.mirror.file("objects")); err != nil {
		return err
	}
	defer func() {
		if err != nil {
			im.out.Drop()
		}
	}()
	im.made = object.NewOverlay(object.SHA1, im.store.With(im.out))
	im.trees, im.texts = map[node]object.ID{}, newTextCache()
	each := func(name string) (func(*revision) error, error) { return im.section(ctx, name) }
	if err := unbundle(f, each); err != nil {
		return fmt.Errorf("reading the history: %w", err)
	}
	if err := im.finish(ctx); err != nil {
		return fmt.Errorf("reading the history: %w", err)
	}
	return im.out.Close()
}

// section returns what reads the revisions of a section.
func (im *importer) section(ctx context.Context, name string) (func(*revision) error, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	switch {
	case name == "changelog" && im.changelog == nil:
		texts := newTextCache()
		im.changelog = []*incoming{}
		return func(r *revision) error {
			text, err := im.text(ctx, texts, r, func(n node) ([]byte, error) { return im.data(ctx, "-c", n) })
			if err != nil {
				return err
			}
			set, err := parseChangeset(text)
			im.changelog = append(im.changelog, &incoming{r, set})
			return err
		}, nil
	case name == "manifests" && im.lists == nil:
		im.lists = []*revision{}
		return func(r *revision) error {
			im.lists = append(im.lists, r)
			return nil
		}, nil
	}
	texts := newTextCache()
	return func(r *revision) error {
		text, err := im.text(ctx, texts, r, func(n node) ([]byte, error) { return im.known(ctx, name, n) })
		if err != nil {
			return err
		}
		meta, content := splitMeta(text)
		blob := object.SHA1.Sum(object.KindBlob, content)
		im.learn(r.node, fileRev{blob, meta})
		if from := copyIn(meta); from != "" && !slices.Contains(im.copies[name], from) {
			im.copies[name] = append(im.copies[name], from)
			im.newCopies = append(im.newCopies, name+"\x00"+from+"\x00"...)
		}
		return im.out.Put(blob, object.KindBlob, content)
	}, nil
}

// text returns the text of a revision and keeps it for later deltas. base reads one that the bundle does not have.
func (im *importer) text(ctx context.Context, texts *textCache, r *revision, base func(n node) ([]byte, error)) ([]byte,
	error) {
	was, ok := texts.get(r.base)
	if !ok && !r.base.null() {
		var err error
		if was, err = base(r.base); err != nil {
			return nil, err
		}
	}
	text, err := patched(was, r.delta)
	if err != nil {
		return nil, err
	}
	texts.put(r.node, text)
	return text, ctx.Err()
}

// known returns the text of a file's revision that was added earlier, or a moment ago and is no longer in memory.
func (im *importer) known(ctx context.Context, path string, n node) ([]byte, error) {
	if f, ok := im.files[n]; ok {
		if data, err := im.made.Blob(ctx, f.blob); err == nil {
			return joinMeta(f.meta, data), nil
		}
	}
	return im.data(ctx, path, n)
}

// data asks hg for the stored text of a revision: of the changelog (-c), the manifest (-m) or a file.
func (m *mirror) data(ctx context.Context, of string, n node) ([]byte, error) {
	args := []string{"debugdata"}
	if of == "-c" || of == "-m" {
		args = append(args, of)
	} else {
		args = append(args, "--", of)
	}
	out, err := m.hg.run(ctx, "reading the history", append(args, n.hex())...)
	return []byte(out), err
}

// learn notes what a file's revision holds.
func (im *importer) learn(n node, f fileRev) {
	if _, known := im.files[n]; known {
		return
	}
	if len(f.meta) >= 1<<16 { // no copy has so long a name
		f.meta = ""
	}
	im.files[n] = f
	im.newFiles = append(append(im.newFiles, n[:]...), f.blob.Raw()...)
	im.newFiles = append(binary.BigEndian.AppendUint16(im.newFiles, uint16(len(f.meta))), f.meta...)
}

// finish makes trees and commits.
func (im *importer) finish(ctx context.Context) error {
	var roots []object.ID
	for _, r := range im.lists {
		tree, err := im.tree(ctx, r)
		if err != nil {
			return err
		}
		if tree.IsZero() { // the manifest is empty
			tree = im.made.PutTree(nil)
		}
		im.trees[r.node], roots = tree, append(roots, tree)
	}
	if err := im.out.PutAll(ctx, im.made, roots...); err != nil {
		return err
	}
	for _, in := range im.changelog {
		tree, err := im.treeOf(ctx, in.set.manifest)
		if err != nil {
			return err
		}
		if err := im.out.Put(in.rev.node.id(), object.KindCommit, commitOf(in, tree).Encode()); err != nil {
			return err
		}
		if _, known := im.sets[in.rev.node]; !known {
			im.sets[in.rev.node] = in.set.manifest
			im.newSets = append(append(im.newSets, in.rev.node[:]...), in.set.manifest[:]...)
		}
	}
	return nil
}

// tree makes the tree of a manifest from the tree of the one that it is a delta on, or of its parent.
func (im *importer) tree(ctx context.Context, r *revision) (object.ID, error) {
	text, err := im.text(ctx, im.texts, r, func(n node) ([]byte, error) { return im.data(ctx, "-m", n) })
	if err != nil {
		return object.ID{}, err
	}
	var on object.ID
	var was []byte
	for _, n := range []node{r.p1, r.base} {
		if n.null() {
			continue
		}
		if old, ok := im.texts.get(n); ok {
			if tree, err := im.treeOf(ctx, n); err == nil {
				was, on = old, tree
				break
			}
		}
	}
	if was == nil && !r.p1.null() { // a tree that is much like it saves most of the work
		if tree, err := im.treeOf(ctx, r.p1); err == nil {
			if was, err = im.data(ctx, "-m", r.p1); err != nil {
				return object.ID{}, err
			}
			im.texts.put(r.p1, was)
			on = tree
		}
	}
	set := map[string]object.Entry{}
	if err := im.changes(was, text, set); err != nil {
		return object.ID{}, err
	}
	return im.made.Edit(ctx, on, set)
}

// changes finds the lines in which two manifests differ.
func (im *importer) changes(was, is []byte, set map[string]object.Entry) error {
	for len(was) > 0 || len(is) > 0 {
		old, oldRest, _ := bytes.Cut(was, []byte("\n"))
		new, newRest, _ := bytes.Cut(is, []byte("\n"))
		if bytes.Equal(old, new) {
			was, is = oldRest, newRest
			continue
		}
		oldPath, _, _ := bytes.Cut(old, []byte{0})
		newPath, _, _ := bytes.Cut(new, []byte{0})
		switch c := bytes.Compare(oldPath, newPath); {
		case len(is) == 0 || len(was) > 0 && c < 0:
			if _, comes := set[string(oldPath)]; !comes {
				set[string(oldPath)] = object.Entry{}
			}
			was = oldRest
			continue
		case len(was) > 0 && c == 0:
			was = oldRest
		}
		f, err := parseFile(new)
		if err != nil {
			return err
		}
		if f.flag == 't' {
			return errors.New("it has manifests as trees, which Dorvik does not read")
		}
		known, ok := im.files[f.node]
		if !ok {
			return fmt.Errorf("%s has the revision %s, which is not there", f.path, f.node.hex())
		}
		if err := checkPath(f.path); err != nil {
			return err
		}
		set[f.path] = object.Entry{Mode: f.mode(), ID: known.blob}
		is = newRest
	}
	return nil
}

// checkPath refuses paths that lead out of a working folder, or into what a version-control system keeps there.
func checkPath(path string) error {
	for name := range strings.SplitSeq(path, "/") {
		if strings.EqualFold(name, ".hg") {
			return fmt.Errorf("it has the path %q, which hg itself would not write", path)
		}
	}
	return object.CheckPath(path)
}

// treeOf returns the tree of a manifest.
func (im *importer) treeOf(ctx context.Context, manifest node) (object.ID, error) {
	if manifest.null() {
		none := im.made.PutTree(nil)
		return none, im.out.Put(none, object.KindTree, nil)
	}
	if tree, ok := im.trees[manifest]; ok {
		return tree, nil
	}
	set, ok := im.manifests[manifest]
	if !ok {
		return object.ID{}, fmt.Errorf("the manifest %s is not there", manifest.hex())
	}
	c, err := im.made.Commit(ctx, set.id())
	if err != nil {
		return object.ID{}, err
	}
	return c.Tree, nil
}

// extraHeader begins the names of headers that hold a changeset's further fields, such as its branch.
const extraHeader = "hg-"

// commitOf translates a changeset.
func commitOf(in *incoming, tree object.ID) *object.Commit {
	who := signatureOf(in.set)
	c := &object.Commit{Tree: tree, AuthorLine: who.String(), Committer: who, Message: in.set.message + "\n"}
	for _, p := range []node{in.rev.p1, in.rev.p2} {
		if !p.null() {
			c.Parents = append(c.Parents, p.id())
		}
	}
	for _, key := range slices.Sorted(maps.Keys(in.set.extra)) {
		if !strings.ContainsAny(key, " \n") {
			c.Extra = append(c.Extra, object.Header{Key: extraHeader + key, Value: in.set.extra[key]})
		}
	}
	return c
}

// close writes the lists and, last, how far the mirror got.
func (im *importer) close() error {
	for _, l := range []struct {
		name string
		data []byte
		size *int64
	}{{"files", im.newFiles, &im.at.Files}, {"changesets", im.newSets, &im.at.Sets}, {"copies", im.newCopies,
		&im.at.Copies}} {
		f, err := os.OpenFile(im.file(l.name), os.O_WRONLY|os.O_CREATE, 0o600)
		if err != nil {
			return fmt.Errorf("storing the history: %w", err)
		}
		if err = f.Truncate(*l.size); err == nil { // of an interrupted import
			_, err = f.WriteAt(l.data, *l.size)
		}
		if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
			return fmt.Errorf("storing the history: %w", err)
		}
		*l.size += int64(len(l.data))
	}
	im.at.Revs, im.at.Tip = im.tip.rev, im.tip.node
	data, err := json.Marshal(im.at)
	if err == nil {
		err = beside.WriteFile(im.mirror.file("state.json"), data)
	}
	im.forgetCopies(im.at)
	return err
}

// textCache keeps the texts that came last.
type textCache struct {
	texts map[node][]byte
	order []node
	bytes int
}

const cachedTexts = 64 << 20 // bytes

func newTextCache() *textCache { return &textCache{texts: map[node][]byte{}} }

func (c *textCache) get(n node) ([]byte, bool) {
	text, ok := c.texts[n]
	return text, ok
}

func (c *textCache) put(n node, text []byte) {
	if _, known := c.texts[n]; known {
		return
	}
	c.texts[n], c.order, c.bytes = text, append(c.order, n), c.bytes+len(text)
	for c.bytes > cachedTexts && len(c.order) > 1 {
		c.bytes -= len(c.texts[c.order[0]])
		delete(c.texts, c.order[0])
		c.order = c.order[1:]
	}
}
