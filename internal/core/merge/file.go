package merge

import (
	"context"
	"fmt"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/object"
)

// file joins a path that no side has as a directory and both changed differently.
func (m *merger) file(ctx context.Context, path string, b, y, t object.Entry) error {
	kind := Submodule
	switch {
	case y.Absent() || t.Absent():
		kind = ModifyDelete
	case !y.Mode.SameType(t.Mode):
		kind = Type
	case y.Mode == object.ModeLink:
		kind = Symlink
	case y.Mode == object.ModeSubmodule:
		if newer, ok := m.newer(ctx, path, b, y, t); ok {
			m.joined(path, FromBoth, b, y, t, newer)
			m.remark(path, "both sides moved this submodule; the commit taken holds the other")
			return nil
		}
	default:
		return m.regular(ctx, path, b, y, t)
	}
	m.conflict(Conflict{path, kind, &Versions{Base: b, Yours: y, Theirs: t}})
	return nil
}

// disputed joins two files with unknown common ancestor. They are a conflict even if they would join, over the base or
// as two additions, because one may have removed what the other has.
func (m *merger) disputed(ctx context.Context, path string, b, y, t object.Entry) error {
	was := *m.out
	for _, from := range []object.Entry{b, {}} {
		if err := m.file(ctx, path, from, y, t); err != nil {
			return err
		}
		if n := len(m.out.Conflicts); n > len(was.Conflicts) {
			if v, ok := m.out.Conflicts[n-1].Subject.(*Versions); ok {
				v.Base = b
			}
			return nil
		}
		*m.out = was
	}
	m.conflict(Conflict{path, AddAdd, &Versions{Base: b, Yours: y, Theirs: t,
		Why: "the common ancestors of the two lines disagree on it"}})
	return nil
}

// newer returns the submodule commit that contains the other one, if both sides moved forward.
func (m *merger) newer(ctx context.Context, path string, b, y, t object.Entry) (object.Entry, bool) {
	holds := m.engine.Contains
	switch {
	case holds == nil || b.Mode != object.ModeSubmodule:
	case !holds(ctx, path, b.ID, y.ID) || !holds(ctx, path, b.ID, t.ID):
	case holds(ctx, path, y.ID, t.ID):
		return t, true
	case holds(ctx, path, t.ID, y.ID):
		return y, true
	}
	return object.Entry{}, false
}

// regular joins two regular files.
func (m *merger) regular(ctx context.Context, path string, b, y, t object.Entry) error {
	kind, mode, modes := Content, y.Mode, false
	if !b.Mode.IsRegular() {
		b, kind = object.Entry{}, AddAdd // links have no base text
	}
	if y.Mode != t.Mode {
		if b.Absent() {
			modes = true
		} else if y.Mode == b.Mode {
			mode = t.Mode
		}
	}
	id, subject, err := m.content(ctx, path, b, y, t)
	if err != nil {
		return err
	}
	switch s := subject.(type) {
	case *Lines:
		s.Mode, s.Modes = mode, modes
		m.conflict(Conflict{path, kind, s})
	case *Versions:
		if kind == Content {
			kind = Binary
		}
		m.conflict(Conflict{path, kind, s})
	default:
		if modes { // The contents are joined, so only the modes conflict.
			y.ID, t.ID = id, id
			m.conflict(Conflict{path, ModeBits, &Versions{Base: b, Yours: y, Theirs: t}})
			return nil
		}
		m.joined(path, FromBoth, b, y, t, object.Entry{Mode: mode, ID: id})
	}
	return nil
}

// content joins the contents of two regular files. It returns the id of a blob, or the subject of the conflict.
func (m *merger) content(ctx context.Context, path string, b, y, t object.Entry) (object.ID, Subject, error) {
	switch {
	case y.ID == t.ID, t.ID == b.ID:
		return y.ID, nil, nil
	case y.ID == b.ID:
		return t.ID, nil, nil
	}
	if id, err := m.byRules(ctx, path, b, y, t); err != nil || !id.IsZero() {
		return id, nil, err
	}
	id, why, err := m.byAttribute(ctx, path, b, y, t)
	if err != nil || !id.IsZero() {
		return id, nil, err
	}
	var joined *joinedText
	if why == "" {
		if joined, err = m.engine.join3(ctx, b.ID, y.ID, t.ID); err != nil {
			return id, nil, err
		}
		if joined == nil {
			if why, err = m.tooLarge(ctx, b, y, t); err != nil {
				return id, nil, err
			}
		}
	}
	if joined == nil {
		return id, &Versions{Base: b, Yours: y, Theirs: t, Why: why}, nil
	}
	if said := map[Origin]string{
		FromYours:  "you changed all line ends; joined with the new ones",
		FromTheirs: "they changed all line ends; joined with the new ones",
		FromBoth:   "both sides changed all line ends alike",
	}[joined.ends]; said != "" {
		m.remark(path, said)
	}
	if joined.text != nil {
		return id, &Lines{Base: b, Yours: y, Theirs: t, Text: joined.text}, nil
	}
	return joined.id, nil, nil
}

