package tui

import (
	"context"
	"slices"
	"strings"
	"testing"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/tui/term"
)

// at gives where a text stands on the screen.
func (b *bench) at(text string) (x, y int) {
	b.t.Helper()
	for y, row := range strings.Split(b.text(), "\n") {
		if before, _, found := strings.Cut(row, text); found {
			return ansi.StringWidth(before), y
		}
	}
	b.t.Fatalf("%q is not on the screen", text)
	return 0, 0
}

func (b *bench) click(text string) {
	b.t.Helper()
	x, y := b.at(text)
	cmd := b.m.receive(tea.MouseClickMsg{X: x, Y: y, Button: tea.MouseLeft})
	b.run(cmd)
}

// TestClicks: a click does what stands where it falls.
func TestClicks(t *testing.T) {
	s := demoClone(t)
	gittest.Own(t, "dorvik.check", "printf 'timetable/tide.go:3:1: "+
		"one\ntimetable/sailing.go:29:9: two\n'; exit 1")
	b := newBench(t, s.Clone)
	b.click("WHERE THE LINES PART") // nothing
	b.press("enter")
	b.click("one new commit joins")
	assert.Equal(t, plan.Merge, b.m.route)
	b.press("enter")
	b.click("  theirs  ")
	assert.Equal(t, settle.Theirs, b.m.settle.question().Question.Ways[b.m.settle.way].Way)
	first := b.m.settle.at
	b.click("2 ≠")
	assert.NotEqual(t, first, b.m.settle.at, "the other conflict")
	b.click("notices/pier.txt")
	b.see("You are only reading.", "made in joining")
	b.press("esc", "j")
	b.click("1 ≠")
	assert.Equal(t, 0, b.m.settle.at)
	assert.Same(t, b.m.settle, b.m.screen(), "the list lets the keys go")
	b.press("1", "enter", "1", "enter", "enter", "enter") // the check names a file of theirs
	b.see("▶ ✗ timetable/tide.go:3:1")
	b.click("timetable/sailing.go:29:9   two")
	b.see("▶ ✗ timetable/sailing.go:29:9")

	b.m.w, b.m.h = 80, 24
	b.m.goTo(b.m.choose)
	b.click("  Rebase")
	assert.Equal(t, plan.Rebase, b.m.route, "the tabs, too")
}

// TestTheListByNumber: digits go to a conflict, one after the other.
func TestTheListByNumber(t *testing.T) {
	b := newBench(t, demoClone(t).Clone)
	b.press("enter", "enter", "j", "2")
	assert.Equal(t, 1, b.m.settle.listed().row)
	b.press("7")
	assert.Equal(t, 1, b.m.settle.listed().row, "there is no 7th, and no 27th")
	b.press("1")
	assert.Equal(t, 0, b.m.settle.listed().row)
	b.press("end")
	b.see("rest of fares.go", "What joined by itself in this file, beside its conflicts.")
	b.press("enter") // its changes, one by one
	b.see("fares/fares.go", "write in it", "tab next change")
	b.press("esc", "up")
	b.see("This file joined by itself")
	b.press("enter")
	b.see("timetable/tide.go", "You are only reading.")
	b.press("esc", "2", "enter")
	assert.Equal(t, 1, b.m.settle.at)
	assert.Nil(t, b.m.settle.listed())
	b.press("+", "enter", "j", "end", "enter") // settled: now it can be edited, whole
	b.see("fares/fares.go", "reopen it, edit by edit", "write in it")
	b.press("w", "home", "/", "/", "ctrl+s")
	b.see("fares/fares.go is as you want it, by an edit that becomes part of")
	text, _, err := b.m.s.Planner.TextAt(t.Context(), b.m.join.Tree, "fares/fares.go")
	require.NoError(t, err)
	assert.Contains(t, text, "\n//")
	assert.Contains(t, text, "roundUp(rate*v.HalfMetres(), 10)", "with the decision")
}

