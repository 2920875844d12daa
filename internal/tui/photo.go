package tui

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"image/color"
	"os"
	"path/filepath"
	"runtime"
	"strings"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"

	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/core/inside"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/draw"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// exhibits is the binary contents of base, yours and theirs, or nil if there is nothing to see.
type exhibits struct {
	photos merge.Three[*draw.Photo]
	kinds  merge.Three[string]
	// what each side changed in what can be read of the file, as a sentence
	yours, theirs string
}

// exhibitsOf reads them.
func (s *settleScreen) exhibitsOf(c *settle.Question) *exhibits {
	v, ok := c.Subject.(*merge.Versions)
	if !ok {
		return nil
	}
	out, any := &exhibits{}, false
	var held merge.Three[inside.Contents]
	read := func(e object.Entry, p **draw.Photo, kind *string, in *inside.Contents) {
		if !e.Mode.IsRegular() {
			return
		}
		data, err := s.job.s.Planner.Store.Blob(context.Background(), e.ID)
		if err != nil || merge.IsText(data) {
			return
		}
		any = true
		if *p, ok = draw.OpenPhoto(data); !ok {
			*in = inside.Of(data)
			*kind = cmp.Or(in.About, draw.KindOf(data))
		}
	}
	read(v.Base, &out.photos.Base, &out.kinds.Base, &held.Base)
	read(v.Yours, &out.photos.Yours, &out.kinds.Yours, &held.Yours)
	read(v.Theirs, &out.photos.Theirs, &out.kinds.Theirs, &held.Theirs)
	if !any {
		return nil
	}
	out.yours, out.theirs = changedInside(held.Base, held.Yours), changedInside(held.Base, held.Theirs)
	return out
}

// describe names the type of a content.
func describe(p *draw.Photo, kind string) string {
	if p != nil {
		return fmt.Sprintf(", a picture: %s, %d×%d pixels", strings.ToUpper(p.Format), p.Width, p.Height)
	}
	return words.If(kind == "", "", ", "+kind)
}

// changedInside says what a side changed in what can be read of a file; or nothing.
func changedInside(base, now inside.Contents) string {
	if len(base.Lines) == 0 || len(now.Lines) == 0 {
		return ""
	}
	added, gone := inside.Changed(base, now)
	var out []string
	for _, part := range []struct {
		what string
		list []string
	}{{"new in it: ", added}, {"gone: ", gone}} {
		if len(part.list) > 0 {
			out = append(out, part.what+"“"+strings.Join(part.list[:min(len(part.list), 12)], " ")+"”"+
				words.If(len(part.list) > 12, fmt.Sprintf(" and %d more", len(part.list)-12), ""))
		}
	}
	return strings.Join(out, "; ")
}

// photos draws the images side by side, each under its sign.
func (s settlePage) photos(x *exhibits, w, h int) term.Page {
	type one struct {
		term.Mark
		name string
		of   *draw.Photo
	}
	var all []one
	for _, o := range []one{{term.MarkBase, "before", x.photos.Base}, {term.MarkYours, "yours", x.photos.Yours},
		{term.MarkTheirs, "theirs", x.photos.Theirs}} {
		if o.of != nil {
			all = append(all, o)
		}
	}
	if len(all) == 0 || h < 5 || w < 30 {
		return nil
	}
	each := (w - 2) / len(all)
	out := make(term.Page, h)
	for i, o := range all {
		col := term.Page{term.Line{}.Mark(o.Mark).Add(o.Hue, o.name)}
		for _, row := range o.of.Cells(each-2, h-1, lipgloss.Color(s.job.theme.Paper)) {
			col.Row(pictureRow(s.job.theme, row))
		}
		for k := range out {
			if k < len(col) {
				out[k] = out[k].Then(col[k])
			}
			out[k] = out[k].Fit(2 + (i+1)*each - 2)
		}
	}
	return term.Indent(out, 1)
}

// brightness returns the brightness of a colour, up to 255.
func brightness(c color.RGBA) int { return int(color.GrayModel.Convert(c).(color.Gray).Y) }

// viewOutside opens both versions in the system's viewer.
func (s *settleScreen) viewOutside() tea.Cmd {
	q := s.question()
	v, ok := q.Question.Subject.(*merge.Versions)
	if !ok {
		return nil
	}
	return s.job.start("opening both", func(ctx context.Context, _ func(int, int)) (then, error) {
		viewer, err := s.job.s.Prover.OwnProgram(ctx, "dorvik.viewer")
		if err != nil {
			return nil, err
		}
		if viewer == "" {
			viewer = map[string]string{"darwin": "open"}[runtime.GOOS]
		}
		if viewer == "" {
			viewer = "xdg-open"
		}
		opened, err := s.openFiles(viewer, q, v)
		return func() tea.Cmd {
			s.job.flash = term.Text(term.Plain, words.List(opened)+" "+words.Is(len(opened), "is",
				"are")+" opened by “"+viewer+"”.")
			return nil
		}, err
	})
}

// openFiles writes the versions to files in the git directory and opens each.
func (s *settleScreen) openFiles(viewer string, q *plan.Attributed, v *merge.Versions) (opened []string,
	err error) {
	dir := filepath.Join(s.job.s.Repo.Where().Own, "dorvik", "view")
	if err := errors.Join(os.RemoveAll(dir), os.MkdirAll(dir, 0o755)); err != nil {
		return nil, fmt.Errorf("making files to be viewed: %w", err)
	}
	for _, one := range []struct {
		name string
		is   object.Entry
	}{{"yours", v.Yours}, {"theirs", v.Theirs}} {
		if !one.is.Mode.IsRegular() {
			continue
		}
		data, err := s.job.s.Planner.Store.Blob(context.Background(), one.is.ID)
		if err != nil {
			return nil, err
		}
		file := filepath.Join(dir, one.name+"-"+filepath.Base(q.Question.Path))
		if err := os.WriteFile(file, data, 0o644); err != nil {
			return nil, fmt.Errorf("making files to be viewed: %w", err)
		}
		ctx, stop := s.job.begin()
		defer stop()
		if err := check.Show(ctx, viewer, file, 2*slow); err != nil {
			return nil, fmt.Errorf("%w; %s names another; the file is %s", err, s.job.s.Repo.Dialect().Set("viewer"),
				file)
		}
		opened = append(opened, one.name)
	}
	return opened, nil
}

// pictureRow draws a row of an image in half blocks or, without colour, in five shades.
func pictureRow(t *term.Theme, row []draw.Cell) term.Line {
	var b strings.Builder
	for _, c := range row {
		if !t.Colour {
			b.WriteString([]string{" ", "░", "▒", "▓", "█"}[(brightness(c.Upper)+brightness(c.Lower))*5/512])
			continue
		}
		fmt.Fprintf(&b, "\x1b[38;2;%d;%d;%d;48;2;%d;%d;%dm▀", c.Upper.R, c.Upper.G, c.Upper.B, c.Lower.R, c.Lower.G,
			c.Lower.B)
	}
	if t.Colour {
		b.WriteString("\x1b[0m")
	}
	return term.Drawn(b.String())
}
