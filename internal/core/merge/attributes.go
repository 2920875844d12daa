package merge

import (
	"context"
	"path"
	"strconv"

	"dorvik/internal/core/attr"
	"dorvik/internal/core/object"
)

// Driver joins three contents as a merge driver of the user's configuration does.
// markerSize is the length of a conflict marker, above 0.
type Driver func(ctx context.Context, name, path string, base, yours, theirs []byte, markerSize int) (joined []byte, outcome Outcome, err error)

// Outcome is what a Driver did.
type Outcome uint8

const (
	NotDefined Outcome = iota // no driver of this name: text is joined as text
	NotAgreed                 // there is one, and nobody has agreed to run it
	Driven                    // joined is the result
	Undriven                  // the driver left it to a person
)

// rules tells the attributes of paths of a join: those that gitattributes files
// have in the joined tree. One that is contested itself counts as yours has it.
type rules struct {
	engine  *Engine
	given   [3]object.ID
	outside []*attr.File
	files   map[string]*attr.File // by directory, nil where there is none
}

func newRules(e *Engine, given [3]object.ID) *rules {
	return &rules{engine: e, given: given, files: map[string]*attr.File{}}
}

func (r *rules) of(p string) (attr.Attributes, error) {
	var scopes []attr.Scope
	add := func(dir string, f *attr.File) {
		if f != nil {
			scopes = append(scopes, attr.Scope{Dir: dir, File: f})
		}
	}
	if r.outside == nil && r.engine.Outside != nil {
		below, above := r.engine.Outside()
		r.outside = []*attr.File{below, above}
	}
	if r.outside != nil {
		add("", r.outside[0])
	}
	for i := -1; i < len(p); i++ {
		if i >= 0 && p[i] != '/' {
			continue
		}
		dir := p[:max(i, 0)]
		f, err := r.file(dir)
		if err != nil {
			return nil, err
		}
		add(dir, f)
	}
	if r.outside != nil {
		add("", r.outside[1])
	}
	if len(scopes) == 0 {
		return nil, nil
	}
	return attr.Of(scopes, p), nil
}

func (r *rules) file(dir string) (*attr.File, error) {
	if f, known := r.files[dir]; known {
		return f, nil
	}
	var at [3]object.Entry
	for i, tree := range r.given {
		var err error
		if at[i], err = r.engine.Store.Find(tree, path.Join(dir, ".gitattributes")); err != nil {
			return nil, err
		}
	}
	// As they join, or else as yours has it.
	m := &merger{ctx: context.Background(), engine: r.engine, out: &Result{store: r.engine.Store}}
	if err := m.name(path.Join(dir, ".gitattributes"), at[0], at[1], at[2]); err != nil {
		return nil, err
	}
	joined := at[1]
	if len(m.out.Joined) > 0 {
		joined = m.out.Joined[0].Result
	}
	var f *attr.File
	if joined.Mode.IsRegular() {
		data, err := r.engine.Store.Blob(joined.ID)
		if err != nil {
			return nil, err
		}
		f = attr.Parse(string(data))
	}
	r.files[dir] = f
	return f, nil
}

// leftToPerson is why a file is decided whole that its attributes keep from being joined.
const leftToPerson = "its attributes leave it to a person"

// byAttribute joins the content of a file as its attributes say. The id is zero where
// it is not joined: then why says that it has to be decided whole, or is empty where
// the attributes say nothing and it is joined as text.
func (m *merger) byAttribute(path string, b, y, t object.Entry) (id object.ID, why string, err error) {
	if m.rules == nil {
		return id, "", nil
	}
	attrs, err := m.rules.of(path)
	if err != nil {
		return id, "", err
	}
	switch merge := attrs["merge"]; {
	case merge.State == attr.Unset, merge.State == attr.Valued && merge.Text == "binary":
		return id, leftToPerson, nil
	case merge.State != attr.Valued || merge.Text == "text":
		return id, "", nil
	case merge.Text == "union":
		text, err := m.engine.Text(b.ID, y.ID, t.ID)
		if err != nil || text == nil {
			return id, leftToPerson, err
		}
		if text.Conflicts() > 0 {
			m.remark(path, "lines of both sides stand one after the other, as .gitattributes asks (merge=union)")
		}
		return m.engine.Store.Put(object.KindBlob, []byte(text.Union())), "", nil
	default:
		id, done, err := m.drive(path, [3]object.ID{b.ID, y.ID, t.ID}, merge.Text, attrs["conflict-marker-size"].Text)
		if done && id.IsZero() {
			why = leftToPerson
		}
		return id, why, err
	}
}

