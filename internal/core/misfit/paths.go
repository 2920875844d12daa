package misfit

import (
	"context"
	"path"
	"slices"
	"strings"
	"sync"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/lang"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/rx"
)

// pathToken matches a word that may name a file.
var pathToken = rx.New(`[\w@~.-]+(?:/[\w@.-]+)*`)

// paths finds files that one side moved or deleted and that new lines of the other name.
func (f *finder) paths(ctx context.Context) (out []Misfit, err error) {
	for _, side := range []merge.Side{merge.Yours, merge.Theirs} {
		for _, gone := range f.sides[index(side)] {
			if !gone.new.Absent() || !gone.old.Mode.IsRegular() {
				continue
			}
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			found, err := f.namedBy(ctx, side.Other(), gone)
			if err != nil {
				return nil, err
			}
			out = append(out, found...)
		}
	}
	return out, nil
}

// wentTo finds the file that a side made of a deleted one: with the same content or most of it.
func (f *finder) wentTo(ctx context.Context, side merge.Side, gone *file) (string, error) {
	changes, err := f.store.Changes(ctx, f.trees.Base, f.tree(side))
	if err != nil {
		return "", err
	}
	was, err := f.text(ctx, gone.old)
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
		is, err := f.text(ctx, c.New)
		if err != nil {
			return "", err
		}
		same := diff.Common(len(from), diff.Histogram(from, diff.Lines(is)))
		if same > most {
			best, most = c.Path, same
		}
	}
	return best, nil
}

// namedBy finds the new lines of a side that name a file that the other removed.
func (f *finder) namedBy(ctx context.Context, side merge.Side, gone *file) (out []Misfit, err error) {
	stem := stemOf(gone.path)
	wentTo := sync.OnceValues(func() (string, error) { return f.wentTo(ctx, side.Other(), gone) })
	for _, one := range f.using(side, stem) {
		l := lang.Of(one.path)
		prose := l.Is(lang.Prose) && !l.Is(lang.Tags)
		if !l.Is(lang.Paths) && !prose || path.Ext(one.path) == ".go" { // the type checker handles Go's imports
			continue
		}
		for _, i := range one.added() {
			if !strings.Contains(one.to[i], stem) {
				continue
			}
			lines := f.reads.code(one, true)
			if i >= len(lines) || !namesFile(one.path, lines[i], gone.path) {
				continue
			}
			now, err := wentTo()
			if err != nil {
				return nil, err
			}
			if prose && now == "" && !strings.Contains(lines[i], "](") || namesTemplate(lines[i], now) {
				continue // prose may tell of what is gone; a template is found wherever its directory is
			}
			if stands, err := f.stands(ctx, one.path, one.to[i]); err != nil || !stands {
				if err != nil {
					return nil, err
				}
				continue
			}
			out = append(out, Misfit{Kind: Removed, Name: gone.path, Used: one.place(side, i, false),
				Changed: Place{Side: side.Other(), Path: gone.path, Line: 1, Gone: true}, Certain: one.lang != nil})
		}
	}
	if len(out) == 0 {
		return nil, nil
	}
	if there, err := f.isThere(ctx, gone.path); err != nil || there {
		return nil, err
	}
	if now, err := wentTo(); err != nil {
		return nil, err
	} else if now != "" {
		for i := range out {
			out[i].Kind, out[i].Now = Moved, now
		}
	}
	return out, nil
}

// stemOf returns the word by which others name a file: its name without the ending or, of a package's file that has no
// name of its own, its directory's.
func stemOf(p string) string {
	stem := strings.TrimSuffix(path.Base(p), path.Ext(p))
	if stem == "__init__" || stem == "index" || stem == "mod" {
		if dir := path.Base(path.Dir(p)); dir != "." {
			return dir
		}
	}
	return stem
}

// isThere reports whether a path exists in the joined tree anyway: as it is, or as a directory that is imported
// by the file's name.
func (f *finder) isThere(ctx context.Context, p string) (yes bool, err error) {
	ext := path.Ext(p)
	for _, inner := range []string{"__init__" + ext, "index" + ext, "mod" + ext, ""} {
		name := p
		if inner != "" {
			name = path.Join(strings.TrimSuffix(p, ext), inner)
		}
		e, err := f.at(ctx, name)
		if err != nil || !e.Absent() {
			return !e.Absent(), err
		}
	}
	return false, nil
}

var (
	pyImport   = rx.New(`^\s*(?:from\s+([\w.]+)\s+import\s+(.+)|import\s+([\w.]+))`)
	javaImport = rx.New(`^\s*import\s+(?:static\s+)?([\w.]+)\s*;?`)
	rustMod    = rx.New(`^\s*(?:pub(?:\([^)]*\))?\s+)?mod\s+(\w+)\s*;`)
)

var (
	// what programs find templates in, and the path within it by which they name one
	templates = rx.New(`(?:^|/)(?:templates|views|layouts|partials)/(.+)$`)
	quotes    = rx.New("[\"'`]([^\"'`]+)[\"'`]")
)

// namesTemplate reports whether a line names a template by its path in the directory of templates.
func namesTemplate(line, p string) bool {
	in := templates.FindStringSubmatch(p)
	return in != nil && strings.Contains(in[1], ".") &&
		slices.ContainsFunc(quotes.FindAllStringSubmatch(line, -1), func(m []string) bool { return m[1] == in[1] })
}

// fromRoot has the languages whose commands run in the root of the project.
var fromRoot = map[*lang.Language]bool{lang.YAML: true, lang.Make: true, lang.Dockerfile: true, lang.JSON: true,
	lang.Shell: true}

// namesFile reports whether a line of a file names another file.
func namesFile(in, line, p string) bool {
	noExt := strings.TrimSuffix(p, path.Ext(p))
	switch ext := path.Ext(in); {
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
	if namesTemplate(line, p) {
		return true
	}
	for _, t := range pathToken.FindAllString(line, -1) {
		here := path.Join(path.Dir(in), t)
		if fromRoot[lang.Of(in)] && strings.HasPrefix(t, "./") {
			here = path.Clean(t)
		}
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
