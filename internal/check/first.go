package check

import (
	"path"
	"path/filepath"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/rx"
)

// What is likeliest to fail is run first, and all of it afterwards: what failed the last time or, of Go, the tests of
// the packages in which two sides' changes meet. So a failure is known early, and a check that passes is whole.

// Why a step is run first.
const (
	FailedBefore = "what failed before"
	WhereMeet    = "where both sides’ changes meet"
)

// plainWords splits a step into words if it is nothing else. The shell interprets anything else.
func plainWords(step string) (words []string, ok bool) {
	if strings.ContainsAny(step, "\"'\\$`;&|<>(){}*?[]~#\n") {
		return nil, false
	}
	return strings.Fields(step), true
}

// OfPackages restricts a go test of all packages to some of them. ok is false for other steps.
func OfPackages(step string, packages []string) (narrow string, ok bool) {
	words, ok := plainWords(step)
	at := slices.Index(words, "./...")
	if !ok || len(words) < 3 || words[0] != "go" || words[1] != "test" || at < 0 || len(packages) == 0 {
		return "", false
	}
	return strings.Join(slices.Concat(words[:at], packages, words[at+1:]), " "), true
}

var goFailed = rx.New(`^FAIL\t([\w./~-]+)`)

// OnlyFailed restricts a step to what failed, by its output or by the tool's own option. ok is false if that is
// unknown.
func OnlyFailed(step string, output []string) (narrow string, ok bool) {
	words, ok := plainWords(step)
	if !ok {
		return "", false
	}
	switch {
	case slices.Contains(words, "pytest"):
		return step + " --last-failed || [ $? = 5 ]", true // exit code 5: the tests that failed are gone
	case len(words) > 0 && words[0] == "ctest":
		return step + " --rerun-failed", true
	}
	var packages []string
	for _, l := range output {
		if m := goFailed.FindStringSubmatch(l); m != nil && !slices.Contains(packages, m[1]) {
			packages = append(packages, m[1])
		}
	}
	return OfPackages(step, packages)
}

// ListPackages is a shell command that prints a line for each package of the directory and its tests, for Meeting.
const ListPackages = `go list -e -test -f '{{.ImportPath}}|{{.ForTest}}|{{.Dir}}|{{join .Deps " "}}' ./...`

// Meeting returns the packages with tests that depend on changed files of both sides, in the order of the list, and
// the number of packages with tests. All other packages are, with their dependencies, as one side had them. list is
// the output of ListPackages in a directory; yours and theirs are changed files relative to it. A file outside all
// packages may matter to any, so all packages meet then.
func Meeting(list []string, dir string, yours, theirs []string) (packages []string, of int) {
	byFolder := map[string]string{} // packages by folder
	tests := map[string][]string{}  // what each test depends on
	var order []string
	for _, l := range list {
		f := strings.SplitN(l, "|", 4)
		if len(f) != 4 || f[1] != "" {
			continue
		}
		if name, ok := strings.CutSuffix(f[0], ".test"); ok {
			order, tests[name] = append(order, name), strings.Fields(f[3])
			continue
		}
		if rel, err := filepath.Rel(dir, f[2]); err == nil {
			byFolder[filepath.ToSlash(rel)] = f[0]
		}
	}
	touched := func(files []string) (map[string]bool, bool) {
		out := map[string]bool{}
		for _, file := range files {
			at := path.Dir(file)
			for at != "." && byFolder[at] == "" { // test data and embedded files belong to the package around them
				at = path.Dir(at)
			}
			if byFolder[at] == "" || strings.HasPrefix(path.Base(file), "go.") {
				return nil, false
			}
			out[byFolder[at]] = true
		}
		return out, true
	}
	mine, ok := touched(yours)
	other, also := touched(theirs)
	if !ok || !also {
		return order, len(order)
	}
	for _, name := range order {
		var meet [2]bool
		for _, d := range append([]string{name}, tests[name]...) {
			meet[0], meet[1] = meet[0] || mine[d], meet[1] || other[d]
		}
		if meet[0] && meet[1] {
			packages = append(packages, name)
		}
	}
	return packages, len(order)
}
