package tui

import (
	"fmt"
	"testing"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"

	"dorvik/internal/recovery"
)

func TestViewerGoesFromChangeToChange(t *testing.T) {
	v := &viewer{title: txt(plain, "t"), numbers: true}
	for i := range 60 {
		l := recovery.Line{Text: fmt.Sprint("line ", i)}
		if i == 0 || i == 20 || i == 21 || i == 50 {
			l.Origin = recovery.LineYours
		}
		v.lines = append(v.lines, l)
	}
	v.seek(1)
	assert.Equal(t, 20-lead, v.off)
	v.jump(true)
	assert.Equal(t, 50-lead, v.off)
	v.jump(true)
	assert.Equal(t, 50-lead, v.off, "there is none after it")
	v.jump(false)
	assert.Equal(t, 20-lead, v.off)
	v.jump(false)
	assert.Equal(t, 0, v.off)
	v.off = 1000
	p := v.view(30, 12)
	assert.Len(t, p, 12)
	assert.Contains(t, ansi.Strip(dark.render(p[11])), "line 59", "it stops at the end")
	v.off = -5
	assert.Contains(t, ansi.Strip(dark.render(v.view(30, 12)[2])), "●", "and at the start")
}

func TestWindowSaysWhatIsHidden(t *testing.T) {
	var p page
	for i := range 20 {
		p.row(txt(plain, fmt.Sprint("row ", i)))
	}
	for _, c := range []struct {
		off, at     int
		first, last string
	}{{0, 0, "row 0", "  ↓ 16 more below"}, {3, 3, "  ↑ 4 more above", "  ↓ 13 more below"}, {99, 15, "  ↑ 16 more above", "row 19"}, {-4, 0, "row 0", "  ↓ 16 more below"}} {
		off := c.off
		w := window(p, 5, &off)
		assert.Equal(t, c.at, off)
		assert.Equal(t, c.first, w[0][0].text)
		assert.Equal(t, c.last, w[4][0].text)
	}
	off := 7
	assert.Len(t, window(p, 30, &off), 20)
	assert.Zero(t, off)
}
