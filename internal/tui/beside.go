package tui

import (
	"context"
	"errors"
	"time"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/core/caught"
)

// besides runs read-only work beside the screen and its task, any number at a time.
type besides struct {
	stop context.CancelFunc
	// do runs work, recovers panics, and reports whether the person left the screen meanwhile.
	do func(work func(context.Context) error) (left bool, err error)
}

// besideEnded is the message that such work ended.
type besideEnded struct {
	then then
	err  error
}

// newBeside returns a place for the background work of a screen. The work ends with the screen.
func (f *frame) newBeside() besides {
	ctx, stop := f.begin()
	return besides{stop, func(work func(context.Context) error) (bool, error) {
		err := caught.Do(func() error { return work(ctx) })
		return ctx.Err() != nil, err
	}}
}

// start runs work. Its result is applied on the screen unless the screen was left.
func (b besides) start(do func(ctx context.Context) (then, error)) tea.Cmd {
	return func() tea.Msg {
		var then then
		left, err := b.do(func(ctx context.Context) (err error) {
			then, err = do(ctx)
			return err
		})
		if left {
			return nil
		}
		return besideEnded{then, err}
	}
}

// endedBeside applies the result of background work.
func (f *frame) endedBeside(e besideEnded) tea.Cmd {
	if e.err != nil {
		if !errors.Is(e.err, context.Canceled) {
			return f.failed(e.err)
		}
		return nil
	}
	if e.then == nil {
		return nil
	}
	return e.then()
}

// news tells a screen that work beside it has more to show. However much it is, it is one message until that is drawn.
type news chan struct{}

func newNews() news { return make(news, 1) }

// tell records that there is more.
func (n news) tell() {
	select {
	case n <- struct{}{}:
	default:
	}
}

// drawEvery is the least time between two drawings of such work.
const drawEvery = 33 * time.Millisecond

// wait returns a command that waits until there is more, and then sends msg; or nothing once over is closed.
func (n news) wait(msg tea.Msg, over <-chan struct{}) tea.Cmd {
	return func() tea.Msg {
		select {
		case <-n:
			time.Sleep(drawEvery)
			return msg
		case <-over:
			return nil
		}
	}
}
