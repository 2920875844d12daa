package hg

import (
	"bytes"
	"context"
	"os"
	"os/exec"
	"strings"

	"dorvik.dev/dorvik/internal/core/rx"
	"dorvik.dev/dorvik/internal/vcs"
)

// askpass is the variable with the program that asks the person. hg itself does not know it, so its questions for a
// user's name and a password are passed on.
const askpass = "SSH_ASKPASS="

// asks reports whether there is a program that asks the person.
func (s *server) asks() (program string) {
	for _, v := range s.env {
		if rest, ok := strings.CutPrefix(v, askpass); ok {
			program = rest
		}
	}
	return program
}

// loginFor matches what hg says before it asks.
var loginFor = rx.New(`http authorization required for (\S+)`)

// question cuts off what hg asks from what it says: the login, or a last line without an end.
func question(said *bytes.Buffer) string {
	text := said.String()
	i := strings.LastIndexByte(text, '\n') + 1
	if found := loginFor.FindStringSubmatchIndex(text); found != nil {
		i = found[0]
	}
	said.Truncate(i)
	return text[i:]
}

// login answers what hg asks during a command.
type login struct {
	server *server
	words  string          // what it asked so far
	given  map[string]bool // what was answered already: asked again, it was wrong
}

// answer asks the person what hg asks at the end of its words. It returns an empty text if nobody answers, or if hg
// asks something else. An answer is kept in memory for the next command, until one fails.
func (l *login) answer(ctx context.Context, words string) string {
	l.words += words
	at := ""
	for _, found := range loginFor.FindAllStringSubmatch(l.words, -1) {
		at = vcs.WithoutSecrets(found[1])
	}
	what := ""
	switch last := strings.TrimSpace(l.words); {
	case at == "" || l.server.asks() == "":
	case strings.HasSuffix(last, "user:"):
		what = "User name for " + at + ":"
	case strings.HasSuffix(last, "password:"):
		what = "Password for " + at + ":"
	}
	if what == "" {
		return ""
	}
	if line, ok := l.server.answers[what]; ok && !l.given[what] {
		l.given[what] = true
		return line
	}
	cmd := exec.CommandContext(ctx, l.server.asks(), what)
	cmd.Env = append(os.Environ(), l.server.env...)
	out, err := cmd.Output()
	if err != nil {
		return ""
	}
	line, _, _ := strings.Cut(string(out), "\n")
	l.given[what], l.server.answers[what] = true, line+"\n"
	return line + "\n"
}
