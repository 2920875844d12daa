package lookback

import (
	"context"
	"fmt"
	"strings"
	"time"

	"dorvik.dev/dorvik/internal/core/object"
)

// Find is a search for commits. All of its conditions must hold. The zero Find matches every commit.
type Find struct {
	By    string   // part of the author's name or address
	In    string   // file or folder that the commit changed
	Words []string // words of the message, or first digits of the id
	Since time.Time
	Until time.Time // the end of that day
}

// ParseFind parses a search: words, by:NAME, in:PATH, since:DATE and until:DATE. A date is 2026-03-04, 2026-03 or
// 2026. Case does not matter. Quotes enclose values with blanks.
func ParseFind(s string) (Find, error) {
	var f Find
	for _, word := range quotedFields(s) {
		key, value, ok := strings.Cut(word, ":")
		if !ok || value == "" {
			f.Words = append(f.Words, strings.ToLower(strings.TrimSuffix(word, ":")))
			continue
		}
		var err error
		switch key {
		case "by":
			f.By = strings.ToLower(value)
		case "in":
			f.In = strings.Trim(value, "/")
		case "since":
			f.Since, _, err = day(value)
		case "until":
			_, f.Until, err = day(value)
		default:
			f.Words = append(f.Words, strings.ToLower(word))
		}
		if err != nil {
			return f, err
		}
	}
	return f, nil
}

// quotedFields splits at blanks outside quotes and removes the quotes.
func quotedFields(s string) (out []string) {
	quoted := false
	for _, word := range strings.FieldsFunc(s, func(r rune) bool {
		if r == '"' {
			quoted = !quoted
		}
		return !quoted && r == ' '
	}) {
		if word = strings.ReplaceAll(word, `"`, ""); word != "" {
			out = append(out, word)
		}
	}
	return out
}

// day returns the beginning and the end of a day, a month or a year.
func day(s string) (from, to time.Time, err error) {
	for _, form := range []struct {
		layout              string
		years, months, days int
	}{{"2006-01-02", 0, 0, 1}, {"2006-01", 0, 1, 0}, {"2006", 1, 0, 0}} {
		if t, err := time.Parse(form.layout, s); err == nil {
			return t, t.AddDate(form.years, form.months, form.days), nil
		}
	}
	return from, to, fmt.Errorf("%q is not a date; write it as 2026-03-04, 2026-03 or 2026", s)
}

// Empty reports whether every commit matches.
func (f Find) Empty() bool {
	return f.By == "" && f.In == "" && len(f.Words) == 0 && f.Since.IsZero() && f.Until.IsZero()
}

// Found returns the matching ones of some commits.
func (h *History) Found(ctx context.Context, f Find, entries []Entry) (out []Entry, err error) {
	var trees []object.ID
	for _, e := range entries {
		if f.says(e.Commit, e.ID) {
			out = append(out, e)
			trees = append(trees, e.Tree)
		}
	}
	if f.In == "" || len(out) == 0 {
		return out, nil
	}
	h.Planner.Store.Prefetch(ctx, trees...)
	kept := out[:0]
	for _, e := range out {
		changed, err := h.touches(ctx, e, f.In)
		if err != nil {
			return nil, err
		}
		if changed {
			kept = append(kept, e)
		}
	}
	return kept, nil
}

// says checks all conditions except those on files.
func (f Find) says(c *object.Commit, id object.ID) bool {
	who := c.Author()
	if f.By != "" && !strings.Contains(strings.ToLower(who.Name+" <"+who.Email+">"), f.By) {
		return false
	}
	when := who.Time()
	when = time.Date(when.Year(), when.Month(), when.Day(), when.Hour(), when.Minute(), when.Second(), 0, time.UTC)
	if !f.Since.IsZero() && when.Before(f.Since) || !f.Until.IsZero() && !when.Before(f.Until) {
		return false
	}
	if len(f.Words) == 0 {
		return true
	}
	text := strings.ToLower(c.Text())
	for _, word := range f.Words {
		if !strings.Contains(text, word) && (len(word) < 4 || !strings.HasPrefix(id.String(), word)) {
			return false
		}
	}
	return true
}

// touches reports whether a commit changed a file or directory against every parent.
func (h *History) touches(ctx context.Context, e Entry, path string) (bool, error) {
	now, err := h.Planner.Store.Find(ctx, e.Tree, path)
	if err != nil {
		return false, err
	}
	for _, p := range e.Row.Parents {
		c, err := h.Planner.Store.Commit(ctx, p)
		if err != nil {
			return false, err
		}
		was, err := h.Planner.Store.Find(ctx, c.Tree, path)
		if err != nil {
			return false, err
		}
		if was.Same(now) {
			return false, nil
		}
	}
	return len(e.Row.Parents) > 0 || !now.Absent(), nil
}
