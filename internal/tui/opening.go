package tui

import (
	"context"
	"errors"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// opening is the screen before the position is known, or if it cannot be.
type opening struct {
	job *job
	why error // reason why nothing can be done

	parts *plan.Position // where the lines part; known before the routes
	stem  []history.Node // commits below that point
}

// parting returns a function that receives where the lines part and shows it, and one that waits for it.
func (o *opening) parting(over <-chan struct{}) (part func(*plan.Position, []history.Node), wait tea.Cmd) {
	known := make(chan func(), 1)
	return func(p *plan.Position, below []history.Node) {
			known <- func() { o.parts, o.stem = p, below }
		}, o.job.newBeside().start(func(context.Context) (then, error) {
			select {
			case show := <-known:
				return func() tea.Cmd { show(); return nil }, nil
			case <-over:
				return nil, nil
			}
		})
}

// early shows the two lines before the rest of Look is known.
func (o *opening) early(w, h int) term.Page {
	p := term.Page{nil}
	st := o.parts.Standing(false)
	p.Say(w, term.Line{}.Bold(term.Trouble, st.Head+" ").Add(term.Plain, st.Text))
	if o.parts.Resumes() == nil {
		p.Say(w, term.Text(term.Dim, "Both ways to join are being worked out."))
	} else {
		p.Say(w, term.Text(term.Dim, st.Next))
	}
	p.Blank()
	lines, width := lanes{job: o.job, pos: o.parts, below: o.stem}, w-3
	if w >= wide {
		width = max(w/2+2, min(lines.need()+6, w*60/100)) - 3
	}
	return append(p, term.Indent(lines.view(width, h-len(p)-4), 2)...)
}

func (o *opening) actions() []action {
	if o.why == nil {
		return nil
	}
	var out []action
	var help *recovery.Offered
	if errors.As(o.why, &help) {
		out = append(out, acts(keys.Next, help.Offer.Does, func() tea.Cmd {
			return o.job.start(help.Offer.Does, func(ctx context.Context, _ func(int, int)) (then, error) {
				err := o.job.s.TakeUp(ctx, help.Offer)
				return func() tea.Cmd {
					o.job.notice = o.job.s.TakeNotice()
					return o.job.nav.startOver(true)
				}, err
			})
		}))
	}
	return append(out, acts(keys.Fetch, "look again", func() tea.Cmd {
		return o.job.nav.startOver(o.job.pos != nil)
	}))
}

func (o *opening) update(tea.Msg) tea.Cmd { return nil }

func (o *opening) view(w, h int) term.Page {
	p := term.Page{nil}
	var b *plan.Blocked
	switch {
	case o.why == nil && o.parts != nil && o.parts.Trivial() == plan.NotTrivial && !o.parts.IsPick():
		return o.early(w, h)
	case o.why == nil:
		return p
	case errors.As(o.why, &b):
		p.Say(w, term.Line{}.Bold(term.Trouble, b.What+" ").Add(term.Plain, b.Next+remedy(o.why)))
	case errors.Is(o.why, context.Canceled):
		p.Say(w, term.Line{}.Bold(term.Bright, "Cancelled. ").Add(term.Plain,
			"Your position was not read to the end."))
	default:
		p.Say(w, term.Line{}.Bold(term.Trouble, "This did not work. ").Add(term.Plain, words.Sentence(o.why.Error())))
	}
	var help *recovery.Offered
	if errors.As(o.why, &help) {
		p.Blank()
		p.Say(w, term.Text(term.Plain, "Press ").Bold(term.Bright, keys.Next.Help().Key).Add(term.Plain,
			" to "+help.Offer.Does+"."))
	}
	if o.job.notice != "" {
		p.Blank()
		p.Warn(w, o.job.notice)
	}
	p.Blank()
	p.Say(w, term.Text(term.Dim, "Nothing has been changed. Press f to look again, q to leave."))
	return p
}

func (o *opening) status() term.Line { return nil }

func (o *opening) remark() term.Line {
	return term.Text(term.Dim, "Nothing has been changed: your branch and working tree are as you left them.")
}

// remedy returns how to answer an error on purpose, as a sentence after it, or "". Commands have their own.
func remedy(err error) string {
	var blocked *plan.Blocked
	var moved *change.MovedError
	switch {
	case errors.As(err, &moved) && moved.Undo != "":
		return " The logbook (l) goes back all the same, or takes back only that join."
	case !errors.As(err, &blocked):
		return ""
	}
	return map[plan.Remedy]string{
		plan.JoinUnrelated: " To join them all the same, start dorvik --unrelated.",
		plan.UndoPushed:    " The logbook (l) takes it back by a new commit.",
	}[blocked.Remedy]
}
