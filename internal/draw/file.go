package draw

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/lookback"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/words"
)

// Kind is the kind of a drawing. Its text is its name in `dorvik draw`.
type Kind string

// The kinds. Each has a row in the table below.
const (
	KindHistory  Kind = "history"
	KindOverlap  Kind = "overlap"
	KindRoutes   Kind = "routes"
	KindActivity Kind = "activity"
	KindReport   Kind = "report"
)

// drawingRow is everything that the program says about a kind of drawing, and what makes it. Rows are written without
// field names, so a row that lacks a field does not compile.
type drawingRow struct {
	kind    Kind
	shows   string   // what it shows, in a few words
	formats []string // endings of its files without the dot, the usual one first
	drawn   func(context.Context, *lookback.History, Asked, Options) (*Drawing, error)
}

func drawings() []drawingRow {
	pictures, pages := []string{"svg", "pdf"}, []string{"pdf", "svg", "md"}
	return []drawingRow{
		{KindHistory, "the commits and their lines: what was joined to what", pictures, lineHistory},
		{KindOverlap, "file by file, both sides' changed lines", pictures, ofTold(Overlap)},
		{KindRoutes, "both ways to join, side by side", pictures, ofTold(Routes)},
		{KindActivity, "who committed when, and how much", pictures, ofTold(Activity)},
		{KindReport, "all of it in sentences, for a reviewer or the archive", pages, ofTold(Report)},
	}
}

// Kinds lists the kinds in the order of the help.
func Kinds() (out []Kind) {
	for _, d := range drawings() {
		out = append(out, d.kind)
	}
	return out
}

// ParseKind returns the kind of a name, and an error for a name that no drawing has.
func ParseKind(name string) (Kind, error) {
	var names []string
	for _, k := range Kinds() {
		if string(k) == name {
			return k, nil
		}
		names = append(names, string(k))
	}
	return "", fmt.Errorf("there is no drawing %q: there are %s", name, strings.Join(names, ", "))
}

// row returns the row of a kind. It panics for a kind that has none: names from outside are read by ParseKind.
func (k Kind) row() drawingRow {
	for _, d := range drawings() {
		if d.kind == k {
			return d
		}
	}
	panic(fmt.Sprintf("no drawing %q", string(k)))
}

// Shows returns what the drawing shows, in a few words.
func (k Kind) Shows() string { return k.row().shows }

// Formats returns the endings of the files that the drawing can be written to, without the dot, the usual one first.
func (k Kind) Formats() []string { return k.row().formats }

// Asked selects a drawing and its form.
type Asked struct {
	Kind     Kind
	Revs     []string // revisions, for a history
	Waypoint string   // waypoint of a recovery; empty for the current or last one
	Most     int      // most commits, for a history; 0 for enough to show the last join
	File     string   // file name; its ending is one of the kind's formats
	Letter   bool
	Dark     bool
}

// FormatError reports that a file's ending is no format of the drawing.
type FormatError struct {
	Kind Kind
	File string
}

func (e *FormatError) Error() string {
	var endings []string
	for _, f := range e.Kind.Formats() {
		endings = append(endings, "."+f)
	}
	return fmt.Sprintf("%s: a drawing of the kind %s is written to a file that ends in %s", e.File, e.Kind,
		strings.Replace(words.List(endings), " and ", " or ", 1))
}

// Make makes a drawing and returns the bytes of its file. The error is a *FormatError if the file's ending is none of
// the drawing's formats.
func Make(ctx context.Context, src *lookback.History, a Asked) ([]byte, error) {
	if _, err := ParseKind(string(a.Kind)); err != nil {
		return nil, err
	}
	ending := strings.TrimPrefix(strings.ToLower(filepath.Ext(a.File)), ".")
	if !slices.Contains(a.Kind.Formats(), ending) {
		return nil, &FormatError{a.Kind, a.File}
	}
	var b bytes.Buffer
	if ending == "md" {
		told, err := Of(ctx, src, a.Waypoint)
		if err == nil {
			err = Markdown(&b, told)
		}
		return b.Bytes(), err
	}
	d, err := a.Kind.row().drawn(ctx, src, a, Options{Letter: a.Letter, Dark: a.Dark, Paged: ending == "pdf"})
	switch {
	case err != nil:
		return nil, err
	case ending == "pdf":
		err = d.PDF(&b)
	default:
		err = d.SVG(&b)
	}
	return b.Bytes(), err
}

// ofTold returns what draws a recovery by draw.
func ofTold(draw func(*Told, Options) (*Drawing, error)) func(context.Context, *lookback.History, Asked, Options) (
	*Drawing, error) {
	return func(ctx context.Context, src *lookback.History, a Asked, opt Options) (*Drawing, error) {
		told, err := Of(ctx, src, a.Waypoint)
		if err != nil {
			return nil, err
		}
		return draw(told, opt)
	}
}

