package prove

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
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/plan"
)

// Attributes returns the gitattributes rules outside of trees: the user's, which are weakest, and the repository's,
// which are strongest.
func (dr *Drivers) Attributes(ctx context.Context) (below, above *attr.Rules) {
	dr.mu.Lock()
	defer dr.mu.Unlock()
	if !dr.outside.known {
		below, above := dr.readAttributes(ctx)
		if ctx.Err() != nil {
			return nil, nil // cancelled: the next join asks again
		}
		dr.outside = outsideAttributes{true, below, above}
	}
	return dr.outside.below, dr.outside.above
}

// outsideAttributes caches these rules.
type outsideAttributes struct {
	known        bool
	below, above *attr.Rules
}

func (dr *Drivers) readAttributes(ctx context.Context) (below, above *attr.Rules) {
	read := func(path string) *attr.Rules {
		data, err := os.ReadFile(path)
		if err != nil {
			return nil
		}
		return attr.Parse(string(data))
	}
	users, err := dr.Repo.ConfigPath(ctx, "core.attributesFile")
	if err != nil || users == "" {
		dir := os.Getenv("XDG_CONFIG_HOME")
		if dir == "" {
			dir = filepath.Join(os.Getenv("HOME"), ".config")
		}
		users = filepath.Join(dir, "git", "attributes")
	}
	own, err := dr.Repo.Inside(ctx, "info/attributes")
	if err != nil {
		return read(users), nil
	}
	return read(users), read(own)
}

// Drive runs a merge driver from the configuration, if the person agreed to it.
func (dr *Drivers) Drive(ctx context.Context, name, path string, base, yours, theirs []byte,
	markerSize int) ([]byte, merge.DriverOutcome, error) {
	command, err := dr.Repo.Config(ctx, "merge."+name+".driver")
	if err != nil || command == "" || strings.ContainsAny(name, "\n\x00") {
		return nil, merge.NotDefined, nil
	}
	d, err := dr.driver(ctx, name, command)
	if err != nil {
		return nil, merge.NotDefined, err
	}
	// The person's own setting permits the command, but not files of the repository that it names: others can change
	// those.
	if (len(d.With) > 0 || !dr.ownYes(ctx, "dorvik."+name+".agreed")) && (dr.Agreed == nil || !dr.Agreed(d.String())) {
		return nil, merge.NotAgreed, nil
	}
	joined, ok, err := check.Drive(ctx, dr.Limit, dr.Repo.Where().Dir, command, path, markerSize, base, yours, theirs)
	if err != nil || !ok {
		return nil, merge.Undriven, err
	}
	return joined, merge.Driven, nil
}

// MergeDriver is a merge driver from the configuration.
type MergeDriver struct {
	Name, Command string
	With          []string // files of the repository that it names, directly or indirectly: "<id> <path>"
}

// String returns the text by which the driver is agreed to: its command and the files it mentions.
func (d MergeDriver) String() string {
	return strings.Join(append([]string{"merge driver " + d.Name + ": " + d.Command}, d.With...), "\nwith ")
}

// Files returns the paths of the files that the driver mentions.
func (d MergeDriver) Files() (paths []string) {
	for _, with := range d.With {
		_, path, _ := strings.Cut(with, " ")
		paths = append(paths, path)
	}
	return paths
}

// driver returns a merge driver with the files it mentions.
func (dr *Drivers) driver(ctx context.Context, name, command string) (d MergeDriver, err error) {
	d = MergeDriver{Name: name, Command: command}
	holds, err := dr.NamedBy(ctx, command)
	for _, path := range slices.Sorted(maps.Keys(holds)) {
		d.With = append(d.With, dr.IdOf(holds[path]).String()+" "+dr.within(path))
	}
	return d, err
}

// Unagreed returns the merge drivers that a join would run if the person agreed.
func (dr *Drivers) Unagreed(ctx context.Context, j *plan.Join) ([]MergeDriver, error) {
	var out []MergeDriver
	for _, r := range j.Remarks() {
		if r.Driver == "" || slices.ContainsFunc(out, func(d MergeDriver) bool { return d.Name == r.Driver }) {
			continue
		}
		command, err := dr.Repo.Config(ctx, "merge."+r.Driver+".driver")
		if err != nil {
			return nil, err
		}
		d, err := dr.driver(ctx, r.Driver, command)
		if err != nil {
			return nil, err
		}
		out = append(out, d)
	}
	return out, nil
}

// IdOf returns the blob id of a text.
func (dr *Drivers) IdOf(text string) object.ID {
	return dr.Planner.Store.Format().Sum(object.KindBlob, []byte(text))
}

// NamedBy returns the working tree files that a text mentions, directly or through others, with their content.
func (dr *Drivers) NamedBy(ctx context.Context, text string) (holds map[string]string, err error) {
	holds = map[string]string{}
	b, err := dr.Repo.Current(ctx)
	if err != nil || b.Tip.IsZero() {
		return holds, err
	}
	tree, err := dr.Planner.Tree(ctx, b.Tip)
	if err != nil {
		return nil, err
	}
	naming, err := dr.naming(ctx, tree)
	if err != nil {
		return nil, err
	}
	var todo []string
	found := func(name string) { todo = append(todo, filepath.Join(dr.Repo.Where().Dir, filepath.FromSlash(name))) }
	naming.In(text, found)
	for len(todo) > 0 {
		path := todo[0]
		todo = todo[1:]
		if _, ok := holds[path]; ok {
			continue
		}
		if data, err := os.ReadFile(path); err == nil {
			holds[path] = string(data)
			naming.In(string(data), found)
		}
	}
	return holds, nil
}

// within returns a path relative to the working tree.
func (dr *Drivers) within(path string) string {
	rel, err := filepath.Rel(dr.Repo.Where().Dir, path)
	if err != nil {
		return path
	}
	return filepath.ToSlash(rel)
}

// naming returns a matcher for the file names of a tree. It is cached.
func (dr *Drivers) naming(ctx context.Context, tree object.ID) (*check.Naming, error) {
	dr.mu.Lock()
	defer dr.mu.Unlock()
	if dr.names.of != nil && dr.names.in == tree {
		return dr.names.of, nil
	}
	var paths []string
	err := dr.Planner.Store.EachChange(ctx, object.ID{}, tree, func(c object.Change) {
		if fileKind(c.New, c.Path) != check.Inert {
			paths = append(paths, c.Path)
		}
	})
	if err == nil {
		dr.names.in, dr.names.of = tree, check.NewNaming(paths)
	}
	return dr.names.of, err
}
