package git

import (
	"context"
	"os"
	"path/filepath"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// Names lists branches, remote-tracking branches and tags that name commits, except the HEADs of remotes.
func (r *Refs) Names(ctx context.Context) ([]vcs.Named, error) {
	out, err := r.run(ctx, "reading the branches and tags", "for-each-ref",
		"--format=%(refname)%00%(refname:lstrip=2)%00%(objecttype)%00%(objectname)%00"+
			"%(*objecttype)%00%(*objectname)%00%(symref)",
		"refs/heads", "refs/remotes", "refs/tags")
	if err != nil {
		return nil, err
	}
	list, err := r.config.allSettings(ctx)
	if err != nil {
		return nil, err
	}
	var all []vcs.Named
	for line := range strings.Lines(out) {
		f := strings.Split(strings.TrimSuffix(line, "\n"), "\x00")
		if len(f) != 7 || f[6] != "" {
			continue
		}
		kind, id := f[2], f[3]
		if kind == "tag" {
			kind, id = f[4], f[5]
		}
		if kind != "commit" {
			continue
		}
		n := vcs.Named{Name: f[1], Full: f[0]}
		if n.Commit, err = object.ParseID(id); err != nil {
			return nil, err
		}
		if n.Object, err = object.ParseID(f[3]); err != nil {
			return nil, err
		}
		n.Remote, n.Ref = sourceOf(list, n.Full)
		all = append(all, n)
	}
	return all, nil
}

// GraphFiles returns the contents of the repository's commit-graph, oldest part first. It returns none if git would
// not use it: in a shallow clone, with replaced commits, or because of core.commitGraph. The paths are documented in
// gitformat-commit-graph.
func (r *Refs) GraphFiles(ctx context.Context) [][]byte {
	if r.Shallow {
		return nil
	}
	if on, err := r.config.Config(ctx, "core.commitGraph"); err != nil || on == "false" {
		return nil
	}
	if out, err := r.run(ctx, "looking for replaced objects", "for-each-ref", "--count=1",
		"refs/replace"); err != nil ||
		out != "" {
		return nil
	}
	dir, err := r.Inside(ctx, "objects/info")
	if err != nil {
		return nil
	}
	if data, err := os.ReadFile(filepath.Join(dir, "commit-graph")); err == nil {
		return [][]byte{data}
	}
	chain, err := os.ReadFile(filepath.Join(dir, "commit-graphs", "commit-graph-chain"))
	if err != nil {
		return nil
	}
	var files [][]byte
	for _, name := range strings.Fields(string(chain)) {
		data, err := os.ReadFile(filepath.Join(dir, "commit-graphs", "graph-"+name+".graph"))
		if err != nil {
			return nil // the file is being replaced
		}
		files = append(files, data)
	}
	return files
}

// CheckedOut returns the folder in which a branch is checked out, or an empty string.
func (r *Refs) CheckedOut(ctx context.Context, branch string) (dir string, err error) {
	out, err := r.run(ctx, "looking where "+branch+" is checked out", "for-each-ref", "--format=%(worktreepath)",
		"refs/heads/"+branch)
	return strings.TrimSuffix(out, "\n"), err
}
