package recovery

import (
	"context"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/core/attr"
	"dorvik.dev/dorvik/internal/core/merge"
)

// attributes reads the gitattributes files that are in no tree: the user's, which
// count least, and the repository's own, which count most.
func (w *Workspace) attributes(ctx context.Context) (below, above *attr.Rules) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if !w.outside.known {
		below, above := w.readAttributes(ctx)
		if ctx.Err() != nil {
			return nil, nil // cancelled: the join ends, and the next one asks again
		}
		w.outside = outsideAttributes{true, below, above}
	}
	return w.outside.below, w.outside.above
}

// outsideAttributes are the gitattributes files that are in no tree.
type outsideAttributes struct {
	known        bool
	below, above *attr.Rules
}

func (w *Workspace) readAttributes(ctx context.Context) (below, above *attr.Rules) {
	read := func(path string) *attr.Rules {
		data, err := os.ReadFile(path)
		if err != nil {
			return nil
		}
		return attr.Parse(string(data))
	}
	users, err := w.Repo.ConfigPath(ctx, "core.attributesFile")
	if err != nil || users == "" {
		dir := os.Getenv("XDG_CONFIG_HOME")
		if dir == "" {
			dir = filepath.Join(os.Getenv("HOME"), ".config")
		}
		users = filepath.Join(dir, "git", "attributes")
	}
	own, err := w.Repo.Inside(ctx, "info/attributes")
	if err != nil {
		return read(users), nil
	}
	return read(users), read(own)
}

// drive runs a merge driver that the user's configuration defines and the user has
// agreed to.
func (w *Workspace) drive(ctx context.Context, name, path string, base, yours, theirs []byte,
	markerSize int) ([]byte, merge.DriverOutcome, error) {
	command, err := w.Repo.Config(ctx, "merge."+name+".driver")
	if err != nil || command == "" || strings.ContainsAny(name, "\n\x00") {
		return nil, merge.NotDefined, nil
	}
	d, err := w.driver(ctx, name, command)
	if err != nil {
		return nil, merge.NotDefined, err
	}
	// The person's own yes is to the command: not to files of the repository that it names, which others can change.
	if (len(d.With) > 0 || !w.ownYes(ctx, "dorvik."+name+".agreed")) && (w.agreed == nil || !w.agreed(d.String())) {
		return nil, merge.NotAgreed, nil
	}
	joined, ok, err := check.Drive(ctx, w.driverLimit, w.Repo.Dir, command, path, markerSize, base, yours, theirs)
	if err != nil || !ok {
		return nil, merge.Undriven, err
	}
	return joined, merge.Driven, nil
}

// MergeDriver is a merge driver of the user's configuration.
type MergeDriver struct {
	Name, Command string
	With          []string // files of the repository that it names, and that these name: "<id> <path>"
}

// String is by which a driver is agreed to: with another command, or other files, it is another.
func (d MergeDriver) String() string {
	return strings.Join(append([]string{"merge driver " + d.Name + ": " + d.Command}, d.With...), "\nwith ")
}

// Files are the paths of those that it names.
func (d MergeDriver) Files() (paths []string) {
	for _, with := range d.With {
		_, path, _ := strings.Cut(with, " ")
		paths = append(paths, path)
	}
	return paths
}

// driver is a merge driver with the files that it names, as they are in the working tree.
func (w *Workspace) driver(ctx context.Context, name, command string) (d MergeDriver, err error) {
	d = MergeDriver{Name: name, Command: command}
	holds, err := w.namedBy(ctx, command)
	for _, path := range slices.Sorted(maps.Keys(holds)) {
		d.With = append(d.With, w.idOf(holds[path]).String()+" "+w.within(path))
	}
	return d, err
}

// Unagreed lists the merge drivers that a join would have run, had they been agreed to.
func (w *Workspace) Unagreed(ctx context.Context, j *Join) ([]MergeDriver, error) {
	var out []MergeDriver
	for _, r := range j.Remarks() {
		if r.Driver == "" || slices.ContainsFunc(out, func(d MergeDriver) bool { return d.Name == r.Driver }) {
			continue
		}
		command, err := w.Repo.Config(ctx, "merge."+r.Driver+".driver")
		if err != nil {
			return nil, err
		}
		d, err := w.driver(ctx, r.Driver, command)
		if err != nil {
			return nil, err
		}
		out = append(out, d)
	}
	return out, nil
}
