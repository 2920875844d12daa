package hg

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// What a repository can have beside its files: sub-repositories, large files, and files that look otherwise on disk
// than in a changeset. Dorvik names the first, and does not change working folders with the others.

// subFile lists the sub-repositories, a line each: a folder, and where it comes from. stateFile has their changesets.
const (
	subFile   = ".hgsub"
	stateFile = ".hgsubstate"
	largeDir  = ".hglf/"
	eolFile   = ".hgeol"
)

// subsIn returns the folders that a list of sub-repositories names.
func subsIn(text string) (paths []string) {
	for line := range strings.Lines(text) {
		if path, _, ok := strings.Cut(line, "="); ok && !strings.HasPrefix(strings.TrimSpace(line), "#") {
			paths = append(paths, strings.TrimSpace(path))
		}
	}
	return paths
}

// Subs returns the sub-repositories whose changesets differ between two trees.
func (r *changes) Subs(ctx context.Context, store *object.Overlay, from, to object.ID) ([]string, error) {
	was, err := store.Find(ctx, from, stateFile)
	if err != nil {
		return nil, err
	}
	is, err := store.Find(ctx, to, stateFile)
	if err != nil || was.Same(is) {
		return nil, err
	}
	list, err := store.Find(ctx, to, subFile)
	if err != nil || list.Absent() {
		return nil, err
	}
	text, err := store.Text(ctx, list.ID)
	return subsIn(text), err
}

// Unmovable returns why Dorvik does not change the files of the working folder from one tree to another; empty if it
// can.
func (r *changes) Unmovable(ctx context.Context, store *object.Overlay, from, to object.ID) (string, error) {
	filters, err := r.Values(ctx, `^(encode|decode)\.`, true)
	if err != nil {
		return "", err
	}
	for _, f := range filters {
		if f.Value != "" {
			return "Files are converted as they are written here (" + f.Name +
				" in your settings), which Dorvik does not do", nil
		}
	}
	eol, err := store.Find(ctx, to, eolFile)
	if err != nil {
		return "", err
	}
	if !eol.Absent() {
		text, err := store.Text(ctx, eol.ID)
		if err != nil {
			return "", err
		}
		set, err := r.Values(ctx, `^extensions\.(hgext\.)?eol$`, true)
		if err != nil {
			return "", err
		}
		on := slices.ContainsFunc(set, func(s vcs.Setting) bool { return !strings.HasPrefix(s.Value, "!") })
		if on && storesCRLF(text) {
			return "Files have other line ends on disk than in changesets here (.hgeol), which Dorvik does not " +
				"convert", nil
		}
	}
	requires, err := os.ReadFile(filepath.Join(r.own, "requires"))
	if err != nil || !strings.Contains("\n"+string(requires), "\nlargefiles\n") {
		return "", nil //nolint:nilerr // an old repository has no such file
	}
	large := false
	err = store.EachChange(ctx, from, to, func(c object.Change) {
		large = large || strings.HasPrefix(c.Path, largeDir)
	})
	if err != nil || !large {
		return "", err
	}
	return "The join changes large files (the extension largefiles), which Dorvik does not move", nil
}

// storesCRLF reports whether the rules for line ends keep carriage returns in changesets of files that have none on
// disk here: where the line ends of the repository are CRLF.
func storesCRLF(rules string) bool {
	in := ""
	for line := range strings.Lines(rules) {
		line = strings.TrimSpace(line)
		if strings.HasPrefix(line, "[") {
			in = line
		}
		key, value, _ := strings.Cut(line, "=")
		if in == "[repository]" && strings.TrimSpace(key) == "native" && strings.EqualFold(strings.TrimSpace(value),
			"crlf") {
			return true
		}
	}
	return false
}
