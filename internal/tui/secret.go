package tui

import (
	"context"
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/askpass"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// secretScreen asks for a password or a passphrase, or whether a server is the right one, for git or ssh. What is typed
// is not shown, stored or logged.
type secretScreen struct {
	screen
	f     *frame
	asked asked
	typed []rune
}

// asked is the message that git or ssh asks.
type asked struct {
	prompt string
	reply  chan<- *string // nil for no answer
	from   <-chan asked   // further prompts
}

// serveAsks has git and ssh ask on the screen. close ends that. It returns a command that waits for prompts.
func (f *frame) serveAsks(ctx context.Context) (env []string, wait tea.Cmd, close func(), err error) {
	prompts := make(chan asked)
	s, err := askpass.Serve(ctx, func(ctx context.Context, prompt string) (string, bool) {
		reply := make(chan *string, 1)
		select {
		case prompts <- asked{prompt, reply, prompts}:
		case <-ctx.Done():
			return "", false
		}
		select {
		case answer := <-reply:
			if answer == nil {
				return "", false
			}
			return *answer, true
		case <-ctx.Done():
			return "", false
		}
	})
	if err != nil {
		return nil, nil, func() {}, err
	}
	return s.Env, awaitAsk(prompts), s.Close, nil
}

// awaitAsk waits for a prompt.
func awaitAsk(prompts <-chan asked) tea.Cmd {
	return func() tea.Msg { return <-prompts }
}

// asks shows a prompt, and waits for the next one.
func (f *frame) asks(a asked) tea.Cmd {
	f.open(&secretScreen{screen: f.screen(), f: f, asked: a})
	return awaitAsk(a.from)
}

func (s *secretScreen) answer(text *string) func() tea.Cmd {
	return func() tea.Cmd {
		s.f.close()
		s.asked.reply <- text
		return nil
	}
}

func (s *secretScreen) actions() []action {
	text := string(s.typed)
	return []action{act(keys.Next, "answer", s.answer(&text)), act(keys.Back, "do not answer", s.answer(nil))}
}

func (s *secretScreen) unsaved() term.Line { return nil }

func (s *secretScreen) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case tea.KeyPressMsg:
		switch {
		case msg.Code == tea.KeyBackspace && len(s.typed) > 0:
			s.typed = s.typed[:len(s.typed)-1]
		case msg.Text != "":
			s.typed = append(s.typed, []rune(msg.Text)...)
		}
	case tea.PasteMsg:
		s.typed = append(s.typed, []rune(words.OneLine(msg.Content))...)
	}
	return nil
}

func (s *secretScreen) view(w, h int) term.Page {
	var q term.Page
	q.Row(term.Rule(w))
	for line := range strings.Lines(s.asked.prompt) {
		q.Say(w, term.Text(term.Bright, strings.TrimSpace(line)))
	}
	typed := "Type the answer; it is not shown."
	if n := len(s.typed); n > 0 {
		typed = fmt.Sprintf("%s typed, not shown.", words.Count(n, "character", "characters"))
	}
	q.Say(w, term.Text(term.Dim, typed))
	p := s.screen.view(w, h-len(q))
	for len(p) < h-len(q) {
		p.Blank()
	}
	return append(p[:h-len(q)], q...)
}

func (s *secretScreen) status() term.Line { return term.Text(term.Dim, "a question") }

func (s *secretScreen) remark() term.Line {
	return term.Text(term.Dim, "Dorvik passes the answer on and stores nothing.")
}
