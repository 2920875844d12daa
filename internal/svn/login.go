package svn

import (
	"context"
	"errors"
	"os"
	"os/exec"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/vcs"
)

// asked runs what asks the repository. If that wants a login, the person is asked for it, and it is run once more.
func (p *program) asked(ctx context.Context, do func() error) error {
	err := do()
	failed := (*Error)(nil)
	if !errors.As(err, &failed) {
		return err
	}
	refusal := refusalOf(failed.Said)
	if refusal.Kind != vcs.NoLogin || !p.login(ctx, failed.Said) {
		return refusal
	}
	if err = do(); errors.As(err, &failed) {
		p.forget()
		return refusalOf(failed.Said)
	}
	return err
}

// login asks the person for a name and a password. It reports whether there is an answer.
func (p *program) login(ctx context.Context, said []string) bool {
	p.mu.Lock()
	env := slices.Clone(p.env)
	p.mu.Unlock()
	helper := ""
	for _, kv := range env {
		if value, ok := strings.CutPrefix(kv, "SSH_ASKPASS="); ok {
			helper = value
		}
	}
	if helper == "" {
		return false
	}
	realm := "the repository"
	for _, line := range said {
		if m := realmIn.FindStringSubmatch(line); m != nil {
			realm = vcs.WithoutSecrets(m[1])
		}
	}
	ask := func(what string) (string, bool) {
		cmd := exec.CommandContext(ctx, helper, what)
		cmd.Env = append(os.Environ(), env...)
		out, err := cmd.Output()
		line, _, _ := strings.Cut(string(out), "\n")
		return line, err == nil
	}
	name, ok := ask("User name for " + realm + ":")
	if !ok || name == "" {
		return false
	}
	word, ok := ask("Password for " + realm + ":")
	p.mu.Lock()
	defer p.mu.Unlock()
	if ok {
		p.user, p.password, p.asks = name, word, true
	}
	return ok
}

// forget forgets a login that was refused.
func (p *program) forget() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.asks {
		p.user, p.password, p.asks = "", "", false
	}
}
