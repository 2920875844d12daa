package memory

import (
	"context"
	"os"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// plain is all that other systems have and this one has not.
type plain struct{}

// Alone tells of no other object that begins alike.
func (plain) Alone(context.Context, []object.ID, int) (bool, error) { return true, nil }

// Abbrev asks for no more digits than usual.
func (plain) Abbrev(context.Context) int { return 0 }

// Loose finds none: nothing is ever thrown away.
func (plain) Loose(context.Context, []object.ID) ([]object.ID, error) { return nil, nil }

// Close does nothing.
func (plain) Close() {}

// GraphFiles are none.
func (plain) GraphFiles(context.Context) [][]byte { return nil }

// Signature finds none.
func (plain) Signature(context.Context, object.ID) (vcs.Signed, error) {
	return vcs.Signed{Grade: "N"}, nil
}

// FillSubmodules has none to fill.
func (plain) FillSubmodules(context.Context, *vcs.Checkout) ([]string, error) { return nil, nil }

// ChangedIn does not look.
func (plain) ChangedIn(context.Context, *vcs.Checkout) ([]string, error) { return nil, nil }

// BuildEnvironment is the caller's.
func (plain) BuildEnvironment(context.Context) (given, set []string, err error) {
	return os.Environ(), nil, nil
}

// Busy is never so.
func (plain) Busy() vcs.Operation { return "" }

// Unfinished finds nothing.
func (plain) Unfinished(context.Context) (*vcs.Unfinished, error) { return nil, nil }

// Uncommented is the text.
func (plain) Uncommented(_ context.Context, text string) (string, error) { return text, nil }

// AskBy is not needed: the server asks for no password.
func (plain) AskBy([]string) {}

// Untracked finds nothing: all files are known.
func (plain) Untracked(context.Context) ([]string, error) { return nil, nil }

// FetchRefs finds nothing: there are no refs but branches.
func (plain) FetchRefs(context.Context, vcs.Remote, ...string) error { return nil }

// Deepen has nothing to get: no history is cut short.
func (plain) Deepen(context.Context, vcs.Remote) error { return nil }

// Follow is so already.
func (plain) Follow(context.Context, string, vcs.Remote, string) error { return nil }