// byRules joins contents that have rules of their own. The id is zero for others.
func (m *merger) byRules(ctx context.Context, path string, b, y, t object.Entry) (id object.ID, err error) {
	if m.engine.Ruled == nil {
		return id, nil
	}
	join := m.engine.Ruled(path)
	if join == nil {
		return id, nil
	}
	var texts [3][]byte
	for i, e := range []object.Entry{b, y, t} {
		if e.Absent() {
			continue
		}
		if texts[i], err = m.engine.Store.Blob(ctx, e.ID); err != nil {
			return id, err
		}
	}
	if joined, ok := join(texts[0], texts[1], texts[2]); ok {
		id = m.engine.Store.Put(object.KindBlob, joined)
	}
	return id, nil
}

// join3 joins three blobs as texts, with a cache. It returns nil if one of them is not text. For clean joins, which
// are most, it caches only the id.
func (e *Engine) join3(ctx context.Context, base, yours, theirs object.ID) (*joinedText, error) {
	key := Three[object.ID]{base, yours, theirs}
	if j, ok := e.texts.get(key); ok {
		return j, nil
	}
	text, err := e.Text(ctx, base, yours, theirs)
	if err != nil || text == nil {
		return nil, err
	}
	j := &joinedText{ends: text.NewEnds}
	if text.Conflicts() > 0 {
		j.text = text
	} else {
		j.id = e.Store.Put(object.KindBlob, []byte(text.Join(nil)))
	}
	e.texts.put(key, j)
	return j, nil
}

// tooLarge remarks on a text that is too large to be joined by lines.
func (m *merger) tooLarge(ctx context.Context, entries ...object.Entry) (string, error) {
	for _, e := range entries {
		if e.Absent() {
			continue
		}
		data, err := m.engine.Store.Blob(ctx, e.ID)
		if err != nil {
			return "", err
		}
		if len(data) > m.engine.maxText {
			return fmt.Sprintf("it is larger than %d MB", m.engine.maxText>>20), nil
		}
		if longText(object.Shared(data)) {
			return fmt.Sprintf("it has more than %d million lines", MaxLines/1_000_000), nil
		}
	}
	return "", nil
}

// Text joins three blobs as texts. The zero id is an empty text. It returns nil if one of them is not text.
func (e *Engine) Text(ctx context.Context, base, yours, theirs object.ID) (*Text, error) {
	key := Three[object.ID]{base, yours, theirs}
	var lines Three[[]string]
	for _, of := range []Side{ofBase, Yours, Theirs} {
		id := *key.Of(of)
		if id.IsZero() {
			continue
		}
		text, err := e.Store.Text(ctx, id)
		if err != nil {
			return nil, err
		}
		if len(text) > e.maxText || !isTextString(text) {
			return nil, nil
		}
		*lines.Of(of) = diff.Lines(text)
	}
	newEnds := sameEnds(&lines)
	joined := Merge3(lines.Base, lines.Yours, lines.Theirs)
	joined.NewEnds = newEnds
	return &joined, nil
}

// MaxLines is the number of lines above which a file is only taken whole. Each line takes some fifty bytes besides its
// text.
const MaxLines = 2_000_000

func longText(s string) bool { return len(s) > MaxLines && strings.Count(s, "\n") > MaxLines }

// IsText reports whether content can be joined line by line: it has no zero byte in its first 8000 bytes and exceeds
// neither MaxText nor MaxLines.
func IsText(data []byte) bool {
	return isTextString(object.Shared(data))
}

func isTextString(s string) bool {
	return len(s) <= MaxText && strings.IndexByte(s[:min(len(s), 8000)], 0) < 0 && !longText(s)
}
