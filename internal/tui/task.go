package tui

import (
	"context"
	"fmt"
	"sync/atomic"
	"time"

	tea "charm.land/bubbletea/v2"
)

// task is work that runs beside the screen. There is one at a time; keys that
// change things wait for its end, all others work.
type task struct {
	doing    string
	started  time.Time
	cancel   context.CancelFunc
	over     chan struct{} // closed when the work has ended
	vital    bool          // it changes the branch, and is let finish
	done, of atomic.Int64
}

type (
	// tick redraws while a task runs, or as time passes.
	tick struct{}
	// failed is a task that ended in an error.
	failed struct{ err error }
)

// slow is how long work may take before the screen speaks of it.
const slow = 150 * time.Millisecond

// start runs work. What it returns comes back as a message.
func (m *model) start(doing string, work func(ctx context.Context, progress func(done, of int)) (tea.Msg, error)) tea.Cmd {
	ctx, cancel := context.WithCancel(m.ctx)
	t := &task{doing: doing, started: time.Now(), cancel: cancel, over: make(chan struct{})}
	m.task = t
	run := func() tea.Msg {
		defer close(t.over)
		defer cancel()
		msg, err := work(ctx, func(done, of int) { t.done.Store(int64(done)); t.of.Store(int64(of)) })
		if err != nil {
			return ended{t, failed{err}}
		}
		return ended{t, msg}
	}
	return tea.Batch(run, tickAfter(slow))
}

// ended is the end of a task with its outcome.
type ended struct {
	task *task
	msg  tea.Msg
}

func tickAfter(d time.Duration) tea.Cmd {
	return tea.Tick(d, func(time.Time) tea.Msg { return tick{} })
}

var spin = []string{"◜", "◝", "◞", "◟"}

// line says what runs, once it is slow.
func (t *task) line() line {
	d := time.Since(t.started)
	if d < slow {
		return nil
	}
	l := txt(joined, spin[int(d/slow)%len(spin)]+" ").add(plain, t.doing)
	if of := t.of.Load(); of > 0 {
		l = l.add(dim, fmt.Sprintf("  %d of %d", t.done.Load(), of))
	}
	if d > 2*time.Second {
		l = l.add(dim, "  "+seconds(d))
	}
	return l.add(dim, "   ctrl+c cancels")
}

// leave cancels what runs when the screen is left, and waits until it has ended
// what it started; a task that changes the branch is let finish.
func (m *model) leave() {
	if m.task == nil {
		return
	}
	patience := time.After(5 * time.Second)
	if m.task.vital {
		patience = nil
	} else {
		m.task.cancel()
	}
	select {
	case <-m.task.over:
	case <-patience:
	}
}
