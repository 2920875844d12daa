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
)

// Kind is which drawing.
type Kind string

// The kinds.
const (
	KindHistory  Kind = "history"
	KindOverlap  Kind = "overlap"
	KindRoutes   Kind = "routes"
	KindActivity Kind = "activity"
	KindReport   Kind = "report"
)

// Kinds lists them.
var Kinds = []Kind{KindHistory, KindOverlap, KindRoutes, KindActivity, KindReport}

// Asked is which drawing is made, and how.
type Asked struct {
	Kind     Kind
	Revs     []string // of a history
	Waypoint string   // of a recovery that was made; empty for the last, or the one under way
	Most     int      // commits of a history; 0 for as many as tell the last join
	File     string   // its ending tells the format: .svg, .pdf and, of a report, .md
	Letter   bool
	Dark     bool
}

// FormatError says that a file's ending names no format that the drawing comes in.
type FormatError struct {
	Kind Kind
	File string
}

func (e *FormatError) Error() string {
	formats := ".svg or .pdf"
	if e.Kind == KindReport {
		formats = ".pdf, .svg or .md"
	}
	return fmt.Sprintf("%s: a drawing of the kind %s is written to a file that ends in %s", e.File, e.Kind, formats)
}

// Make makes a drawing, and gives the bytes of its file.
func Make(ctx context.Context, src *lookback.History, a Asked) ([]byte, error) {
	ending := strings.ToLower(filepath.Ext(a.File))
	if ending != ".svg" && ending != ".pdf" && (ending != ".md" || a.Kind != KindReport) {
		return nil, &FormatError{a.Kind, a.File}
	}
	if !slices.Contains(Kinds, a.Kind) {
		return nil, fmt.Errorf("there is no drawing %q: there are %s", a.Kind, kindNames())
	}
	opt := Options{Letter: a.Letter, Dark: a.Dark, Paged: ending == ".pdf"}
	var b bytes.Buffer
	d, err := drawn(ctx, src, a, opt, ending == ".md", &b)
	switch {
	case err != nil:
		return nil, err
	case ending == ".pdf":
		err = d.PDF(&b)
	case ending == ".svg":
		err = d.SVG(&b)
	}
	return b.Bytes(), err
}

func kindNames() string {
	var out []string
	for _, k := range Kinds {
		out = append(out, string(k))
	}
	return strings.Join(out, ", ")
}

// drawn lays out what is asked for, or with text writes it down.
func drawn(ctx context.Context, src *lookback.History, a Asked, opt Options, text bool, b *bytes.Buffer) (*Drawing,
	error) {
	story, err := src.Story(ctx, a.Waypoint)
	var blocked *plan.Blocked
	if a.Kind == KindHistory && (errors.As(err, &blocked) || errors.Is(err, ledger.ErrInUse)) {
		story, err = nil, nil
	}
	if err != nil {
		return nil, err
	}
	if a.Kind == KindHistory {
		return lineHistory(ctx, src, a, story, opt)
	}
	told, err := tellable(ctx, src, story)
	if err != nil {
		return nil, err
	}
	switch a.Kind {
	case KindOverlap:
		return Overlap(told, opt), nil
	case KindRoutes:
		return Routes(told, opt), nil
	case KindActivity:
		return Activity(told, opt)
	}
	if text {
		return nil, Markdown(b, told)
	}
	return Report(told, opt), nil
}

// Of is what there is to tell of the recovery that a waypoint goes back before or, without one, of
// that under way or the last.
func Of(ctx context.Context, src *lookback.History, waypoint string) (*Told, error) {
	story, err := src.Story(ctx, waypoint)
	if err != nil {
		return nil, err
	}
	return tellable(ctx, src, story)
}

func tellable(ctx context.Context, src *lookback.History, story *lookback.Story) (*Told, error) {
	told := &Told{Story: story, Short: src.Planner.Short,
		Size: func(n history.Node) (int, error) { return src.LinesChanged(ctx, n) },
		Editor: func(side []history.Node, path string) (history.Node, bool) {
			n, ok, err := src.Planner.Annotator(side).Editor(path, nil)
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
	below       = 3 // where lines part, so that it is seen where they come from
)

// lineHistory draws the branch: as far back as the last join goes, or as is asked for.
func lineHistory(ctx context.Context, src *lookback.History, a Asked, story *lookback.Story, opt Options) (*Drawing,
	error) {
	asked := len(a.Revs) > 0
	if !asked && a.Waypoint != "" && story != nil && story.Waypoint != nil {
		a.Revs = []string{story.Waypoint.After.String()} // as it was then
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
	of.Text = "Newest first, the lines of children to their parents."
	if n := len(of.Entries); n > 0 {
		of.Text = fmt.Sprintf("%s, from %s to %s, newest first.", plural(n, "commit"),
			date(of.Entries[n-1].Author().Time()), date(of.Entries[0].Author().Time()))
	}
	if c.Untold != nil {
		of.Text += " What Dorvik did here is not told, as it could not be read."
	}
	return History(of, opt), nil
}

// Write writes a file that is not there yet: all of it, or none.
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
		err = os.Link(f.Name(), name) // which another file of that name, made meanwhile, stops
		if errors.Is(err, errors.ErrUnsupported) || errors.Is(err, os.ErrPermission) {
			err = os.Rename(f.Name(), name)
		}
	}
	if err != nil {
		return fmt.Errorf("writing %s: %w", name, err)
	}
	return nil
}
