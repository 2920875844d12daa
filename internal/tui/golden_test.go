package tui

import (
	"bytes"
	"flag"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"os"
	"path/filepath"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"

	"dorvik.dev/dorvik/internal/gittest"
)

var update = flag.Bool("update", false, "write the golden texts anew")

// golden compares the screen at three sizes with what it was when it was looked at last.
func (b *bench) golden(name string) {
	b.t.Helper()
	w, h := b.m.w, b.m.h
	var got txtar.Archive
	for _, size := range [][2]int{{80, 24}, {142, 40}, {200, 60}} {
		b.m.receive(tea.WindowSizeMsg{Width: size[0], Height: size[1]})
		b.m.draw()
		var text strings.Builder
		for row := range strings.Lines(b.text()) {
			text.WriteString(strings.TrimRight(row, " \n") + "\n")
		}
		got.Files = append(got.Files, txtar.File{Name: fmt.Sprintf("%d×%d", size[0], size[1]),
			Data: []byte(text.String())})
	}
	b.m.receive(tea.WindowSizeMsg{Width: w, Height: h})
	b.m.draw()
	file := filepath.Join("testdata", "golden", name+".txtar")
	if *update {
		require.NoError(b.t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(b.t, os.WriteFile(file, txtar.Format(&got), 0o644))
		return
	}
	want, err := txtar.ParseFile(file)
	require.NoError(b.t, err)
	require.Len(b.t, want.Files, len(got.Files), file)
	for i, f := range want.Files {
		assert.Equal(b.t, string(f.Data), string(got.Files[i].Data),
			"%s, %s; go test -update writes it anew once it was "+
				"looked at", name, f.Name)
	}
}

// TestSettleReadsAsItDid holds the texts of Settle still, at three sizes.
func TestSettleReadsAsItDid(t *testing.T) {
	b := newBench(t, demoClone(t).Clone)
	b.press("enter", "enter")
	b.golden("content")
	b.press("3")
	b.golden("another-way")
	b.press("v")
	b.golden("edits")
	b.press("v", "v")
	b.golden("three-texts")
	b.press("v")
	b.golden("against")
	b.press("v", "t")
	b.golden("edit-by-edit")
	b.press("esc", "w")
	b.golden("writing")
	b.press("ctrl+t")
	b.golden("taking-over")
	b.press("esc", "esc", "+")
	b.golden("many")
	b.press("esc", "j", "down", "down", "enter")
	b.golden("joined-by-itself")
}

// TestShapesReadAsTheyDid does so for conflicts that are no places in texts.
func TestShapesReadAsTheyDid(t *testing.T) {
	gittest.Isolate(t)
	t.Setenv("GIT_COMMITTER_EMAIL", "runa@skerry.example") // whoever is at the keyboard made none of it
	remote := gittest.New(t, "--bare")
	mine, other := remote.Clone(), remote.Clone()
	badge := func(w, h int, c color.Color) string {
		img := image.NewRGBA(image.Rect(0, 0, w, h))
		for y := range h {
			for x := range w {
				img.Set(x, y, color.White)
				if y > h/4 && y < 3*h/4 && x > w/4 && x < 3*w/4 {
					img.Set(x, y, c)
				}
			}
		}
		var b bytes.Buffer
		require.NoError(t, png.Encode(&b, img))
		return b.String()
	}
	const notice = "Pier 2 is closed on Sundays.\nUse the slip at Ness.\nTickets on board.\n"
	mine.Commit("The notices", "assets/badge.png", badge(32, 32, color.Black), "notices/pier.txt", notice,
		"fares/old.txt",
		"one\ntwo\nthree\n")
	mine.Git("push", "-q", "-u", "origin", "HEAD")
	other.Git("pull", "-q")
	other.Git("rm", "-q", "notices/pier.txt")
	other.Git("mv", "fares/old.txt", "fares/bands.txt")
	other.Commit("All notices in one file", "notices/all.txt",
		"All notices\n"+notice+strings.Repeat("More of them.\n", 9),
		"assets/badge.png", badge(64, 32, color.RGBA{200, 60, 40, 255}), "timetable/a", "theirs\n", "hours.txt",
		"from 8 to 17\n")
	other.Git("push", "-q")
	mine.Git("fetch", "-q")
	mine.Git("mv", "fares/old.txt", "fares/zones.txt")
	mine.Commit("Closed on holidays, too", "notices/pier.txt", strings.Replace(notice, "Sundays",
		"Sundays and holidays", 1),
		"assets/badge.png", badge(32, 32,
			color.RGBA{30, 90, 160, 255}), "timetable", "mine\n", "hours.txt", "from 7 to 18\n")
	b := newBench(t, mine.Dir)
	b.press("enter", "enter")
	for seen := map[string]bool{}; !seen[b.m.settle.question().Question.Path]; b.press("tab") {
		q := b.m.settle.question().Question
		seen[q.Path] = true
		b.golden("shape-" + strings.ReplaceAll(strings.ReplaceAll(string(q.Kind), "/", "-"), " ", "-"))
		b.fits(q.Path)
	}
}
