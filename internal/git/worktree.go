package git

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/rx"
)

// change runs a command that changes index or files.
func (r *Repo) change(ctx context.Context, doing string, paths []string, args ...string) error {
	c := call{doing: doing, args: args, hold: r.Hold}
	if paths != nil {
		c.stdin = strings.NewReader(strings.Join(paths, "\x00") + "\x00")
	}
	_, _, err := r.runIn(ctx, c)
	return err
}

// SwitchTree takes index and working tree from one tree to another, keeping
// uncommitted work on paths that do not differ between them. With try it only
// tells whether that would succeed. It refuses rather than overwrites.
func (r *Repo) SwitchTree(ctx context.Context, from, to object.ID, try bool) error {
	args := []string{"read-tree", "-m", "-u"}
	if try {
		args = append(args, "-n")
	}
	err := r.change(ctx, "changing the working tree", nil, append(args, from.String(), to.String())...)
	if err != nil && strings.Contains(err.Error(), "index.lock") && strings.Contains(err.Error(), "File exists") {
		return r.locked(ctx, err)
	}
	return err
}

// locked makes a *LockedError of an error that the index's lock was the reason of.
func (r *Repo) locked(ctx context.Context, err error) error {
	lock, lerr := r.Inside(ctx, "index.lock")
	if lerr != nil {
		return err
	}
	return &LockedError{lock, err}
}

// Refresh has the index look again at files that were only touched, so that they do not
// count as changed. Files that are changed stay so.
func (r *Repo) Refresh(ctx context.Context) error {
	err := r.change(ctx, "reading the working tree", nil, "update-index", "-q", "--refresh")
	if code(err) == 1 {
		return nil // some are changed, which is no failure
	}
	if lock, lerr := r.Inside(ctx, "index.lock"); err != nil && lerr == nil {
		if _, serr := os.Lstat(lock); serr == nil {
			return &LockedError{lock, err}
		}
	}
	return err
}

// inTheWay is what git says of a lock that is there.
var inTheWay = rx.New(`Unable to create '([^'\n]+\.lock)': File exists`)

// lockedBy makes a *LockedError of the error of a command that met a lock; any other stays as it is.
func lockedBy(err error, said string) error {
	if m := inTheWay.FindStringSubmatch(said); err != nil && m != nil {
		return &LockedError{m[1], err}
	}
	return err
}

// LockedError says that another git has the index, or a ref, or died while it had.
type LockedError struct {
	Path string
	Err  error
}

func (e *LockedError) Error() string {
	return fmt.Sprintf("another git is at work in this repository, or died at it: %s is there. Wait until it has "+
		"ended; if none runs, remove that file and try again. Nothing was changed", e.Path)
}

func (e *LockedError) Unwrap() error { return e.Err }

// Restore writes files as the index has them.
func (r *Repo) Restore(ctx context.Context, paths []string) error {
	if len(paths) == 0 {
		return nil
	}
	return r.change(ctx, "putting files back", paths, "checkout-index", "--force", "--quiet", "-z", "--stdin")
}

// Indexed gives all that the index has, by path; what is not merged has no mode. Cost follows
// the size of the index.
func (r *Repo) Indexed(ctx context.Context) (map[string]object.Entry, error) {
	out, err := r.run(ctx, "reading the index", "ls-files", "--stage", "-z")
	if err != nil {
		return nil, err
	}
	all := map[string]object.Entry{}
	for rec := range strings.SplitSeq(out, "\x00") {
		head, path, ok := strings.Cut(rec, "\t")
		f := strings.Fields(head)
		if !ok || len(f) != 3 {
			continue
		}
		mode, err := strconv.ParseUint(f[0], 8, 32)
		if err != nil {
			return nil, fmt.Errorf("reading the index: git answered %q", rec)
		}
		id, err := object.ParseID(f[1])
		if err != nil {
			return nil, fmt.Errorf("reading the index: %w", err)
		}
		e := object.Entry{Mode: object.Mode(mode), ID: id}
		if f[2] != "0" {
			e.Mode = 0
		}
		all[path] = e
	}
	return all, nil
}

// Hidden lists the paths that git was told not to look at: marked skip-worktree or assume-unchanged. Cost follows the
// size of the index.
func (r *Repo) Hidden(ctx context.Context) (map[string]bool, error) {
	out, err := r.run(ctx, "reading the index", "ls-files", "-v", "-z")
	if err != nil {
		return nil, err
	}
	hidden := map[string]bool{}
	for rec := range strings.SplitSeq(out, "\x00") {
		tag, path, ok := strings.Cut(rec, " ")
		if ok && (tag == "S" || tag == strings.ToLower(tag)) {
			hidden[path] = true
		}
	}
	return hidden, nil
}

// AsWritten gives the bytes that git writes to a file for a blob, attributes and settings
// considered.
func (r *Repo) AsWritten(ctx context.Context, path string, blob object.ID) ([]byte, error) {
	if strings.Contains(path, "\n") {
		_, data, err := r.Read(blob) // there is no way to name such a path
		return data, err
	}
	out, _, err := r.runIn(ctx, call{doing: "reading " + path, args: []string{"cat-file", "--batch", "--filters"},
		stdin: strings.NewReader(blob.String() + " " + path + "\n")})
	if err != nil {
		return nil, err
	}
	head, rest, ok := strings.Cut(string(out), "\n")
	f := strings.Fields(head)
	if !ok || len(f) != 3 || len(rest) == 0 {
		return nil, fmt.Errorf("reading %s: git answered %q", path, head)
	}
	return []byte(rest[:len(rest)-1]), nil
}

// PackFolder is the folder in the git directory in which packs are made. What is in it while
// none is being made was left by a run that was cut off.
const PackFolder = "dorvik/pack"

// writer is a function as an io.Writer.
type writer func(b []byte) (int, error)

func (w writer) Write(b []byte) (int, error) { return w(b) }

// until writes to another writer until it is cancelled.
func until(ctx context.Context, to io.Writer) io.Writer {
	return writer(func(b []byte) (int, error) {
		if err := ctx.Err(); err != nil {
			return 0, err
		}
		return to.Write(b)
	})
}

// AddPack hands over a pack, as write writes it. write gives the number of objects in it; 0
// for no pack at all. The pack is made and indexed in a folder of Dorvik's own, and
// is in the repository from one moment to the next, or not at all. A .keep file
// holds git gc off objects that no ref leads to yet, until LetPacksGo.
func (r *Repo) AddPack(ctx context.Context, write func(w io.Writer) (int, error)) (err error) {
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
	// git looks for packs by their indexes, so that goes last.
	for _, end := range []string{".pack", ".idx"} {
		if err := os.Rename(filepath.Join(dir, "new"+end), filepath.Join(into, "pack-"+name+end)); err != nil {
			return err
		}
	}
	return syncDir(into)
}

// keepPack makes a .keep file, unless somebody keeps that pack already.
func (r *Repo) keepPack(file string) error {
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

// keepMark is the text of a .keep file made for this working tree.
func (r *Repo) keepMark() string { return "dorvik " + r.GitDir + "\n" }

// LetPacksGo removes the .keep files that AddPack made for this working tree. Call it
// when refs lead to all that is to stay.
func (r *Repo) LetPacksGo(ctx context.Context) {
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

// syncDir has the system keep what was renamed into a folder.
func syncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	if err := d.Sync(); err != nil && !errors.Is(err, os.ErrInvalid) {
		return err
	}
	return nil
}
