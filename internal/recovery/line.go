package recovery

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/vcs"
)

// Lines finds the lines that a branch can be joined with or pushed to.
type Lines struct {
	repo   vcs.System
	ledger *ledger.Ledger // nil without a session: nothing can be selected
}

// Find returns the line that a text names: a branch, a remote's branch, a tag, a remote, or an address, which a blank
// and a branch can follow. For a remote or an address without a branch it asks which branch is the usual one there.
func (l *Lines) Find(ctx context.Context, said string) (vcs.Line, error) {
	said = strings.TrimSpace(said)
	names, err := l.repo.Names(ctx)
	if err != nil {
		return vcs.Line{}, err
	}
	for _, kind := range []string{"refs/heads/", "refs/remotes/", "refs/tags/"} { // a branch before a tag of its name
		for _, n := range names {
			if strings.HasPrefix(n.Full, kind) && (n.Name == said || n.Full == said) {
				return n.Line(), nil
			}
		}
	}
	remotes, err := l.repo.Remotes(ctx)
	if err != nil {
		return vcs.Line{}, err
	}
	at, branch, _ := strings.Cut(said, " ")
	if remote := vcs.Remote(at); slices.Contains(remotes, remote) {
		return l.at(ctx, remote, branch)
	}
	if remote, branch, ok := strings.Cut(said, "/"); ok && slices.Contains(remotes, vcs.Remote(remote)) {
		return l.at(ctx, vcs.Remote(remote), branch) // not fetched yet
	}
	if by := l.repo.Dialect(); by.Linear && len(remotes) > 0 { // a folder of the repository
		return l.Aimed(ctx, remotes[0], "refs/heads/"+strings.Trim(strings.TrimPrefix(said, "^"), "/")), nil
	}
	if isAddress(at) {
		return l.at(ctx, vcs.Remote(at), strings.TrimSpace(branch))
	}
	return vcs.Line{}, fmt.Errorf("there is no branch, tag or remote %q here; an address is a URL, HOST:PATH or the "+
		"path of a folder", vcs.WithoutSecrets(said))
}

// isAddress reports whether a text is an address and not a name.
func isAddress(said string) bool {
	host, _, scp := strings.Cut(said, ":")
	return scp && !strings.Contains(host, "/") || strings.HasPrefix(said, "/") || strings.HasPrefix(said, "./") ||
		strings.HasPrefix(said, "../") || strings.HasPrefix(said, "~")
}

// at returns a branch of a remote or of an address, or its usual branch if branch is empty.
func (l *Lines) at(ctx context.Context, remote vcs.Remote, branch string) (vcs.Line, error) {
	ref := "refs/heads/" + branch
	if branch == "" {
		var err error
		if ref, err = l.repo.RemoteHead(ctx, remote); err != nil {
			return vcs.Line{}, err
		}
		branch = strings.TrimPrefix(ref, "refs/heads/")
	}
	line := l.Aimed(ctx, remote, ref)
	if line.Tracking == "" { // an address, or a remote without branches here
		line.Name = remote.String() + " " + branch
		line.Tracking = "refs/dorvik/line/" + vcs.Remote(string(remote)+" "+branch).Key()
	}
	return line, nil
}

// Fetch asks the remote of a line. It does nothing for a line that is only here.
func (l *Lines) Fetch(ctx context.Context, line vcs.Line) error {
	switch {
	case line.Remote == "":
		return nil
	case strings.HasPrefix(line.Tracking, "refs/dorvik/") || l.unread(ctx, line):
		return l.repo.FetchRefs(ctx, line.Remote, "+"+line.Ref+":"+line.Tracking)
	}
	return l.repo.Fetch(ctx, line.Remote)
}

// unread reports whether a line of a remote is one that no fetch of the remote brings, and that is not here yet.
func (l *Lines) unread(ctx context.Context, line vcs.Line) bool {
	at, err := l.repo.Ref(ctx, line.Tracking)
	return l.repo.Dialect().Linear && err == nil && at.IsZero()
}

// following returns the branches here whose upstream has a copy at a ref, such as refs/remotes/origin/main.
func (l *Lines) following(ctx context.Context, tracking string) (out []vcs.Branch, err error) {
	names, err := l.repo.Names(ctx)
	if err != nil {
		return nil, err
	}
	for _, n := range names {
		name, here := strings.CutPrefix(n.Full, "refs/heads/")
		if !here {
			continue
		}
		b, err := l.repo.Named(ctx, name)
		if err != nil {
			return nil, err
		}
		if b.Tracking == tracking {
			out = append(out, b)
		}
	}
	return out, nil
}

// tipsOf returns the tips of a remote's branches, as of the last fetch.
func (l *Lines) tipsOf(ctx context.Context, remote vcs.Remote) (tips []object.ID, err error) {
	names, err := l.repo.Names(ctx)
	for _, n := range names {
		if n.Remote == remote {
			tips = append(tips, n.Commit)
		}
	}
	return tips, err
}

