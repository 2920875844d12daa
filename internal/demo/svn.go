package demo

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/svn"
)

// svnLine is the folder of the repository that is checked out.
const svnLine = "trunk"

// svnRemote makes a repository of Subversion with a revision for each commit up to a tip.
func svnRemote(ctx context.Context, o *object.Overlay, dir string, tip object.ID) error {
	chain, err := chainTo(ctx, o, tip)
	if err != nil {
		return err
	}
	var dump bytes.Buffer
	dump.WriteString("SVN-fs-dump-format-version: 2\n\n")
	before := object.ID{}
	for i, id := range chain {
		c, err := o.Commit(ctx, id)
		if err != nil {
			return err
		}
		if err := dumpRevision(ctx, o, &dump, i+1, c, before); err != nil {
			return err
		}
		before = c.Tree
	}
	if err := os.MkdirAll(filepath.Dir(dir), 0o755); err != nil {
		return err
	}
	if err := run(ctx, nil, "svnadmin", "create", dir); err != nil {
		return err
	}
	return run(ctx, &dump, "svnadmin", "load", "--quiet", dir)
}

// chainTo lists the commits up to a tip, the oldest first.
func chainTo(ctx context.Context, o *object.Overlay, tip object.ID) (chain []object.ID, err error) {
	for id := tip; !id.IsZero(); {
		chain = append([]object.ID{id}, chain...)
		c, err := o.Commit(ctx, id)
		if err != nil {
			return nil, err
		}
		if id = (object.ID{}); len(c.Parents) > 0 {
			id = c.Parents[0]
		}
	}
	return chain, nil
}

// dumpRevision writes a commit as a revision (dump format 2, notes/dump-load-format.txt of Subversion).
func dumpRevision(ctx context.Context, o *object.Overlay, dump *bytes.Buffer, n int, c *object.Commit,
	before object.ID) error {
	props := block("svn:author", c.Author().Name, "svn:date",
		time.Unix(c.Committer.When, 0).UTC().Format("2006-01-02T15:04:05.000000Z"), "svn:log", c.Text())
	fmt.Fprintf(dump, "Revision-number: %d\nProp-content-length: %d\nContent-length: %[2]d\n\n%[3]s\n", n, len(props),
		props)
	made := map[string]bool{}
	folder := func(path string) {
		made[path] = true
		fmt.Fprintf(dump, "Node-path: %s\nNode-kind: dir\nNode-action: add\n\n\n", path)
	}
	if before.IsZero() {
		folder(svnLine)
	}
	var failed error
	err := o.EachChange(ctx, before, c.Tree, func(ch object.Change) {
		data, err := o.Blob(ctx, ch.New.ID)
		if err != nil {
			failed = err
			return
		}
		at := svnLine
		parts := strings.Split(ch.Path, "/")
		for _, part := range parts[:len(parts)-1] {
			at += "/" + part
			e, err := o.Find(ctx, before, strings.TrimPrefix(at, svnLine+"/"))
			if err != nil {
				failed = err
			} else if e.Absent() && !made[at] {
				folder(at)
			}
		}
		action := "change"
		if ch.Old.Absent() {
			action = "add"
		}
		fmt.Fprintf(dump, "Node-path: %s/%s\nNode-kind: file\nNode-action: %s\nText-content-length: %d\n"+
			"Content-length: %[4]d\n\n%s\n\n", svnLine, ch.Path, action, len(data), data)
	})
	if err == nil {
		err = failed
	}
	return err
}

// block is a block of properties.
func block(pairs ...string) string {
	out := ""
	for i := 0; i < len(pairs); i += 2 {
		out += fmt.Sprintf("K %d\n%s\nV %d\n%s\n", len(pairs[i]), pairs[i], len(pairs[i+1]), pairs[i+1])
	}
	return out + "PROPS-END\n"
}

// svnClone checks out what a person has seen, with a change list for each commit on top.
func svnClone(ctx context.Context, o *object.Overlay, c cloneOf, remote string) error {
	seen, err := chainTo(ctx, o, c.seen)
	if err != nil {
		return err
	}
	url := "file://" + filepath.ToSlash(remote) + "/" + svnLine
	if err := run(ctx, nil, "svn", "checkout", "--quiet", "-r", fmt.Sprint(len(seen)), url, c.folder); err != nil {
		return err
	}
	all, err := chainTo(ctx, o, c.tip)
	if err != nil {
		return err
	}
	texts := map[string]string{}
	for _, id := range all[len(seen):] {
		if err := changeList(ctx, o, c.folder, id, texts); err != nil {
			return err
		}
	}
	return inSvn(ctx, c.folder, func(r *svn.Repo) error {
		if err := r.SetNotes(svn.Notes{Texts: texts}); err != nil {
			return err
		}
		if err := r.SetConfig(ctx, "dorvik.username", c.who.Name); err != nil {
			return err
		}
		return r.SetConfig(ctx, "dorvik.builds", filepath.Join("..", "builds"))
	})
}

// changeList writes what a commit changes, and puts it into a change list of its subject.
func changeList(ctx context.Context, o *object.Overlay, dir string, id object.ID, texts map[string]string) error {
	c, err := o.Commit(ctx, id)
	if err != nil {
		return err
	}
	parent, err := o.Commit(ctx, c.Parents[0])
	if err != nil {
		return err
	}
	changes, err := o.Changes(ctx, parent.Tree, c.Tree)
	if err != nil {
		return err
	}
	args := []string{"changelist", "--quiet", c.Subject()}
	for _, ch := range changes {
		data, err := o.Blob(ctx, ch.New.ID)
		if err != nil {
			return err
		}
		full := filepath.Join(dir, filepath.FromSlash(ch.Path))
		if err := os.WriteFile(full, data, 0o644); err != nil {
			return err
		}
		if ch.Old.Absent() {
			if err := run(ctx, nil, "svn", "add", "--quiet", full); err != nil {
				return err
			}
		}
		args = append(args, full)
	}
	texts[c.Subject()] = c.Text()
	return run(ctx, nil, "svn", args...)
}

// run runs a program of Subversion.
func run(ctx context.Context, in *bytes.Buffer, name string, args ...string) error {
	cmd := exec.CommandContext(ctx, name, args...)
	if in != nil {
		cmd.Stdin = in
	}
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%s %s: %w: %s", name, args[0], err, bytes.TrimSpace(out))
	}
	return nil
}

// inSvn opens a working copy for a moment.
func inSvn(ctx context.Context, dir string, do func(r *svn.Repo) error) error {
	r, err := svn.Open(ctx, dir)
	if err != nil {
		return err
	}
	defer r.Close()
	return do(r)
}
