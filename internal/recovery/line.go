package recovery

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
)

// Line finds the line that a text names: a branch, a remote's branch, a tag, a remote, or an address, which a blank
// and a branch can follow. For a remote or an address without a branch it asks which branch is the usual one there.
func (w *Workspace) Line(ctx context.Context, said string) (vcs.Line, error) {
	said = strings.TrimSpace(said)
	names, err := w.Repo.Names(ctx)
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
	remotes, err := w.Repo.Remotes(ctx)
	if err != nil {
		return vcs.Line{}, err
	}
	at, branch, _ := strings.Cut(said, " ")
	if remote := vcs.Remote(at); slices.Contains(remotes, remote) {
		return w.lineAt(ctx, remote, branch)
	}
	if remote, branch, ok := strings.Cut(said, "/"); ok && slices.Contains(remotes, vcs.Remote(remote)) {
		return w.lineAt(ctx, vcs.Remote(remote), branch) // not fetched yet
	}
	if isAddress(at) {
		return w.lineAt(ctx, vcs.Remote(at), strings.TrimSpace(branch))
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

// lineAt returns a branch of a remote or of an address, or its usual branch if branch is empty.
func (w *Workspace) lineAt(ctx context.Context, remote vcs.Remote, branch string) (vcs.Line, error) {
	ref := "refs/heads/" + branch
	if branch == "" {
		var err error
		if ref, err = w.Repo.RemoteHead(ctx, remote); err != nil {
			return vcs.Line{}, err
		}
		branch = strings.TrimPrefix(ref, "refs/heads/")
	}
	line := vcs.Line{Name: remote.String() + " " + branch, Remote: remote, Ref: ref,
		Tracking: "refs/dorvik/line/" + vcs.Remote(string(remote)+" "+branch).Key()}
	if tracking := w.Repo.TrackingOf(ctx, remote, ref); tracking != "" {
		line.Tracking, line.Name = tracking, strings.TrimPrefix(tracking, "refs/remotes/")
	}
	return line, nil
}

// FetchLine asks the remote of a line. It does nothing for a line that is only here.
func (w *Workspace) FetchLine(ctx context.Context, line vcs.Line) error {
	switch {
	case line.Remote == "":
		return nil
	case strings.HasPrefix(line.Tracking, "refs/dorvik/"):
		return w.Repo.FetchRef(ctx, line.Remote, "+"+line.Ref+":"+line.Tracking)
	}
	return w.Repo.Fetch(ctx, line.Remote)
}

// standFrom is stand for another line than the upstream.
func (w *Workspace) standFrom(ctx context.Context, b vcs.Branch, dirty []vcs.Dirty, line vcs.Line, fetch bool) (
	*plan.Position, error) {
	k := &plan.FromLine{Line: line}
	p := &plan.Position{Branch: b, Yours: b.Tip, Dirty: dirty, Kind: k}
	home, err := w.stand(ctx, b, dirty, nil, fetch)
	switch blocked, offered := (*plan.Blocked)(nil), (*Offered)(nil); {
	case err == nil:
		k.Home, p.Branch, p.Asked, p.Unanswered = home, home.Branch, home.Asked, home.Unanswered
	case !errors.As(err, &blocked), b.Name == "", b.Tip.IsZero(), b.Upstream == "" && errors.As(err, &offered):
		return nil, err // a branch without a remote, or with one that is gone, can be joined with a line
	}
	if fetch && (line.Remote != b.Remote || k.Home == nil) {
		if err := w.FetchLine(ctx, line); err == nil {
			p.Asked = time.Now()
		} else if p.Asked, p.Unanswered = (time.Time{}), err; ctx.Err() != nil {
			return nil, err
		}
	}
	p.Known = w.Repo.FetchedAt(ctx, line.Remote, line.Tracking)
	if p.Theirs, err = w.Repo.Resolve(ctx, line.Tracking); err != nil {
		if p.Unanswered != nil {
			err = p.Unanswered
		}
		return nil, &plan.Blocked{What: line.Name + " is not here: " + err.Error() + ".",
			Next: "Choose another line. Nothing was changed."}
	}
	if err := w.part(ctx, p); err != nil {
		return nil, err
	}
	if line.Remote != "" { // the reflog of a branch here has commits that were never anywhere else
		w.takenOut(ctx, p)
	}
	return p, nil
}

// starting is stand for a branch without an upstream. Its commits go to a new branch of the usual remote.
func (w *Workspace) starting(ctx context.Context, b vcs.Branch, dirty []vcs.Dirty, remote vcs.Remote, fetch bool) (
	*plan.Position, error) {
	k := plan.Starting{To: w.aimed(ctx, remote, b.Full())}
	p := &plan.Position{Branch: b, Yours: b.Tip, Dirty: dirty, Kind: k}
	if fetch {
		if err := w.Repo.Fetch(ctx, remote); err == nil {
			p.Asked = time.Now()
		} else if p.Unanswered = err; ctx.Err() != nil {
			return nil, err
		}
		at, err := w.Repo.Ref(ctx, k.To.Tracking)
		if err == nil && !at.IsZero() {
			return nil, w.sameName(ctx, b, []vcs.Remote{remote}) // it is there by now
		}
	}
	there, err := w.tipsOf(ctx, remote)
	if err != nil {
		return nil, err
	}
	p.Divergence = &history.Divergence{}
	if p.Divergence.Yours, err = history.Only(ctx, w.Planner.Store, b.Tip, there...); err != nil {
		return nil, err
	}
	p.Theirs = b.Tip
	if n := len(p.Divergence.Yours); n > 0 { // the newest commit below that is on the remote
		p.Theirs = object.ID{}
		if oldest := p.Divergence.Yours[n-1]; len(oldest.Parents) > 0 {
			p.Theirs = oldest.Parents[0]
		}
	}
	if !p.Theirs.IsZero() {
		p.Divergence.Bases = []object.ID{p.Theirs}
	}
	return p, nil
}

// tipsOf returns the tips of a remote's branches, as of the last fetch.
func (w *Workspace) tipsOf(ctx context.Context, remote vcs.Remote) (tips []object.ID, err error) {
	names, err := w.Repo.Names(ctx)
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
func (w *Workspace) Unclear(ctx context.Context, b vcs.Branch) *UnclearError {
	if b.Doubt == "" {
		return nil
	}
	out := &UnclearError{b.Name, b.Doubt, []vcs.Line{b.Follows()}}
	choices := []vcs.Line{b.Dest, w.aimed(ctx, b.Remote, b.Full())}
	if remotes, err := w.Repo.Remotes(ctx); err == nil && len(remotes) > 0 { // the usual one for pushes
		choices = append(choices, w.aimed(ctx, remotes[0], b.Full()))
	}
	for _, l := range choices {
		if l.Remote != "" && !slices.Contains(out.Choices, l) {
			out.Choices = append(out.Choices, l)
		}
	}
	return out
}

// aimed returns a branch of a remote as a destination.
func (w *Workspace) aimed(ctx context.Context, remote vcs.Remote, ref string) vcs.Line {
	return vcs.Line{Name: remote.String() + "/" + strings.TrimPrefix(ref, "refs/heads/"), Remote: remote, Ref: ref,
		Tracking: w.Repo.TrackingOf(ctx, remote, ref)}
}

// Aim stores which of the choices the branch is pushed to.
func (s *Session) Aim(branch string, to vcs.Line) error { return s.Ledger.Aim(branch, to.Name) }

// aim applies the stored choice to a branch.
func (s *Session) aim(ctx context.Context, b *vcs.Branch) {
	unclear := s.Workspace.Unclear(ctx, *b)
	if unclear == nil {
		return
	}
	for _, c := range unclear.Choices {
		if c.Name == s.Ledger.State().Targets[b.Name] {
			b.Aim(c)
		}
	}
}

// TakeLine selects the line that the branch is joined with. Without one it selects the upstream.
func (s *Session) TakeLine(ctx context.Context, line *vcs.Line) error {
	b, err := s.Repo.Current(ctx)
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
	return s.Ledger.TakeLine(b.Name, line)
}

// KeepAsRemote stores the address of a line as a remote, and returns the line as one of its branches.
func (s *Session) KeepAsRemote(ctx context.Context, line vcs.Line, name string) (vcs.Line, error) {
	remotes, err := s.Repo.Remotes(ctx)
	if err != nil {
		return line, err
	}
	if !plainRemoteName(name) || slices.Contains(remotes, vcs.Remote(name)) {
		return line, fmt.Errorf("%q cannot be the name of a new remote", name)
	}
	key := "remote." + name
	if err := s.Repo.SetConfig(ctx, key+".url", string(line.Remote)); err != nil {
		return line, err
	}
	if err := s.Repo.SetConfig(ctx, key+".fetch", "+refs/heads/*:refs/remotes/"+name+"/*"); err != nil {
		return line, err
	}
	kept, err := s.Workspace.lineAt(ctx, vcs.Remote(name), strings.TrimPrefix(line.Ref, "refs/heads/"))
	if err != nil {
		return line, err
	}
	return kept, s.Workspace.FetchLine(ctx, kept)
}

// plainRemoteName reports whether a text can name a remote without quoting.
func plainRemoteName(name string) bool {
	return name != "" && !strings.ContainsAny(name, " /:\\~^?*[\"'") && vcs.Remote(name).Key() == name
}

// RemoteNameFor proposes a name for a remote at an address: the folder that the repository is in, or its name.
func RemoteNameFor(address vcs.Remote) string {
	at := strings.TrimSuffix(strings.TrimRight(address.String(), "/"), ".git")
	at = strings.ReplaceAll(at, ":", "/")
	for _, name := range []string{path.Base(path.Dir(at)), path.Base(at)} {
		if plainRemoteName(name) && name != "origin" && strings.Contains(at, "/"+name+"/") || plainRemoteName(name) &&
			name == path.Base(at) {
			return name
		}
	}
	return "other"
}
