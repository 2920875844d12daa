package git

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// telling maps words of a message, in lower case, to a kind of refusal. An … matches anything between two parts.
type telling []struct {
	kind  vcs.RefusalKind
	words []string
}

// byServer has the words of hooks and rules on servers. Words that mean one thing only come first.
var byServer = telling{
	{vcs.Busy, []string{".lock': file exists", "another git process seems to be running"}},
	{vcs.Locked, []string{" is locked by "}},
	{vcs.NoRewrite, []string{"denying non-fast-forward", "(non-fast-forward)"}},
	{vcs.NoDelete, []string{"deletion prohibited", "denying ref deletion", "deletion of the current branch"}},
	{vcs.InUse, []string{"branch is currently checked out", "refusing to update checked out branch"}},
	{vcs.Shallow, []string{"shallow update not allowed"}},
	{vcs.LargeObjects, []string{"lfs objects are missing", "missing lfs", "lfs: …missing", "unknown lfs"}},
	{vcs.Secret, []string{"push protection", "secret", "private key", "credential", "access token", "api key"}},
	{vcs.Protected, []string{"protected branch", "branch is protected"}},
	{vcs.Quota, []string{"quota", "repository size", "repository is over", "storage limit"}},
	{vcs.Size, []string{"file size limit", "exceeds the maximum", "exceeds maximum", "larger than the maximum",
		"maximum allowed size", "file is too large", "exceeded limit of", "too large", "larger than", "size limit"}},
	{vcs.Store, []string{"read-only file system", "no space left on device", "disk quota exceeded",
		"insufficient permission for adding an object", "unable to create temporary"}},
	{vcs.Message, []string{"commit message", "message …must", "message …does not", "ticket", "issue key", "sign-off",
		"signed-off", "signoff", "author e", "committer e", "e-mail address", "email address", "not a valid author"}},
	{vcs.NoAccess, []string{"permission", "denied to", "not allowed to push"}},
}

// byHook has the words of hooks here that programs install.
var byHook = telling{
	{vcs.LargeObjects, []string{"git lfs upload failed", "missing or corrupt local objects"}},
}

// onTheWire has git's words about an unreachable remote.
var onTheWire = telling{
	{vcs.HostKey, []string{"remote host identification has changed"}},
	{vcs.HostUnknown, []string{"host key verification failed", "authenticity of host"}},
	{vcs.Submodule, []string{"submodule paths contain changes that can"}},
	{vcs.Shallow, []string{"shallow update not allowed", "from a shallow clone"}},
	{vcs.Proxy, []string{"proxy", "returned error: 407"}},
	{vcs.Certificate, []string{"certificate", "ssl_connect", "ssl routines", "tls connect", "gnutls_handshake"}},
	{vcs.NoLogin, []string{"authentication failed", "could not read username", "could not read password",
		"returned error: 401", "terminal prompts disabled", "(publickey"}},
	{vcs.Store, []string{"read-only file system", "no space left on device", "insufficient permission for adding"}},
	{vcs.NoAccess, []string{"permission denied", "access denied", "returned error: 403", "service not enabled"}},
	{vcs.Moved, []string{"moved permanently", "returned error: 301", "unable to update url base from redirection",
		"repository moved"}},
	{vcs.Missing, []string{"does not appear to be a git repository", "repository not found", "not found: did you run",
		"repository '…' not found", "repository '…does not exist", "no such file or directory", "returned error: 404"}},
	{vcs.NoHost, []string{"could not resolve", "unable to look up", "name or service not known"}},
	{vcs.TimedOut, []string{"timed out", "operation too slow"}},
	{vcs.Unreachable, []string{"connection refused", "network is unreachable", "no route to host", "unable to connect",
		"failed to connect", "could not connect", "unable to access", "connection reset", "hung up unexpectedly"}},
}

// kind returns the first kind whose words said contains, or otherwise.
func (t telling) kind(said string, otherwise vcs.RefusalKind) vcs.RefusalKind {
	said = strings.ToLower(said)
	for _, row := range t {
		if slices.ContainsFunc(row.words, func(w string) bool {
			begin, end, _ := strings.Cut(w, "…")
			_, after, found := strings.Cut(said, begin)
			return found && strings.Contains(after, end)
		}) {
			return row.kind
		}
	}
	return otherwise
}

// parsePush parses the output of `git push --porcelain`. It returns nil if the exit code is 0.
func parsePush(stdout, stderr string, exit int) *vcs.Refusal {
	if exit == 0 {
		return nil
	}
	words := remoteWords(stderr)
	for line := range strings.SplitSeq(stdout, "\n") {
		f := strings.SplitN(line, "\t", 3)
		if len(f) < 3 || f[0] != "!" {
			continue
		}
		summary, reason, _ := strings.Cut(f[2], "(")
		reason = strings.TrimSuffix(strings.TrimSpace(reason), ")")
		switch {
		case strings.Contains(summary, "remote rejected"):
			kind := vcs.ServerRule
			// Two pushes met on the server, and the other one won.
			r := &vcs.Refusal{Short: reason, Words: words}
			if r.Raced() {
				kind = vcs.Behind
			}
			r.Kind = byServer.kind(reason+"\n"+stderr, kind)
			return r
		case strings.Contains(summary, "rejected"):
			switch reason {
			case "fetch first", "non-fast-forward", "needs force", "stale info":
				return &vcs.Refusal{Kind: vcs.Behind, Short: reason, Words: words}
			}
			return &vcs.Refusal{Kind: vcs.Other, Short: reason, Words: words}
		}
		return &vcs.Refusal{Kind: vcs.Other, Short: strings.TrimSpace(f[2]), Words: words}
	}
	r := wireRefusal(stderr, true)
	r.Words = append(hookWords(stdout), r.Words...)
	if r.Kind == vcs.LocalHook {
		r.Kind = byHook.kind(strings.Join(r.Words, "\n"), vcs.LocalHook)
	}
	return r
}

