package tui

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/core/caught"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// task is work beside the screen, one at a time. Keys that change things wait for its end; all others work.
type task struct {
	doing    string
	started  time.Time
	cancel   context.CancelFunc
	over     chan struct{} // closed when the work ended
	vital    bool          // the task changes the branch, so it is not cancelled
	done, of atomic.Int64
}

// then is applied on the screen when a task has ended.
type then func() tea.Cmd

// work is the background part of a task. It touches nothing that the screen draws.
type work func(ctx context.Context, progress func(done, of int)) (then, error)

// ended is the message that a task ended.
type ended struct {
	task *task
	then then
	err  error
}

// slow is the time after which the screen mentions running work.
const slow = 150 * time.Millisecond

// start runs work and cancels what ran before.
func (f *frame) start(doing string, do work) tea.Cmd {
	ctx, cancel := f.begin()
	t := &task{doing: doing, started: time.Now(), cancel: cancel, over: make(chan struct{})}
	f.task = t
	run := func() tea.Msg {
		defer close(t.over)
		defer cancel()
		var then then
		err := caught.Do(func() (err error) {
			then, err = do(ctx, func(done, of int) { t.done.Store(int64(done)); t.of.Store(int64(of)) })
			return err
		})
		return ended{t, then, t.defect(err)}
	}
	return tea.Batch(run, f.spin.Tick)
}

// defect adds advice to a defect of the program.
func (t *task) defect(err error) error {
	var is *caught.Error
	switch {
	case !errors.As(err, &is):
		return err
	case t.vital:
		return fmt.Errorf("%s failed: %w. Leave, and start dorvik again: it completes the change", t.doing, err)
	}
	return fmt.Errorf("%s failed: %w. Your branch and files are as they were", t.doing, err)
}

// startVital runs work that must not be cancelled.
func (f *frame) startVital(doing string, do work) tea.Cmd {
	cmd := f.start(doing, do)
	f.task.vital = true
	return cmd
}

// finished applies the result of the current task.
func (f *frame) finished(e ended) tea.Cmd {
	if e.task != f.task {
		return nil // cancelled; another task runs
	}
	if f.waited == f.task {
		f.flash = nil // the flash asked to wait for this task
	}
	f.task, f.waited = nil, nil
	if e.err != nil {
		return f.failed(e.err)
	}
	if e.then == nil {
		return nil
	}
	return e.then()
}

// running describes the running work once it is slow.
func (f *frame) running() term.Line {
	t := f.task
	if t == nil || time.Since(t.started) < slow {
		return nil
	}
	l := term.Drawn(f.spin.View()).Add(term.Plain, " "+t.doing)
	if of := t.of.Load(); of > 0 {
		done := t.done.Load()
		l = l.Add(term.Plain, "  ").Then(term.Drawn(f.bar.ViewAs(float64(done)/float64(of)))).
			Add(term.Dim, fmt.Sprintf("  %d of %d", done, of))
	}
	if done := t.done.Load(); done > 0 && t.of.Load() == 0 {
		l = l.Add(term.Dim, fmt.Sprintf("  %d so far", done))
	}
	if d := time.Since(t.started); d > 2*time.Second {
		l = l.Add(term.Dim, "  "+words.Seconds(d))
	}
	return l.Add(term.Dim, "   ctrl+c cancels")
}

// busy reports whether a task runs that a key must wait for, and says so on the screen.
func (f *frame) busy() bool {
	if f.task == nil {
		return false
	}
	f.flash, f.waited = term.Text(term.Plain, "One moment: "+f.task.doing+". ctrl+c cancels."), f.task
	return true
}

// leave cancels the running task and waits for its end. A task that changes the branch is completed.
func (f *frame) leave() {
	if f.task == nil {
		return
	}
	patience := time.After(time.Second) // limit for a program that does not stop
	if f.task.vital {
		patience = nil
	} else {
		f.task.cancel()
	}
	select {
	case <-f.task.over:
	case <-patience:
	}
}

// output keeps the last lines that a task printed. Printing never waits for the screen.
type output struct {
	mu    sync.Mutex
	lines []string
	steps []check.Step // steps of the running check
	step  int          // current step, from 0
	fresh news
}

// printed is the message that an output has more. Screens ignore outputs of others.
type printed struct{ out *output }

// maxOutput is the most lines that are kept.
const maxOutput = 20000

func newOutput() *output { return &output{fresh: newNews()} }

func (o *output) add(l string) {
	o.mu.Lock()
	if o.lines = append(o.lines, l); len(o.lines) >= 2*maxOutput {
		o.lines = append([]string(nil), o.lines[len(o.lines)-maxOutput:]...)
	}
	o.mu.Unlock()
	o.fresh.tell()
}

// begin records the step that begins.
func (o *output) begin(steps []check.Step, at int) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.steps, o.step = steps, at
}

// begun returns the steps of the running check and the current one, or none.
func (o *output) begun() (steps []check.Step, at int) {
	if o == nil {
		return nil, 0
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.steps, o.step
}

// last returns at most the last n lines.
func (o *output) last(n int) []string {
	if o == nil {
		return nil
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	from := max(0, len(o.lines)-min(n, maxOutput))
	return append([]string(nil), o.lines[from:]...)
}

// more waits until there is more to draw or the task has ended.
func (o *output) more(over <-chan struct{}) tea.Cmd { return o.fresh.wait(printed{o}, over) }
