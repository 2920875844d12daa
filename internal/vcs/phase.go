package vcs

import (
	"context"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
)

// Phased is a system whose commits have phases.
type Phased interface {
	Phase(ctx context.Context, id object.ID) (Phase, error)
}

// Phase tells whether others may have a commit. Its text is its name.
type Phase string

// The phases.
const (
	Public  Phase = "public"
	Draft   Phase = "draft"
	Private Phase = "secret" // Secret is the name of a refusal
)

// phases has what each phase means, of a commit and of what was just pushed to a remote.
var phases = []struct {
	phase        Phase
	means, after string
}{
	{Public, "others may have it, so it is never replaced", "What went is public now: it is never replaced."},
	{Draft, "it can still be replaced",
		"What went stays a draft, because REMOTE does not publish: it can still be replaced."},
	{Private, "a push leaves it out", "What is secret did not go to REMOTE."},
}

// Meaning says what the phase means.
func (p Phase) Meaning() string {
	for _, row := range phases {
		if row.phase == p {
			return string(p) + ": " + row.means
		}
	}
	return string(p)
}

// After says what the phase of a commit means that was pushed to a remote. It is empty for an empty phase.
func (p Phase) After(to Remote) string {
	for _, row := range phases {
		if row.phase == p {
			return strings.ReplaceAll(row.after, "REMOTE", to.String())
		}
	}
	return ""
}
