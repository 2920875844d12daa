package merge

import (
	"context"
	"path"

	"dorvik.dev/dorvik/internal/core/attr"
	"dorvik.dev/dorvik/internal/core/object"
)

// attributesFile is the name of gitattributes files.
const attributesFile = ".gitattributes"

func newRules(e *Engine, given Three[object.ID]) *rules {
	return &rules{engine: e, given: given, files: map[string]*attr.Rules{}}
}

func (r *rules) of(ctx context.Context, p string) (attr.Attributes, error) {
	var scopes []attr.Scope
	add := func(dir string, f *attr.Rules) {
		if f != nil {
			scopes = append(scopes, attr.Scope{Dir: dir, File: f})
		}
	}
	if !r.asked && r.engine.Outside != nil {
		r.below, r.above = r.engine.Outside(ctx)
		r.asked = true
	}
	add("", r.below)
	for i := -1; i < len(p); i++ {
		if i >= 0 && p[i] != '/' {
			continue
		}
		dir := p[:max(i, 0)]
		f, err := r.file(ctx, dir)
		if err != nil {
			return nil, err
		}
		add(dir, f)
	}
	add("", r.above)
	if len(scopes) == 0 {
		return nil, nil
	}
	return attr.Of(scopes, p), nil
}

func (r *rules) file(ctx context.Context, dir string) (*attr.Rules, error) {
	if f, ok := r.files[dir]; ok {
		return f, nil
	}
	var at Three[object.Entry]
	for _, of := range []Side{ofBase, Yours, Theirs} {
		var err error
		if *at.Of(of), err = r.engine.Store.Find(ctx, *r.given.Of(of), path.Join(dir, attributesFile)); err != nil {
			return nil, err
		}
	}
	// Use the joined attributes file, or yours if it conflicts.
	m := &merger{engine: r.engine, out: &Result{store: r.engine.Store}}
	if err := m.name(ctx, path.Join(dir, attributesFile), at.Base, at.Yours, at.Theirs); err != nil {
		return nil, err
	}
	joined := at.Yours
	if len(m.out.Joined) > 0 {
		joined = m.out.Joined[0].Result
	}
	var f *attr.Rules
	if joined.Mode.IsRegular() {
		data, err := r.engine.Store.Blob(ctx, joined.ID)
		if err != nil {
			return nil, err
		}
		f = attr.Parse(string(data))
	}
	r.files[dir] = f
	return f, nil
}

// leftToPerson is the reason for taking a file whole when its attributes forbid joining it.
const leftToPerson = "its attributes leave it to a person"

// byAttribute joins the content of a file as its attributes demand. A zero id means that it is not joined: why is the
// reason for taking it whole, or empty if the attributes do not matter and the file is joined as text.
func (m *merger) byAttribute(ctx context.Context, path string, b, y, t object.Entry) (id object.ID, why string,
	err error) {
	if m.rules == nil {
		return id, "", nil
	}
	attrs, err := m.rules.of(ctx, path)
	if err != nil {
		return id, "", err
	}
	switch merge := attrs["merge"]; {
	case merge.State == attr.Unset, merge.State == attr.Valued && merge.Text == "binary":
		return id, leftToPerson, nil
	case merge.State != attr.Valued || merge.Text == "text":
		return id, "", nil
	case merge.Text == "union":
		text, err := m.engine.Text(ctx, b.ID, y.ID, t.ID)
		if err != nil || text == nil {
			return id, leftToPerson, err
		}
		if text.Conflicts() > 0 {
			m.remark(path, "lines of both sides stand one after the other, as .gitattributes asks (merge=union)")
		}
		return m.engine.Store.Put(object.KindBlob, []byte(text.Union())), "", nil
	default:
		id, done, err := m.drive(ctx, path, Three[object.ID]{b.ID, y.ID, t.ID}, merge.Text,
			attrs["conflict-marker-size"].Text)
		if done && id.IsZero() {
			why = leftToPerson
		}
		return id, why, err
	}
}