// UnclearError reports that git's settings do not say where the branch is pushed to.
type UnclearError struct {
	Branch  string
	Why     string
	Choices []vcs.Line
}

func (e *UnclearError) Error() string {
	var names []string
	for _, c := range e.Choices {
		names = append(names, c.Name)
	}
	return fmt.Sprintf("git would not push %s from here, because %s. It could go to %s", e.Branch, e.Why,
		strings.Join(names, " or to "))
}

// Question asks where the branch is pushed to.
func (e *UnclearError) Question() string {
	return e.Error() + ". Choose one with its number; the answer is kept for this branch."
}

// Unclear returns the question where the branch is pushed to, or nil if that is known.
func (l *Lines) Unclear(ctx context.Context, b vcs.Branch) *UnclearError {
	if b.Doubt == "" {
		return nil
	}
	out := &UnclearError{b.Name, b.Doubt, []vcs.Line{b.Follows()}}
	choices := []vcs.Line{b.Dest, l.Aimed(ctx, b.Remote, b.Full())}
	if remotes, err := l.repo.Remotes(ctx); err == nil && len(remotes) > 0 { // the usual one for pushes
		choices = append(choices, l.Aimed(ctx, remotes[0], b.Full()))
	}
	for _, l := range choices {
		if l.Remote != "" && !slices.Contains(out.Choices, l) {
			out.Choices = append(out.Choices, l)
		}
	}
	return out
}

// Aimed returns a branch of a remote, by its full name there, as a line.
func (l *Lines) Aimed(ctx context.Context, remote vcs.Remote, ref string) vcs.Line {
	name := strings.TrimPrefix(ref, "refs/heads/")
	if !l.repo.Dialect().Linear { // there are no others of the name here
		name = remote.String() + "/" + name
	}
	return vcs.Line{Name: name, Remote: remote, Ref: ref, Tracking: l.repo.TrackingOf(ctx, remote, ref)}
}

// SendTo stores which of the choices the branch is pushed to.
func (l *Lines) SendTo(branch string, to vcs.Line) error {
	return l.ledger.Choices.SendTo(branch, to.Name)
}

// ApplyTarget sets the destination of a branch to the stored choice, if git's settings leave it open.
func (l *Lines) ApplyTarget(ctx context.Context, b *vcs.Branch) {
	unclear := l.Unclear(ctx, *b)
	if unclear == nil {
		return
	}
	for _, c := range unclear.Choices {
		if c.Name == l.ledger.State().Targets[b.Name] {
			b.Aim(c)
		}
	}
}

// Take selects the line that the branch is joined with. Without one it selects the upstream.
func (l *Lines) Take(ctx context.Context, line *vcs.Line) error {
	b, err := l.repo.Current(ctx)
	if err != nil {
		return err
	}
	if line != nil {
		switch line.Tracking {
		case b.Full():
			return fmt.Errorf("%s is the branch you are on", line.Name)
		case b.Tracking:
			line = nil
		}
	}
	return l.ledger.Choices.Take(b.Name, line)
}

// KeepAsRemote stores the address of a line as a remote, and returns the line as one of its branches.
func (l *Lines) KeepAsRemote(ctx context.Context, line vcs.Line, name string) (vcs.Line, error) {
	remotes, err := l.repo.Remotes(ctx)
	if err != nil {
		return line, err
	}
	if !plainRemoteName(name) || slices.Contains(remotes, vcs.Remote(name)) {
		return line, fmt.Errorf("%q cannot be the name of a new remote", name)
	}
	key := "remote." + name
	if err := l.repo.SetConfig(ctx, key+".url", string(line.Remote)); err != nil {
		return line, err
	}
	if err := l.repo.SetConfig(ctx, key+".fetch", "+refs/heads/*:refs/remotes/"+name+"/*"); err != nil {
		return line, err
	}
	kept, err := l.at(ctx, vcs.Remote(name), line.Branch())
	if err != nil {
		return line, err
	}
	return kept, l.Fetch(ctx, kept)
}

// plainRemoteName reports whether a text can name a remote without quoting.
func plainRemoteName(name string) bool { return vcs.Remote(name).Key() == name }

// RemoteNameFor proposes a name for a remote at an address: the folder that the repository is in, unless that is a
// host, or else the repository's own name.
func RemoteNameFor(address vcs.Remote) string {
	at := strings.TrimSuffix(strings.TrimRight(address.String(), "/"), ".git")
	parts := strings.FieldsFunc(at, func(r rune) bool { return r == '/' || r == ':' })
	for i := len(parts) - 2; i >= 0 && i < len(parts); i++ {
		if name := parts[i]; plainRemoteName(name) && name != "origin" && !strings.Contains(name, ".") {
			return name
		}
	}
	return "other"
}
