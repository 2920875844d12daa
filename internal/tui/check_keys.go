package tui

import (
	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/draw"
	"dorvik.dev/dorvik/internal/prove"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/words"
)

func (s *checkScreen) actions() []action {
	var out []action
	onward := acts(keys.Next, "go on to Push", s.job.nav.toPush)
	again := acts(keys.Again, "", s.run)
	switch {
	case !s.ready && s.job.task == nil: // the check could not be prepared
		out = append(out, acts(keys.Again, "try again", s.enter))
	case !s.ready:
	case s.running():
		out = append(out, act(keys.Stop, words.If(s.making, "stop it", "stop the check"), s.job.stop))
	case s.making:
		agreed := s.unmade || s.mayMake
		out = append(out, acts(keys.Next, words.If(agreed, "regenerate it", "agree and regenerate it"), s.makeAnew),
			act(keys.Skip, "", s.withoutMaking))
		out = append(out, s.asksAction(s.makeAnew)...)
	case s.passed():
		out = append(append(out, onward, again, also(keys.Write, s.typeCheck)), s.eachAction()...)
	case s.failed():
		if len(s.places) > 0 && s.holder != "" {
			out = append(out, acts(keys.Next, "mend it here", s.mending().mend))
		}
		if len(s.places) > 1 {
			out = append(out, act(keys.Up, "error", quietly(func() { s.at = max(0, s.at-1) })),
				also(keys.Down, quietly(func() { s.at = min(len(s.places)-1, s.at+1) })))
		}
		out = append(append(append(out, s.installAction()...), s.mending().mendAction()...), again,
			act(keys.Skip, "", s.without),
			acts(keys.Write, "another command", s.typeCheck))
	case s.terms == nil:
		out = append(out, acts(keys.Next, "go on without", s.job.nav.toPush), acts(keys.Write, "type a command",
			s.typeCheck))
		out = append(out, s.mending().mendAction()...)
	default:
		out = append(out, acts(keys.Next, words.If(s.agreed, "run it", "agree and run it"), s.run))
		out = append(append(append(out, s.asksAction(s.run)...), s.mending().mendAction()...),
			act(keys.Skip, "", s.without), acts(keys.Write, "another command", s.typeCheck))
	}
	return append(append(out, s.lookingActions()...), acts(keys.Back, "", s.leave), drawAction(s.job, draw.KindReport))
}

// lookingActions returns the actions that look at the result and undo a mend.
func (s *checkScreen) lookingActions() (out []action) {
	if c := s.cause(); c != nil && !s.running() {
		out = append(out, acts(keys.Origin, "", func() tea.Cmd { return s.backTo(c) }))
	}
	if s.at < len(s.places) && s.failed() {
		out = append(out, also(keys.Annotate, func() tea.Cmd { return openJoinedLines(s.job, s.places[s.at].Path) }))
	}
	if s.failed() {
		out = append(out, s.eachAction()...)
	}
	if !s.running() {
		out = append(out, s.lostAction()...)
	}
	out = append(out, s.pairing().pairActions()...)
	if s.output != nil {
		out = append(out, act(keys.Output, "", s.wholeOutput))
	}
	if s.ready && !s.running() && !s.making && s.holder != "" {
		out = append(out, acts(keys.Try, "", s.tryIt))
	}
	if s.ready && !s.running() && (len(s.job.st.Mends) > 0 || s.taken != nil) {
		out = append(out, acts(keys.Undo, "undo the mend", s.mending().undoMend))
	}
	if s.ready && !s.running() {
		out = append(out, roadAction(s.job, nil)...)
	}
	return out
}

// toAgree returns the commands that need an agreement before the next step, because others changed what they run.
func (s *checkScreen) toAgree() (out []*prove.Terms) {
	all := s.makes
	if !s.making && s.terms != nil {
		all = []*prove.Terms{s.terms}
	}
	for _, t := range all {
		if len(t.Asks) > 0 {
			out = append(out, t)
		}
	}
	return out
}

// asksAction shows everything that others changed, with the choice to trust them.
func (s *checkScreen) asksAction(onward func() tea.Cmd) []action {
	all := s.toAgree()
	if len(all) == 0 {
		return nil
	}
	return []action{acts(keys.Views, "what others changed", func() tea.Cmd { return openConsent(s.job, all, onward) })}
}
