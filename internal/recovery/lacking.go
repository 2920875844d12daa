package recovery

import (
	"bytes"
	"context"
	"fmt"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/attr"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/git"
	"dorvik.dev/dorvik/internal/words"
)

// laidOut is a checkout of the check's with what it lacks, as sentences: a check that fails may fail for that.
type laidOut struct {
	*git.Checkout
	lacks   []string
	install string // the command that installs what the project depends on, where that is not there; or empty
}

// furnish brings submodules into the checkout of a check, and says in what it is not as a working tree should be.
func (s *Session) furnish(ctx context.Context, co *git.Checkout, tree object.ID, emit func(line string)) (*laidOut,
	error) {
	out := &laidOut{Checkout: co}
	empty, err := s.Repo.FillSubmodules(ctx, co)
	if err != nil {
		return nil, err
	}
	for _, p := range empty {
		out.lacks = append(out.lacks, fmt.Sprintf("the submodule %s, or its commit, is not in your working tree: the "+
			"check runs without it (“git submodule update --init %[1]s” brings it)", p))
	}
	unfiltered, err := s.unfiltered(ctx, co, tree)
	if err != nil {
		return nil, err
	}
	out.lacks = append(out.lacks, unfiltered...)
	lack, command, err := s.notInstalled(co.Dir, tree)
	if err != nil {
		return nil, err
	}
	if out.install = command; lack != "" {
		out.lacks = append(out.lacks, lack)
	}
	for _, l := range out.lacks {
		emit("dorvik: " + l)
	}
	sparse, err := s.Repo.Flag(ctx, "core.sparseCheckout")
	if err == nil && sparse {
		emit("dorvik: your working tree is sparse; the check has all files")
	}
	return out, err
}

// pointer is how the text begins that stands for a large file which is kept elsewhere.
var pointer = []byte("version https://")

// mostPointer is how long such a text can be, in bytes.
const mostPointer = 1024

// unfiltered tells of files that a filter is to make of what is stored, and which are in a checkout as they are stored:
// the filter is not set up, or was told to leave them, or what they stand for could not be had.
func (s *Session) unfiltered(ctx context.Context, co *git.Checkout, tree object.ID) (out []string, err error) {
	rules, files := map[string]*attr.Rules{}, []string(nil)
	filters := false
	if err := s.Store.EachChange(object.ID{}, tree, func(c object.Change) {
		if !c.New.Mode.IsRegular() {
			return
		}
		files = append(files, c.Path)
		if path.Base(c.Path) != ".gitattributes" {
			return
		}
		if text, err := s.Store.Blob(c.New.ID); err == nil && bytes.Contains(text, []byte("filter=")) {
			filters = true
		}
	}); err != nil || !filters {
		return nil, err
	}
	for _, f := range files {
		if path.Base(f) == ".gitattributes" {
			text, _, err := s.TextAt(tree, f)
			if err != nil {
				return nil, err
			}
			rules[path.Dir(f)] = attr.Parse(text)
		}
	}
	set, err := s.Repo.Values(ctx, `^filter\..*\.(smudge|process)$`, true)
	if err != nil {
		return nil, err
	}
	ready := map[string]bool{}
	for _, one := range set {
		ready[strings.TrimSuffix(strings.TrimPrefix(one.Name, "filter."), path.Ext(one.Name))] = true
	}
	below, above := s.attributes(ctx)
	missing, pointers := map[string][]string{}, []string(nil)
	for _, f := range files {
		name := attr.Of(scopes(rules, f, below, above), f)["filter"].Text
		switch {
		case name == "":
		case !ready[name]:
			missing[name] = append(missing[name], f)
		case isPointer(filepath.Join(co.Dir, filepath.FromSlash(f))):
			pointers = append(pointers, f)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(missing)) {
		n := len(missing[name])
		out = append(out, fmt.Sprintf("%s kept by the filter “%s”, which is not set up here: the check has what is "+
			"stored in %s place (%s)", words.Count(n, "file is", "files are"), name, words.Is(n, "its", "their"),
			words.List(words.Some(missing[name], 2))))
	}
	if n := len(pointers); n > 0 {
		out = append(out, fmt.Sprintf("%s kept: the check has the %s (%s)",
			words.Count(n, "large file is not here but as a pointer to where it is",
				"large files are not here but as pointers to where they are"),
			words.Is(n, "pointer", "pointers"), words.List(words.Some(pointers, 2))))
	}
	return out, nil
}

// scopes are the rules that hold for a file, the weakest first.
func scopes(rules map[string]*attr.Rules, file string, below, above *attr.Rules) (out []attr.Scope) {
	add := func(dir string, r *attr.Rules) {
		if r != nil {
			out = append(out, attr.Scope{Dir: dir, File: r})
		}
	}
	add("", above)
	for dir := path.Dir(file); dir != "."; dir = path.Dir(dir) {
		add(dir, rules[dir])
	}
	add("", rules["."])
	add("", below)
	slices.Reverse(out)
	return out
}

// isPointer reports whether a file is the text that stands for a large one.
func isPointer(file string) bool {
	info, err := os.Lstat(file)
	if err != nil || !info.Mode().IsRegular() || info.Size() > mostPointer {
		return false
	}
	text, err := os.ReadFile(file)
	return err == nil && bytes.HasPrefix(text, pointer) && bytes.Contains(text, []byte("\noid "))
}