// drive has a merge driver join a file. done is false where none is run.
func (m *merger) drive(path string, ids [3]object.ID, name, size string) (id object.ID, done bool, err error) {
	if m.engine.Drive == nil {
		return id, false, nil
	}
	key := driven{name, path, ids}
	m.engine.mu.Lock()
	known, is := m.engine.driven[key]
	m.engine.mu.Unlock()
	if !is {
		var contents [3][]byte
		for i, id := range key.ids {
			if id.IsZero() {
				continue
			}
			if contents[i], err = m.engine.Store.Blob(id); err != nil {
				return id, false, err
			}
		}
		markerSize, err := strconv.Atoi(size) // it goes into a command: nothing but a number may
		if err != nil || markerSize <= 0 {
			markerSize = 7
		}
		var joined []byte
		joined, known.outcome, err = m.engine.Drive(m.ctx, name, path, contents[0], contents[1], contents[2], markerSize)
		if m.ctx.Err() != nil {
			return id, false, m.ctx.Err()
		}
		if err != nil {
			known = drivenTo{outcome: Undriven, failure: err.Error()}
		}
		if known.outcome == Driven {
			known.id = m.engine.Store.Put(object.KindBlob, joined)
		}
		if known.outcome != NotAgreed { // somebody may agree at any time
			m.engine.mu.Lock()
			m.engine.driven[key] = known
			m.engine.mu.Unlock()
		}
	}
	switch known.outcome {
	case Driven:
		m.remark(path, "joined by your merge driver “"+name+"”")
		return known.id, true, nil
	case Undriven:
		if known.failure != "" {
			m.remark(path, "left to you: "+known.failure)
			return id, true, nil
		}
		m.remark(path, "your merge driver “"+name+"” left this to you")
		return id, true, nil
	case NotAgreed:
		m.remark(path, "joined as text: your merge driver “"+name+"” runs only once you agree to it")
		m.out.Remarks[len(m.out.Remarks)-1].Driver = name
	}
	return id, false, nil
}

// driven names a run of a driver; the same is not run twice.
type driven struct {
	name, path string
	ids        [3]object.ID
}

type drivenTo struct {
	id      object.ID
	outcome Outcome
	failure string
}

func (m *merger) remark(path, words string) {
	m.out.Remarks = append(m.out.Remarks, Remark{Path: path, Words: words})
}

// ends is how the lines of a text end.
type ends uint8

const (
	noEnds   ends = iota // it has no whole line
	unixEnds             // with a line feed
	dosEnds              // with a carriage return and a line feed
	mixedEnds
)

func endsOf(lines []string) (e ends) {
	for _, l := range lines {
		this := unixEnds
		switch n := len(l); {
		case l[n-1] != '\n':
			continue
		case n > 1 && l[n-2] == '\r':
			this = dosEnds
		}
		if e != noEnds && e != this {
			return mixedEnds
		}
		e = this
	}
	return e
}

// withEnds gives lines of the one pure kind the other's ends.
func withEnds(lines []string, e ends) []string {
	out := make([]string, len(lines))
	for i, l := range lines {
		n := len(l)
		switch {
		case l[n-1] != '\n':
			out[i] = l
		case e == dosEnds:
			out[i] = l[:n-1] + "\r\n"
		default:
			out[i] = l[:n-2] + "\n"
		}
	}
	return out
}

// sameEnds lets all three texts have the new line ends where one side changed them
// all, or both did alike, and tells who did: else every line would be contested.
func sameEnds(lines *[3][]string) Origin {
	b, y, t := endsOf(lines[0]), endsOf(lines[1]), endsOf(lines[2])
	pure := func(e ends) bool { return e == unixEnds || e == dosEnds }
	switch {
	case !pure(b) || !pure(y) || !pure(t):
	case y != b && t == b:
		lines[0], lines[2] = withEnds(lines[0], y), withEnds(lines[2], y)
		return FromYours
	case t != b && y == b:
		lines[0], lines[1] = withEnds(lines[0], t), withEnds(lines[1], t)
		return FromTheirs
	case y == t && y != b:
		lines[0] = withEnds(lines[0], y)
		return FromBoth
	}
	return FromBase
}

// Union is the joined text with both sides' lines at contested places, yours
// first.
func (t Text) Union() string {
	return t.parts(func(out *[]string, yours, theirs []string) {
		*out = append(append(*out, yours...), theirs...)
	})
}
