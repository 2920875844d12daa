package misfit

import (
	"context"
	"path"
	"regexp"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/lang"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/rx"
)

// isSettings reports whether a file contains settings: keys with values.
func isSettings(p string) bool { return lang.Of(p).Is(lang.Settings) }

// keyLine matches a line that sets a key to a value.
var keyLine = rx.New(`^\s*(?:-\s+)?"?([A-Za-z_][\w-]*)"?\s*[:=]\s*(.*?),?\s*$`)

// setting is a key of a settings file.
type setting struct {
	key, value string
	line       int // from 0
}

func settings(lines []string) (out []setting) {
	for i, l := range lines {
		if m := keyLine.FindStringSubmatch(strings.TrimRight(l, "\r\n")); m != nil && len(m[1]) >= 4 {
			out = append(out, setting{m[1], m[2], i})
		}
	}
	return out
}

// takenOut lists the keys of the lines that a side removed from a file.
func (f *file) takenOut() (out []setting) {
	for _, e := range f.edits {
		for _, s := range settings(f.from[e.A0:e.A1]) {
			s.line += e.A0
			out = append(out, s)
		}
	}
	return out
}

// sets reports whether lines set a key. It parses only those that contain its name.
func sets(lines []string, key string) bool {
	return slices.ContainsFunc(lines, func(l string) bool {
		return strings.Contains(l, key) && slices.ContainsFunc(settings([]string{l}), func(s setting) bool {
			return s.key == key
		})
	})
}

// keys finds settings keys that one side renamed or removed and new lines of the other read.
func (f *finder) keys(ctx context.Context) (out []Misfit, err error) {
	for _, side := range []merge.Side{merge.Yours, merge.Theirs} {
		for _, one := range f.sides[index(side)] {
			if !isSettings(one.path) || strings.Contains(path.Base(one.path), "lock") {
				continue
			}
			for _, s := range one.takenOut() {
				if len(f.using(side.Other(), s.key)) == 0 || f.stillSet(side, s.key) || ctx.Err() != nil {
					continue
				}
				found, err := f.readBy(ctx, side.Other(), one, s)
				if err != nil {
					return nil, err
				}
				out = append(out, found...)
			}
		}
	}
	return out, ctx.Err()
}

// stillSet reports whether a settings file that a side changed sets a key.
func (f *finder) stillSet(side merge.Side, key string) bool {
	return slices.ContainsFunc(f.sides[index(side)], func(one *file) bool {
		return isSettings(one.path) && strings.Contains(one.is, key) && sets(one.to, key)
	})
}

// readBy finds the new lines of a side that read a key that the other side no longer sets.
func (f *finder) readBy(ctx context.Context, side merge.Side, from *file, s setting) (out []Misfit, err error) {
	q := regexp.QuoteMeta(s.key)
	reads := regexp.MustCompile(`["'\x60:]` + q + `["'\x60]|\$\{?` + q + `\b|\{\{\s*[\w.]*\b` + q +
		`\s*\}\}|(?:config|settings|` +
		`conf|cfg|options|env|ENV)(?:\.|\(\)\.|->|::)` + q + `\b`)
	for _, one := range f.using(side, s.key) {
		if one.lang == nil && path.Ext(one.path) != ".go" {
			continue
		}
		for _, i := range one.added() {
			if !reads.MatchString(one.to[i]) {
				continue
			}
			if lines := f.reads.code(one, true); i >= len(lines) || !reads.MatchString(lines[i]) {
				continue // the key is in a comment
			}
			if stands, err := f.stands(ctx, one.path, one.to[i]); err != nil || !stands {
				if err != nil {
					return nil, err
				}
				continue
			}
			m := Misfit{Kind: Key, Name: s.key, Changed: from.place(side.Other(), s.line, true),
				Used: one.place(side, i, false)}
			m.Now, m.Changed = from.keyNow(s, m.Changed)
			out = append(out, m)
		}
	}
	if len(out) == 0 {
		return nil, nil
	}
	for _, one := range f.sides[index(side.Other())] { // the side that removed the key knows whether it is read
		if one.path != from.path && one.lang != nil && reads.MatchString(one.is) {
			return nil, nil
		}
	}
	elsewhere, err := f.keyElsewhere(ctx, s.key)
	if err != nil || elsewhere {
		return nil, err
	}
	return out, nil
}

// keyNow finds the new name of a key: a new key at its place or with its value.
func (f *file) keyNow(s setting, at Place) (string, Place) {
	had := map[string]bool{}
	for _, o := range settings(f.from) {
		had[o.key] = true
	}
	var same []setting
	for _, n := range settings(f.to) {
		e, in := f.editAt(n.line)
		if had[n.key] || !in {
			continue
		}
		if s.line >= e.A0 && s.line < e.A1 && (n.value == s.value || s.line-e.A0 == n.line-e.B0 &&
			e.A1-e.A0 == e.B1-e.B0) {
			same = append(same, n)
		}
	}
	if len(same) != 1 {
		return "", at
	}
	return same[0].key, f.place(at.Side, same[0].line, false)
}

// keyElsewhere reports whether another settings file of the joined tree sets a key.
func (f *finder) keyElsewhere(ctx context.Context, key string) (yes bool, err error) {
	read, files := 0, 0
	_, err = f.walk(ctx, f.trees.Joined, "", isSettings, func(_ string, e object.Entry) (bool, error) {
		text, err := f.text(ctx, e)
		if err != nil {
			return false, err
		}
		if read, files = read+len(text), files+1; read > mostRead || files > mostSearched {
			yes = true
			return false, nil
		}
		if strings.Contains(text, key) && slices.ContainsFunc(settings(diff.Lines(text)), func(s setting) bool {
			return s.key == key
		}) {
			yes = true
		}
		return !yes, nil
	})
	return yes, err
}