// branchFirst moves the lines about tags to the end, because a push is about its branch.
func branchFirst(stdout string) string {
	all := strings.SplitAfter(stdout, "\n")
	slices.SortStableFunc(all, func(a, b string) int {
		return cmp.Compare(strings.Count(a, ":refs/tags/"), strings.Count(b, ":refs/tags/"))
	})
	return strings.Join(all, "")
}

// hookWords returns the output of the pre-push hook, which precedes git's.
func hookWords(stdout string) []string {
	before, _, _ := strings.Cut("\n"+stdout, "\nTo ")
	return slices.DeleteFunc(lines(before), func(l string) bool { return strings.HasPrefix(l, "!") })
}

// wireRefusal parses git's output about a remote that did not answer or refused.
func wireRefusal(stderr string, push bool) *vcs.Refusal {
	r := &vcs.Refusal{Short: firstFatal(stderr), Words: remoteWords(stderr)}
	if len(r.Words) == 0 {
		r.Words = lines(stderr)
	}
	otherwise := vcs.Other
	if push && r.Short == "" && strings.Contains(stderr, "failed to push some refs") {
		otherwise = vcs.LocalHook
	}
	r.Kind = onTheWire.kind(stderr, otherwise)
	return r
}

func firstFatal(stderr string) string {
	for line := range strings.SplitSeq(stderr, "\n") {
		if s, ok := strings.CutPrefix(line, "fatal: "); ok {
			return strings.TrimSpace(s)
		}
	}
	return ""
}

func remoteWords(stderr string) []string {
	var out []string
	for line := range strings.SplitSeq(stderr, "\n") {
		if s, ok := strings.CutPrefix(line, "remote:"); ok {
			if s = strings.TrimSpace(s); s != "" {
				out = append(out, s)
			}
		}
	}
	return out
}

func lines(s string) []string {
	var out []string
	for line := range strings.SplitSeq(s, "\n") {
		if line = strings.TrimSpace(line); line != "" {
			out = append(out, line)
		}
	}
	return out
}

// wire runs a command that talks to a remote. Failures of the remote are *Refusal errors.
func (r *Wire) wire(ctx context.Context, doing string, args ...string) (string, error) {
	out, stderr, err := r.runIn(ctx, call{doing: doing, args: args, env: r.asks})
	var e *Error
	if locked := (*vcs.LockedError)(nil); errors.As(lockedBy(err, string(stderr)), &locked) {
		return "", locked
	}
	if errors.As(err, &e) && e.Code > 0 {
		return "", fmt.Errorf("%s: %w", doing, wireRefusal(vcs.WithoutSecrets(string(stderr)), false))
	}
	return string(out), err
}

// Fetch updates the remote-tracking branches.
func (r *Wire) Fetch(ctx context.Context, remote vcs.Remote) error {
	_, err := r.wire(ctx, "fetching from "+remote.String(), "fetch", "--quiet", "--no-write-fetch-head",
		"--no-auto-maintenance", "--", string(remote))
	if err != nil {
		return err
	}
	// git leaves no trace of a fetch that brought nothing, so record the time. Do not create Dorvik's folder only for
	// that.
	if path, err := r.Inside(ctx, askedName(remote)); err == nil {
		_ = os.WriteFile(path, nil, 0o600)
	}
	return nil
}

// FetchRefs fetches single refs by their refspecs.
func (r *Wire) FetchRefs(ctx context.Context, remote vcs.Remote, refspecs ...string) error {
	_, err := r.wire(ctx, "fetching from "+remote.String(), append([]string{"fetch", "--quiet", "--no-write-fetch-head",
		"--no-tags", "--no-auto-maintenance", "--", string(remote)}, refspecs...)...)
	return err
}

// Deepen fetches the missing history of a shallow clone.
func (r *Wire) Deepen(ctx context.Context, remote vcs.Remote) error {
	_, err := r.wire(ctx, "getting the history from "+remote.String(), "fetch", "--quiet", "--no-write-fetch-head",
		"--no-auto-maintenance", "--unshallow", "--", string(remote))
	return err
}

