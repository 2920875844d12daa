package tui

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/draw"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// pictureScreen selects a drawing and its form, and writes it beside the working tree.
type pictureScreen struct {
	job  *job
	rows list
	form int // index of the format
	dark bool

	waypoint string // waypoint of the drawn recovery; empty for the current or last one
}

// drawAction returns the key that draws what the screen shows.
func drawAction(j *job, kind draw.Kind) action {
	return act(keys.Picture, "", func() tea.Cmd {
		j.open(newPicture(j, kind))
		return nil
	})
}

// newPicture returns the screen with a drawing marked.
func newPicture(j *job, kind draw.Kind) *pictureScreen {
	s := &pictureScreen{job: j}
	s.rows = list{row: slices.Index(draw.Kinds(), kind), rows: func() int { return len(draw.Kinds()) },
		turned: func() tea.Cmd { s.form = 0; return nil }}
	return s
}

// kind returns the marked drawing.
func (s *pictureScreen) kind() draw.Kind { return draw.Kinds()[s.rows.row] }

// file returns the path of the new file: beside the working tree, where git ignores it, under a free name.
func (s *pictureScreen) file() string {
	forms := s.kind().Formats()
	name := fmt.Sprintf("%s-%s", s.job.repo, s.kind())
	dir := filepath.Dir(s.job.s.Repo.Where().Dir)
	for n := 1; ; n++ {
		tail := ""
		if n > 1 {
			tail = fmt.Sprintf("-%d", n)
		}
		path := filepath.Join(dir, name+tail+"."+forms[s.form%len(forms)])
		if _, err := os.Lstat(path); errors.Is(err, os.ErrNotExist) || n > 999 {
			return path
		}
	}
}

func (s *pictureScreen) actions() []action {
	turn := func(by int) func() tea.Cmd {
		return quietly(func() { n := len(s.kind().Formats()); s.form = (s.form + by + n) % n })
	}
	out := append([]action{acts(keys.Next, "write it", s.write)}, s.rows.keys("drawing")...)
	return append(out, act(keys.Left, "format", turn(-1)), also(keys.Right, turn(1)),
		act(keys.Views, words.If(s.dark, "light background", "dark background"), quietly(func() { s.dark = !s.dark })),
		act(keys.Back, "", quietly(s.job.close)))
}

// write makes the drawing and writes it.
func (s *pictureScreen) write() tea.Cmd {
	a := draw.Asked{Kind: s.kind(), File: s.file(), Dark: s.dark, Waypoint: s.waypoint}
	return s.job.start("drawing", func(ctx context.Context, _ func(int, int)) (then, error) {
		data, err := draw.Make(ctx, s.job.s.History, a)
		if err == nil {
			err = draw.Write(a.File, data)
		}
		return func() tea.Cmd {
			s.job.close()
			s.job.flash = term.Done(a.File + " is written.")
			return nil
		}, err
	})
}

func (s *pictureScreen) update(msg tea.Msg) tea.Cmd {
	return s.rows.update(msg)
}

func (s *pictureScreen) view(w, h int) term.Page {
	p := term.Page{nil}
	p.Head("A PICTURE", "  of the recovery under way, or of the last one made here")
	p.Blank()
	rows := s.rows.on(p, w)
	for _, d := range draw.Kinds() {
		rows.item(term.Text(term.Plain, string(d)).Fit(12).Add(term.Dim, d.Shows()))
	}
	p = rows.page
	p.Blank()
	l := term.Text(term.Plain, "    as ")
	forms := s.kind().Formats()
	for i, f := range forms {
		name := map[string]string{"svg": "SVG", "pdf": "PDF", "md": "Markdown"}[f]
		if i == s.form%len(forms) {
			l = l.Bold(term.Bright, "▸"+name+"   ")
		} else {
			l = l.Add(term.Dim, " "+name+"   ")
		}
	}
	p.Row(l.Add(term.Dim, words.If(s.dark, "dark background", "on a light background, as on paper")))
	if h > 12 {
		p.Blank()
	}
	p.Row(term.Text(term.Dim, "    goes to ").Add(term.Plain, term.CutPath(s.file(), max(20, w-14))))
	return p
}

func (s *pictureScreen) status() term.Line { return nil }

func (s *pictureScreen) remark() term.Line {
	return term.Text(term.Dim,
		"It is written beside your working tree, where "+s.job.s.Repo.Dialect().Name+" does not see it. “dorvik "+
			"draw” writes it anywhere.")
}