// Of returns the recovery that a waypoint was made by or, without one, the recovery under way or the last one.
func Of(ctx context.Context, src *lookback.History, waypoint string) (*Told, error) {
	story, err := src.Story(ctx, waypoint)
	if err != nil {
		return nil, err
	}
	told := &Told{Story: story, Short: src.Planner.Short, By: src.Planner.Source.Dialect(),
		Size: func(n history.Node) (int, error) { return src.LinesChanged(ctx, n) },
		Editor: func(side []history.Node, path string) (history.Node, bool) {
			n, ok, err := src.Planner.Annotator(side).Editor(ctx, path, nil)
			return n, ok && err == nil
		}}
	var ids []object.ID
	for _, n := range slices.Concat(story.Commits(), story.Below, story.Made) {
		ids = append(ids, n.ID)
	}
	return told, src.Planner.TellApart(ctx, ids)
}

// Of a history that nothing bounds, some is drawn.
const (
	someCommits = 40
	mostCommits = 1000
	below       = 3 // commits below the point where lines part
)

// storyIfAny returns the story of a recovery, or nil if there is none. A history can be drawn without.
func storyIfAny(ctx context.Context, src *lookback.History, waypoint string) (*lookback.Story, error) {
	story, err := src.Story(ctx, waypoint)
	var blocked *plan.Blocked
	if errors.As(err, &blocked) || errors.Is(err, ledger.ErrInUse) {
		return nil, nil
	}
	return story, err
}

// lineHistory draws the branch back to the start of the last join, or as far as requested.
func lineHistory(ctx context.Context, src *lookback.History, a Asked, opt Options) (*Drawing, error) {
	story, err := storyIfAny(ctx, src, a.Waypoint)
	if err != nil {
		return nil, err
	}
	asked := len(a.Revs) > 0
	if !asked && a.Waypoint != "" && story != nil && story.Waypoint != nil {
		a.Revs = []string{story.Waypoint.After.String()} // the tip right after that join
	}
	c, err := src.Chronicle(ctx, a.Revs...)
	if err != nil {
		return nil, err
	}
	if err := c.Same(ctx); err != nil {
		return nil, err
	}
	of := HistoryOf{Title: "History", Short: src.Planner.Short}
	most, until := a.Most, object.ID{}
	if story != nil {
		of.Title, of.Me = "History of "+story.Position.Branch.Name, story.Me
		if most == 0 && !asked {
			until = story.Position.Base()
		}
	}
	switch {
	case asked:
		of.Title = "History of " + strings.Join(a.Revs, ", ")
	case len(a.Revs) > 0:
		of.Title += ", as waypoint " + story.Waypoint.Name + " left it"
	}
	if most == 0 {
		most = someCommits
		if !until.IsZero() {
			most = mostCommits
		}
	}
	all, err := c.More(ctx, most+1)
	if err != nil {
		return nil, err
	}
	if i := slices.IndexFunc(all, func(e lookback.Entry) bool { return e.ID == until }); i >= 0 {
		most = min(most, i+1+below)
	}
	of.More = len(all) > most
	of.Entries = all[:min(most, len(all))]
	var ids []object.ID
	for _, e := range of.Entries {
		ids = append(ids, e.ID)
	}
	if err := src.Planner.TellApart(ctx, ids); err != nil {
		return nil, err
	}
	of.Text = spanned(of.Entries)
	if c.Untold != nil {
		of.Text += " What Dorvik did here is not told, as it could not be read."
	}
	return History(of, opt), nil
}

// spanned describes the number and the dates of the drawn commits.
func spanned(list []lookback.Entry) string {
	n := len(list)
	if n == 0 {
		return "Newest first, the lines of children to their parents."
	}
	return fmt.Sprintf("%s, from %s to %s, newest first.", plural(n, "commit"), date(list[n-1].Author().Time()),
		date(list[0].Author().Time()))
}

// Write creates a file, completely or not at all. It fails if the file exists.
func Write(name string, data []byte) error {
	if _, err := os.Lstat(name); err == nil {
		return fmt.Errorf("%s is there already; move it away, or give another name", name)
	}
	f, err := os.CreateTemp(filepath.Dir(name), ".dorvik-*")
	if err != nil {
		return fmt.Errorf("writing %s: %w", name, err)
	}
	defer os.Remove(f.Name())
	_, err = f.Write(data)
	err = errors.Join(err, f.Chmod(0o644), f.Close())
	if err == nil {
		err = os.Link(f.Name(), name) // fails if a file of that name was made meanwhile
		if errors.Is(err, errors.ErrUnsupported) || errors.Is(err, os.ErrPermission) {
			err = os.Rename(f.Name(), name)
		}
	}
	if err != nil {
		return fmt.Errorf("writing %s: %w", name, err)
	}
	return nil
}