// TestScrolling: by the wheel and by keys, on every kind of page.
func TestScrolling(t *testing.T) {
	b := newBench(t, demoClone(t).Clone)
	b.m.w, b.m.h = 80, 24
	wheel := func(button tea.MouseButton) {
		cmd := b.m.receive(tea.MouseWheelMsg{Button: button})
		b.run(cmd)
	}
	moves := func(where string) {
		t.Helper()
		top := b.text()
		wheel(tea.MouseWheelDown)
		assert.NotEqual(t, top, b.text(), where)
		wheel(tea.MouseWheelUp)
		assert.Equal(t, top, b.text(), where)
		b.press("end")
		assert.NotEqual(t, top, b.text(), where)
		b.press("home")
		assert.Equal(t, top, b.text(), where)
	}
	moves("Look")
	b.press("?")
	moves("the keys")
	b.press("esc", "enter")
	moves("Choose")
	b.press("enter", "v", "v")
	b.press("home")
	moves("the result")
}

// TestEveryOfferedKeyDoesSomething: what the last row names is not for nothing.
func TestEveryOfferedKeyDoesSomething(t *testing.T) {
	s := demoClone(t)
	gittest.Own(t, "dorvik.check", "echo timetable/sailing.go:29:9: undefined; exit 1")
	session, err := recovery.OpenSession(t.Context(), s.Clone)
	require.NoError(t, err)
	t.Cleanup(session.Close)
	open := func(path []string) *bench {
		for {
			if _, any, err := session.Ledger.UndoDecision(); err != nil || !any {
				break
			}
		}
		require.NoError(t, session.Ledger.Reach(ledger.Look))
		b := benchOf(t, session)
		b.m.w, b.m.h = 142, 40
		b.run(b.m.load(false))
		b.m.draw()
		b.press(path...)
		return b
	}
	check := []string{"enter", "enter", "enter", "enter", "enter"}
	for _, path := range [][]string{{}, {"?"}, {"enter"}, {"enter", "enter"}, {"enter", "enter", "j"}, {"h"}, {"h",
		"down", "enter"},
		{"h", "enter", "enter"}, {"h", "enter", "a"}, {"h", "/", "x"}, {"P"}, {"h", "c"}, {"h", "c",
			"enter"}, {"p"}, {","}, {",", "enter", "ctrl+t"},
		{"enter", "enter", "v"},
		{"enter", "enter", "w", "x"}, {"enter", "enter", "j", "end", "enter"}, {"enter", "enter", "enter"}, check,
		append(slices.Clone(check), "o"), append(slices.Clone(check), "s"), append(slices.Clone(check), "s", "y")} {
		offered := open(path).m.actions()
		for _, a := range offered {
			everywhere := key.Matches(tea.KeyPressMsg(keyOf("q")), a.Binding) ||
				key.Matches(tea.KeyPressMsg(keyOf("?")), a.Binding)
			if a.Help().Desc == "" || everywhere && len(path) > 0 {
				continue
			}
			b := open(path)
			if key.Matches(tea.KeyPressMsg(keyOf("enter")), a.Binding) && b.m.under == screen(b.m.push) {
				continue // what is accepted is tried elsewhere
			}
			before, under := b.text(), b.m.screen()
			for _, name := range a.Keys() {
				cmd := b.m.receive(tea.KeyPressMsg(keyOf(name)))
				if before == b.text() { // at one end of a list: then towards the other
					b.press("down")
				}
				assert.True(t, cmd != nil || before != b.text() || under != b.m.screen(), "%v: %s %s", path,
					a.Help().Key, a.Help().Desc)
			}
		}
	}
}

