package git

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/odb"
	"dorvik.dev/dorvik/internal/vcs"
)

// Objects reads and stores objects.
type Objects struct {
	*Place
	known atomic.Bool // the object format is known
	store *odb.Store  // nil if git reads all objects
	pool  *pool       // git processes for objects that the store does not read
}

// openStore opens the objects for reading without git. It returns nil if only git can read them: with replaced objects
// (git-replace) or an unknown storage.
func (r *Objects) openStore() *odb.Store {
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

// Close ends the reading processes.
func (r *Objects) Close() { r.pool.close() }

// Read implements object.Reader. It asks git for objects that it does not find, because a partial clone may have to
// fetch them.
func (r *Objects) Read(ctx context.Context, id object.ID) (kind object.Kind, data []byte, err error) {
	if r.store != nil {
		if kind, data, err = r.store.Read(id); err == nil {
			return kind, data, nil
		}
	}
	if !r.known.Load() {
		return 0, nil, fmt.Errorf("object %s: %w", id, errEarly)
	}
	stopped := r.pool.with(ctx, func(b *batch) { kind, data, err = b.read(ctx, id) })
	if stopped != nil {
		return 0, nil, stopped
	}
	return kind, data, err
}

// ReadMany implements object.ManyReader.
func (r *Objects) ReadMany(ctx context.Context, ids []object.ID, each func(id object.ID, kind object.Kind,
	data []byte)) {
	if r.store != nil {
		if ids = r.store.ReadMany(ids, each); len(ids) == 0 {
			return
		}
	}
	if !r.known.Load() {
		return
	}
	_ = r.pool.with(ctx, func(b *batch) { b.readMany(ctx, ids, each) }) // what is not read ahead is read later
}

// reading prepares to read objects.
func (r *Objects) reading() {
	r.pool = newPool(r)
	r.store = r.openStore()
}

// Keep stores in-memory commits in the repository with all that they need.
func (r *Objects) Keep(ctx context.Context, made *object.Overlay, tips ...object.ID) error {
	return r.AddPack(ctx, func(w io.Writer) (int, error) { return made.WritePack(ctx, w, tips...) })
}

// AddPack stores a pack. write writes it and returns its number of objects, or 0 for no pack. The pack is written and
// indexed in a directory of Dorvik's and then moved into the repository atomically. A .keep file protects its objects
// from git gc until LetPacksGo.
func (r *Objects) AddPack(ctx context.Context, write func(w io.Writer) (int, error)) (err error) {
	const doing = "storing the joined commits"
	defer func() {
		var known *Error
		if err != nil && !errors.As(err, &known) && ctx.Err() == nil {
			err = fmt.Errorf("%s: %w; nothing was changed", doing, err)
		}
	}()
	into, err := r.Inside(ctx, "objects/pack")
	if err != nil {
		return err
	}
	making, err := r.Inside(ctx, PackFolder)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(making, 0o755); err != nil {
		return err
	}
	dir, err := os.MkdirTemp(making, "")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	pack := filepath.Join(dir, "new.pack")
	f, err := os.OpenFile(pack, os.O_WRONLY|os.O_CREATE, 0o444)
	if err != nil {
		return err
	}
	out := bufio.NewWriterSize(until(ctx, f), 1<<16)
	n, err := write(out)
	if err = errors.Join(err, out.Flush(), f.Sync(), f.Close()); err != nil || n == 0 {
		return err
	}
	name, err := r.run(ctx, doing, "index-pack", pack)
	if err != nil {
		return err
	}
	name = strings.TrimSpace(name)
	if _, err := object.ParseID(name); err != nil {
		return fmt.Errorf("git index-pack answered %q", name)
	}
	if err := os.MkdirAll(into, 0o755); err != nil {
		return err
	}
	if err := r.keepPack(filepath.Join(into, "pack-"+name+".keep")); err != nil {
		return err
	}
	// git finds packs by their indexes, so move the index last.
	for _, end := range []string{".pack", ".idx"} {
		if err := os.Rename(filepath.Join(dir, "new"+end), filepath.Join(into, "pack-"+name+end)); err != nil {
			return err
		}
	}
	return syncDir(into)
}

// keepPack creates a .keep file unless there is one.
func (r *Objects) keepPack(file string) error {
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return nil
	}
	if err == nil {
		_, err = f.WriteString(r.keepMark())
		err = errors.Join(err, f.Close())
	}
	return err
}

// keepMark returns the content of .keep files of this working tree.
func (r *Objects) keepMark() string { return "dorvik " + r.GitDir + "\n" }

// LetPacksGo removes the .keep files of this working tree. Call it when refs protect everything that must stay.
func (r *Objects) LetPacksGo(ctx context.Context) {
	in, err := r.Inside(ctx, "objects/pack")
	if err != nil {
		return
	}
	files, _ := filepath.Glob(filepath.Join(in, "pack-*.keep")) // the pattern is well formed
	for _, file := range files {
		if text, err := os.ReadFile(file); err == nil && string(text) == r.keepMark() {
			os.Remove(file)
		}
	}
}

// Loose returns the unreachable ones of some commits, in their order, with their unreachable ancestors.
func (r *Objects) Loose(ctx context.Context, ids []object.ID) (loose []object.ID, err error) {
	if len(ids) == 0 {
		return nil, nil
	}
	args := []string{"rev-list", "--ignore-missing", "--topo-order"}
	for _, id := range ids {
		args = append(args, id.String())
	}
	out, err := r.run(ctx, "looking for commits on no branch", append(args, "--not", "--all", "HEAD")...)
	if err != nil {
		return nil, err
	}
	for line := range strings.Lines(out) {
		id, err := object.ParseID(strings.TrimSpace(line))
		if err != nil {
			return nil, err
		}
		loose = append(loose, id)
	}
	return loose, nil
}

// Signature lets git check a commit's signature. rev-list, which does it, ignores settings: it runs gpg or gpgsm, and
// reports N for other signatures.
func (r *Objects) Signature(ctx context.Context, id object.ID) (vcs.Signed, error) {
	out, err := r.run(ctx, "checking a signature", "rev-list", "--no-walk", "--no-commit-header", "--format=%G?%x00%GS",
		id.String())
	grade, by, _ := strings.Cut(strings.TrimSuffix(out, "\n"), "\x00")
	return vcs.Signed{Grade: grade, By: by}, err
}

// PackFolder is the directory in the git directory in which packs are made. Files in it without a session are
// leftovers.
const PackFolder = "dorvik/pack"

// until returns a writer that fails when the context ends.
func until(ctx context.Context, to io.Writer) io.Writer {
	return writer(func(b []byte) (int, error) {
		if err := ctx.Err(); err != nil {
			return 0, err
		}
		return to.Write(b)
	})
}

// writer is a function as an io.Writer.
type writer func(b []byte) (int, error)

func (w writer) Write(b []byte) (int, error) { return w(b) }

// errEarly reports that an object is not in the local files and git cannot be asked yet.
var errEarly = errors.New("git has not said yet what the repository is")