// RemoteTip asks the repository that a push to the remote goes to for a branch. It returns zero if there is none.
func (r *Wire) RemoteTip(ctx context.Context, remote vcs.Remote, ref string) (object.ID, error) {
	out, err := r.wire(ctx, "asking "+remote.String(), "ls-remote", "--", r.pushAddress(ctx, remote), ref)
	if err != nil {
		return object.ID{}, err
	}
	for line := range strings.SplitSeq(out, "\n") {
		if id, name, ok := strings.Cut(line, "\t"); ok && name == ref {
			return object.ParseID(id)
		}
	}
	return object.ID{}, nil
}

// RemoteTags asks the repository that a push to the remote goes to for its tags.
func (r *Wire) RemoteTags(ctx context.Context, remote vcs.Remote) (map[string]object.ID, error) {
	out, err := r.wire(ctx, "asking "+remote.String(), "ls-remote", "--tags", "--refs", "--",
		r.pushAddress(ctx, remote))
	if err != nil {
		return nil, err
	}
	return refsIn(out, "refs/tags/", "refs/tags/")
}

// RemoteRefs asks a remote for its refs with a full name that begins with one of the prefixes.
func (r *Wire) RemoteRefs(ctx context.Context, remote vcs.Remote, prefixes ...string) (map[string]object.ID, error) {
	args := []string{"ls-remote", "--refs", "--", string(remote)}
	for _, p := range prefixes {
		args = append(args, p+"*")
	}
	out, err := r.wire(ctx, "asking "+remote.String(), args...)
	if err != nil {
		return nil, err
	}
	found := map[string]object.ID{}
	for _, p := range prefixes { // git matches the end of a name, too
		refs, err := refsIn(out, p, "")
		if err != nil {
			return nil, err
		}
		maps.Copy(found, refs)
	}
	return found, nil
}

// refsIn reads the output of ls-remote: refs whose name begins with prefix, by name without the part to cut.
func refsIn(out, prefix, cut string) (found map[string]object.ID, err error) {
	found = map[string]object.ID{}
	for line := range strings.Lines(out) {
		id, ref, _ := strings.Cut(strings.TrimSuffix(line, "\n"), "\t")
		if strings.HasPrefix(ref, prefix) {
			if found[strings.TrimPrefix(ref, cut)], err = object.ParseID(id); err != nil {
				return nil, err
			}
		}
	}
	return found, nil
}

// pushAddress returns the address that a push to the remote goes to, if it is not the one for fetches. Otherwise it
// returns the remote itself.
func (r *Wire) pushAddress(ctx context.Context, remote vcs.Remote) string {
	list, err := r.config.allSettings(ctx)
	if err != nil {
		return string(remote)
	}
	address, instead, by := "", "", ""
	for _, s := range list {
		switch base, is := strings.CutSuffix(strings.TrimPrefix(s.key, "url."), ".pushinsteadof"); {
		case s.key == "remote."+string(remote)+".pushurl":
			return s.value
		case s.key == "remote."+string(remote)+".url" && address == "":
			address = s.value
		case is && len(s.value) > len(instead):
			instead, by = s.value, base
		}
	}
	if rest, ok := strings.CutPrefix(address, instead); ok && instead != "" {
		return by + rest
	}
	return string(remote)
}

// RemoteHead asks a remote or an address which branch is its usual one: the one that its HEAD names.
func (r *Wire) RemoteHead(ctx context.Context, remote vcs.Remote) (ref string, err error) {
	out, err := r.wire(ctx, "asking "+remote.String(), "ls-remote", "--symref", "--", string(remote), "HEAD")
	if err != nil {
		return "", err
	}
	for line := range strings.Lines(out) {
		if ref, ok := strings.CutPrefix(strings.TrimSuffix(line, "\tHEAD\n"), "ref: "); ok {
			return ref, nil
		}
	}
	return "", fmt.Errorf("%s does not say which of its branches is the usual one; name the branch, too", remote)
}

// Push changes a branch of a remote and returns the output of hooks and server. A rejected push is a *Refusal.
func (r *Wire) Push(ctx context.Context, s vcs.Sending) (said []string, err error) {
	args, tip := []string{"push", "--porcelain", "--no-follow-tags"}, s.Tip.String() // s names the tags
	if !s.Old.IsZero() {
		args = append(args, "--force-with-lease="+s.Ref+":"+s.Old.String())
	}
	if s.Tip.IsZero() {
		tip = ""
	}
	if s.Bare {
		args = append(args, "--no-verify")
	}
	args = append(args, "--", string(s.Remote), tip+":"+s.Ref)
	for _, name := range s.Tags {
		args = append(args, "refs/tags/"+name+":refs/tags/"+name)
	}
	out, stderr, err := r.runIn(ctx, call{doing: "pushing to " + s.Remote.String(), args: args, env: r.asks})
	var e *Error
	if errors.As(err, &e) && e.Code > 0 {
		refusal := parsePush(vcs.WithoutSecrets(branchFirst(string(out))), vcs.WithoutSecrets(string(stderr)), e.Code)
		if refusal != nil {
			return refusal.Words, refusal
		}
	}
	return append(hookWords(vcs.WithoutSecrets(string(out))), remoteWords(vcs.WithoutSecrets(string(stderr)))...), err
}

// Wire talks to remotes.
type Wire struct {
	*Place
	config *Configuration
}