// TestLeavingWaitsForNobodyWhoPrints: what a check prints is kept whether or not the screen
// looks, so that its end never waits for the screen.
func TestLeavingWaitsForNobodyWhoPrints(t *testing.T) {
	f := newFrame(t.Context(), term.ThemeOf("dark"))
	out, began := newOutput(), make(chan struct{})
	cmd := f.start("printing", func(ctx context.Context, _ func(int, int)) (then, error) {
		for n := 0; ctx.Err() == nil; n++ {
			if out.add("line"); n == 3*maxOutput {
				close(began)
			}
		}
		return nil, ctx.Err()
	})
	for _, c := range cmd().(tea.BatchMsg) {
		go c()
	}
	<-began
	f.leave()
	select {
	case <-f.task.over:
	default:
		t.Error("it left before what it started had ended")
	}
	assert.Len(t, out.last(1<<30), maxOutput)
	assert.Equal(t, []string{"line", "line"}, out.last(2))
	assert.Nil(t, (*output)(nil).last(3))
}

// TestOutputOfAnotherRunIsPassedOver: a line that comes late is not drawn as the new run's.
func TestOutputOfAnotherRunIsPassedOver(t *testing.T) {
	f := newFrame(t.Context(), term.ThemeOf("dark"))
	s := &checkScreen{job: &job{frame: f}}
	f.task = &task{over: make(chan struct{})}
	s.output = newOutput()
	assert.Nil(t, s.update(printed{newOutput()}))
	assert.NotNil(t, s.update(printed{s.output}))
}

// TestAQuestionIsAnsweredByYAlone.
func TestAQuestionIsAnsweredByYAlone(t *testing.T) {
	f := newFrame(t.Context(), term.ThemeOf("light"))
	f.under = newHelp(f)
	yes, no := 0, 0
	ask := func() {
		f.ask(term.Text(term.Plain, "Shall it?"), "do it", quietly(func() { yes++ }), quietly(func() { no++ }))
	}
	ask()
	for _, k := range []string{"enter", "x", "q", "n"} {
		assert.Nil(t, f.key(tea.KeyPressMsg(keyOf(k))), k)
	}
	assert.Zero(t, yes+no)
	f.key(tea.KeyPressMsg(keyOf("esc")))
	ask()
	f.key(tea.KeyPressMsg(keyOf("y")))
	assert.Equal(t, []int{1, 1}, []int{yes, no})
	assert.Empty(t, f.over)
}

// TestTheLinesAreShownFirst: where they part, before the ways to join are worked out.
func TestTheLinesAreShownFirst(t *testing.T) {
	s, err := recovery.OpenSession(t.Context(), demoClone(t).Clone)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	b := benchOf(t, s)
	b.m.w, b.m.h = 142, 40
	v, err := s.Survey(t.Context(), true, nil)
	require.NoError(t, err)
	over := make(chan struct{})
	part, wait := b.m.under.(*opening).parting(over)
	part(v.Position, v.Below)
	b.run(wait)
	b.see("A push would be rejected", "Both ways to join are being worked out.", "WHERE THE LINES PART",
		"Rename DepthAt to DepthAtPier", "Print the berth on the ticket")
	b.fits("the lines before the ways")
	assert.NotContains(t, b.text(), "OVERLAP")
	assert.Nil(t, b.m.pos, "nothing else is known")
	close(over)
	_, wait = b.m.under.(*opening).parting(over)
	b.run(wait) // it ends where the lines are not found
}

// TestGoingOnIsDrawnWhileItIsJoined: what git left half done has one way on, and the lines are shown before it is worked
// out and after.
func TestGoingOnIsDrawnWhileItIsJoined(t *testing.T) {
	clone := demoClone(t).Clone
	_, err := gittest.At(t, clone).Try("pull", "-q", "--rebase", "--autostash")
	require.Error(t, err)
	s, err := recovery.OpenSession(t.Context(), clone)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	require.NoError(t, s.TakeOver(t.Context(), ledger.Finish))
	b := benchOf(t, s)
	b.m.w, b.m.h = 142, 40
	v, err := s.Survey(t.Context(), true, nil)
	require.NoError(t, err)
	b.m.under.(*opening).parts = v.Position
	for _, known := range []func(){func() {}, func() { b.m.loaded(v, true) }} {
		known()
		b.see("Going on with the rebase that was half done", "Branch and files are as they were left")
		assert.NotContains(t, b.text(), "Both ways")
	}
}
