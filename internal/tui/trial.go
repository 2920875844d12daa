package tui

import (
	"context"
	"errors"
	"strconv"
	"time"

	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/words"
)

// trial is a program of the person's, such as a server, that runs in the joined code beside the screen.
type trial struct {
	line    string
	out     *output
	stop    context.CancelFunc
	over    chan struct{} // closed when it ended
	started time.Time
	ended   string // how it ended, as a sentence; empty while it runs
}

// end ends the program and waits for that, but for no program that does not stop.
func (p *trial) end() {
	if p == nil {
		return
	}
	p.stop()
	select {
	case <-p.over:
	case <-time.After(time.Second):
	}
}

// name is the beginning of the command line, for a sentence.
func (p *trial) name() string {
	const most = 40
	if r := []rune(p.line); len(r) > most {
		return string(r[:most-1]) + "…"
	}
	return p.line
}

// runs reports whether the program runs.
func (p *trial) runs() bool { return p != nil && p.ended == "" }

// record says how the program ended.
func (p *trial) record(r check.Report, err error, at time.Time) {
	p.stop() // releases the context of a program that ended by itself
	took := " after " + words.Seconds(at.Sub(p.started)) + "."
	switch {
	case errors.Is(err, context.Canceled):
		p.ended = "You ended it" + took
	case err != nil:
		p.ended = words.Sentence(err.Error())
	case r.Passed:
		p.ended = "It ended well" + took
	default:
		p.ended = "It ended with status " + strconv.Itoa(r.Exit) + took
	}
}
