package git

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// SetHead points HEAD at a branch or, if to is not zero, at that commit. It writes its reflog.
func (r *Tree) SetHead(ctx context.Context, branch string, to object.ID, message string) error {
	const doing = "moving HEAD"
	if !to.IsZero() {
		_, _, err := r.runIn(ctx, call{doing: doing, hold: r.Hold,
			args: []string{"update-ref", "--no-deref", "-m", message, "HEAD", to.String()}})
		return err
	}
	was, err := r.refs.Current(ctx)
	if err != nil {
		return err
	}
	if was.Name == branch {
		return nil
	}
	if r.refsElsewhere() { // git 2.46 and later can update refs that are in tables
		_, _, err := r.runIn(ctx, call{doing: doing, hold: r.Hold, args: []string{"update-ref", "--no-deref", "-m",
			message, "--stdin"}, stdin: strings.NewReader("symref-update HEAD refs/heads/" + branch + "\n")})
		return err
	}
	tip, err := r.refs.Ref(ctx, "refs/heads/"+branch)
	if err != nil {
		return err
	}
	// Earlier versions have no allowed command for it. The file and its lock are documented in gitrepository-layout.
	head := filepath.Join(r.GitDir, "HEAD")
	f, err := os.OpenFile(head+".lock", os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if errors.Is(err, fs.ErrExist) {
		return &vcs.LockedError{Path: head + ".lock", Err: err}
	}
	if err != nil {
		return fmt.Errorf("%s: %w", doing, err)
	}
	_, err = f.WriteString("ref: refs/heads/" + branch + "\n")
	if err = errors.Join(err, f.Sync(), f.Close()); err == nil {
		err = os.Rename(head+".lock", head)
	}
	if err != nil {
		os.Remove(head + ".lock")
		return fmt.Errorf("%s: %w", doing, err)
	}
	r.logHead(ctx, was.Tip, tip, message)
	return nil
}

// refsElsewhere reports whether HEAD is not in its file.
func (r *Tree) refsElsewhere() bool {
	data, err := os.ReadFile(filepath.Join(r.GitDir, "HEAD"))
	return err != nil || strings.TrimSpace(string(data)) == "ref: refs/heads/.invalid"
}

// logHead appends to the reflog of HEAD, if it exists. Failures are ignored.
func (r *Tree) logHead(ctx context.Context, from, to object.ID, message string) {
	who, err := r.config.Committer(ctx)
	if err != nil {
		return
	}
	f, err := os.OpenFile(filepath.Join(r.GitDir, "logs", "HEAD"), os.O_WRONLY|os.O_APPEND, 0o644)
	if err != nil {
		return
	}
	defer f.Close()
	if who.When == 0 {
		who.When = time.Now().Unix()
	}
	fmt.Fprintf(f, "%s %s %s\t%s\n", from, to, who, message)
}
