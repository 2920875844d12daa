package misfit

import (
	"context"
	"path"
	"regexp"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/merge"
)

// builds are files, beside those of the known languages, in which a path that is named has to be there.
var builds = map[string]bool{".json": true, ".yaml": true, ".yml": true, ".toml": true, ".xml": true, ".gradle": true,
	".html": true, ".css": true, ".scss": true, ".bazel": true, ".bzl": true, ".ini": true, ".cfg": true,
	".properties": true,
	".csproj":     true, ".in": true, ".go": true}

// mentionsPaths reports whether a path that such a file names has to be there.
func mentionsPaths(p string) bool {
	base := path.Base(p)
	return languageOf(p) != nil || builds[strings.ToLower(path.Ext(p))] || base == "Dockerfile" || base == "BUILD"
}

// pathToken is a word of a line that may name a file.
var pathToken = regexp.MustCompile(`[\w@~.-]+(?:/[\w@.-]+)*`)

// goneFile is one that a side took away or gave another name.
type goneFile struct {
	path, now string
	changed   Place
}

// paths finds files that one side moved or deleted and the other names in new lines.
func (f *finder) paths(ctx context.Context) (out []Misfit, err error) {
	for _, side := range []merge.Side{merge.Yours, merge.Theirs} {
		var gone []goneFile
		for _, one := range sorted(f.sides[index(side)]) {
			if !one.new.Absent() || !one.old.Mode.IsRegular() {
				continue
			}
			if e, err := f.at(one.path); err != nil || !e.Absent() {
				if err != nil {
					return nil, err
				}
				continue
			}
			now, err := f.wentTo(side, one)
			if err != nil {
				return nil, err
			}
			gone = append(gone, goneFile{one.path, now, Place{Side: side, Path: one.path, Line: 1, Gone: true}})
		}
		for _, g := range gone {
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			found, err := f.namedBy(side.Other(), g)
			if err != nil {
				return nil, err
			}
			out = append(out, found...)
		}
	}
	return out, nil
}

// wentTo finds the file that a side made of one that is gone: with the same content, or most of it.
func (f *finder) wentTo(side merge.Side, gone *file) (string, error) {
	changes, err := f.store.Changes(f.trees.Base, f.tree(side))
	if err != nil {
		return "", err
	}
	was, err := f.text(gone.old)
	if err != nil {
		return "", err
	}
	from := diff.Lines(was)
	best, most := "", len(from)/2
	for i, c := range changes {
		if !c.Old.Absent() || !c.New.Mode.IsRegular() || i > mostSearched {
			continue
		}
		if c.New.ID == gone.old.ID {
			return c.Path, nil
		}
		if path.Ext(c.Path) != path.Ext(gone.path) {
			continue
		}
		is, err := f.text(c.New)
		if err != nil {
			return "", err
		}
		same := len(from)
		for _, e := range diff.Histogram(from, diff.Lines(is)) {
			same -= e.A1 - e.A0
		}
		if same > most {
			best, most = c.Path, same
		}
	}
	return best, nil
}

// namedBy finds the new lines of a side that name a file that the other took away.
func (f *finder) namedBy(side merge.Side, g goneFile) (out []Misfit, err error) {
	stem := strings.TrimSuffix(path.Base(g.path), path.Ext(g.path))
	for _, one := range sorted(f.sides[index(side)]) {
		if !mentionsPaths(one.path) || !strings.Contains(one.is, stem) {
			continue
		}
		var lines []string
		for _, i := range one.added() {
			if !strings.Contains(one.to[i], stem) {
				continue
			}
			if lines == nil {
				lines = code(one.path, one.is, true)
			}
			if i >= len(lines) || !f.namesFile(one.path, lines[i], g.path) {
				continue
			}
			if folder, err := f.isPackage(g.path); err != nil || folder {
				if err != nil {
					return nil, err
				}
				continue
			}
			if stands, err := f.stands(one.path, one.to[i]); err != nil || !stands {
				if err != nil {
					return nil, err
				}
				continue
			}
			kind := Removed
			if g.now != "" {
				kind = Moved
			}
			out = append(out, Misfit{Kind: kind, Name: g.path, Now: g.now, Changed: g.changed,
				Used:    one.place(side, i, false),
				Certain: languageOf(one.path) != nil})
		}
	}
	return out, nil
}

// isPackage reports whether what was a file is a folder now that is imported by the same name.
func (f *finder) isPackage(p string) (yes bool, err error) {
	ext := path.Ext(p)
	for _, inner := range []string{"__init__" + ext, "index" + ext, "mod" + ext} {
		e, err := f.at(path.Join(strings.TrimSuffix(p, ext), inner))
		if err != nil || !e.Absent() {
			return !e.Absent(), err
		}
	}
	return false, nil
}

var (
	pyImport   = regexp.MustCompile(`^\s*(?:from\s+([\w.]+)\s+import\s+(.+)|import\s+([\w.]+))`)
	javaImport = regexp.MustCompile(`^\s*import\s+(?:static\s+)?([\w.]+)\s*;?`)
	rustMod    = regexp.MustCompile(`^\s*(?:pub(?:\([^)]*\))?\s+)?mod\s+(\w+)\s*;`)
)

// namesFile reports whether a line of a file names another file.
func (f *finder) namesFile(in, line, p string) bool {
	noExt := strings.TrimSuffix(p, path.Ext(p))
	switch ext := path.Ext(in); {
	case ext == ".go":
		return false // the type checker sees what it imports
	case ext == ".py":
		m := pyImport.FindStringSubmatch(line)
		if m == nil {
			break
		}
		module := strings.ReplaceAll(m[1]+m[3], ".", "/")
		if strings.HasPrefix(m[1], ".") {
			up := len(m[1]) - len(strings.TrimLeft(m[1], "."))
			module = path.Join(path.Dir(in), strings.Repeat("../", up-1), strings.ReplaceAll(m[1][up:], ".", "/"))
		}
		if module == noExt || module+"/__init__" == noExt || strings.HasSuffix(noExt, "/"+module) {
			return true
		}
		for _, name := range strings.Split(m[2], ",") {
			if n := path.Join(module, strings.TrimSpace(name)); n == noExt || strings.HasSuffix(noExt, "/"+n) {
				return true
			}
		}
		return false
	case ext == ".java" || ext == ".kt":
		if m := javaImport.FindStringSubmatch(line); m != nil {
			return strings.HasSuffix("/"+noExt, "/"+strings.ReplaceAll(m[1], ".", "/"))
		}
	case ext == ".rs":
		if m := rustMod.FindStringSubmatch(line); m != nil {
			return path.Join(path.Dir(in), m[1]) == noExt || path.Join(strings.TrimSuffix(in, ext), m[1]) == noExt
		}
	}
	for _, t := range pathToken.FindAllString(line, -1) {
		here := path.Join(path.Dir(in), t)
		whole := strings.Contains(t, "/") || strings.Contains(t, ".")
		switch {
		case !whole:
		case t == p || here == p || strings.TrimPrefix(t, "/") == p:
			return true
		case strings.HasPrefix(t, ".") && strings.HasPrefix(path.Ext(p), "."):
			if to := here; to == noExt || path.Join(to, "index") == noExt || strings.TrimSuffix(to,
				path.Ext(to)) == noExt &&
				(path.Ext(to) == ".js" || path.Ext(to) == ".mjs") {
				return true
			}
		case strings.Contains(line, "#include") && strings.HasSuffix(p, "/"+t):
			return true
		}
	}
	return false
}
