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
	"dorvik.dev/dorvik/internal/words"
)

// pictureScreen chooses what is drawn, and how, and writes it beside the working tree.
type pictureScreen struct {
	*job
	row  int
	form int // of the formats that the drawing comes in
	dark bool

	waypoint string // of the recovery that is drawn; empty for that under way, or the last
}

// drawings says what each drawing shows.
var drawings = []struct {
	kind draw.Kind
	what string
}{
	{draw.KindHistory, "the commits with their lines: what was joined to what"},
	{draw.KindOverlap, "file by file, both sides' changed lines"},
	{draw.KindRoutes, "both ways to join, side by side"},
	{draw.KindActivity, "who committed when, and how much"},
	{draw.KindReport, "all of it in sentences, for a reviewer or the archive"},
}

// drawAction is the key that draws, where a drawing of what the screen shows exists.
func (j *job) drawAction(kind draw.Kind) action {
	return act(keys.picture, "", func() tea.Cmd {
		row := slices.Index(draw.Kinds, kind)
		j.open(&pictureScreen{job: j, row: row})
		return nil
	})
}

func (s *pictureScreen) formats() []string {
	if drawings[s.row].kind == draw.KindReport {
		return []string{"pdf", "svg", "md"}
	}
	return []string{"svg", "pdf"}
}

// file is where it is written: beside the working tree, so that this is not in the way of git,
// and under a name that is free.
func (s *pictureScreen) file() string {
	forms := s.formats()
	name := fmt.Sprintf("%s-%s", s.repo, drawings[s.row].kind)
	dir := filepath.Dir(s.s.Repo.Where().Dir)
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
		return quietly(func() { n := len(s.formats()); s.form = (s.form + by + n) % n })
	}
	out := append([]action{acts(keys.next, "write it", s.write)}, rowKeys("drawing", len(drawings), len(drawings),
		s.move)...)
	return append(out, act(keys.left, "format", turn(-1)), also(keys.right, turn(1)),
		act(keys.views, words.If(s.dark, "on light ground", "on dark ground"), quietly(func() { s.dark = !s.dark })),
		act(keys.back, "", quietly(s.close)))
}

func (s *pictureScreen) move(by int) tea.Cmd {
	s.row, s.form = max(0, min(s.row+by, len(drawings)-1)), 0
	return nil
}

// write makes the drawing and writes it.
func (s *pictureScreen) write() tea.Cmd {
	a := draw.Asked{Kind: drawings[s.row].kind, File: s.file(), Dark: s.dark, Waypoint: s.waypoint}
	return s.start("drawing", func(ctx context.Context, _ func(int, int)) (then, error) {
		data, err := draw.Make(ctx, s.s.History, a)
		if err == nil {
			err = draw.Write(a.File, data)
		}
		return func() tea.Cmd {
			s.close()
			s.flash = done(a.File + " is written.")
			return nil
		}, err
	})
}

func (s *pictureScreen) update(msg tea.Msg) tea.Cmd {
	if at, ok := msg.(clickedCommit); ok {
		s.row, s.form = int(at), 0
	}
	return nil
}

func (s *pictureScreen) view(w, h int) page {
	p := page{nil}
	p.head("A PICTURE", "  of the recovery under way, or of the last one made here")
	p.blank()
	for i, d := range drawings {
		l := txt(bright, words.If(i == s.row, "  ▶ ", "    ")).then(txt(plain, string(d.kind)).fit(12)).add(dim,
			d.what).cut(w)
		if i == s.row {
			l = l.fit(w).on(onRow)
		}
		p.row(l.clicks(clickedCommit(i)))
	}
	p.blank()
	l := txt(plain, "    as ")
	forms := s.formats()
	for i, f := range forms {
		name := map[string]string{"svg": "SVG", "pdf": "PDF", "md": "Markdown"}[f]
		if i == s.form%len(forms) {
			l = l.bold(bright, "▸"+name+"   ")
		} else {
			l = l.add(dim, " "+name+"   ")
		}
	}
	p.row(l.add(dim, words.If(s.dark, "on dark ground", "on light ground, as paper is")))
	if h > 12 {
		p.blank()
	}
	p.row(txt(dim, "    goes to ").add(plain, cutPath(s.file(), max(20, w-14))))
	return p
}

func (s *pictureScreen) status() line { return nil }

func (s *pictureScreen) remark() line {
	return txt(dim, "It is written beside your working tree, where git does not see it. “dorvik draw” writes it "+
		"anywhere.")
}
