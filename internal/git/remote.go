package git

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
)

// RefusalKind is why a push was not accepted, or a remote not reached.
type RefusalKind string

// The reasons.
const (
	Behind      RefusalKind = "behind"      // the remote has commits that yours do not build on
	ServerRule  RefusalKind = "server-rule" // a hook or a rule on the server said no
	LocalHook   RefusalKind = "local-hook"  // the pre-push hook here said no
	NoAccess    RefusalKind = "no-access"
	Unreachable RefusalKind = "unreachable"
	Gone        RefusalKind = "gone" // the remote's branch is there no more
	Other       RefusalKind = "other"
)

// Refusal is a push that was not accepted, or a remote that did not answer.
type Refusal struct {
	Kind  RefusalKind
	Short string   // git's own reason, such as "fetch first"
	Words []string // what the server or hook said, line by line
}

func (r *Refusal) Error() string {
	text := map[RefusalKind]string{
		Behind:      "somebody pushed first: the remote has commits that yours do not build on",
		ServerRule:  "the server refused the push by a hook or a rule of its own",
		LocalHook:   "your own pre-push hook stopped the push",
		NoAccess:    "the server does not let you in; check your key, password or rights",
		Unreachable: "the remote cannot be reached; check the network and the remote's address",
		Gone:        "the branch is gone at the remote: somebody deleted it, or gave it another name",
		Other:       "the remote did not accept this",
	}[r.Kind]
	if r.Short != "" {
		text += " (" + r.Short + ")"
	}
	return text
}

// ParsePush reads the output of `git push --porcelain`. It gives nil for a push
// that was accepted, as its exit code says.
func ParsePush(stdout, stderr string, exit int) *Refusal {
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
			if strings.Contains(reason, "permission") || strings.Contains(reason, "denied to") {
				return &Refusal{NoAccess, reason, words}
			}
			// Two pushes met on the server: the other one was first.
			if strings.Contains(reason, "cannot lock ref") || strings.Contains(reason, "failed to update ref") ||
				strings.Contains(reason, "incorrect old value") {
				return &Refusal{Behind, reason, words}
			}
			return &Refusal{ServerRule, reason, words}
		case strings.Contains(summary, "rejected"):
			switch reason {
			case "fetch first", "non-fast-forward", "needs force", "stale info":
				return &Refusal{Behind, reason, words}
			}
			return &Refusal{Other, reason, words}
		}
		return &Refusal{Other, strings.TrimSpace(f[2]), words}
	}
	r := wireRefusal(stderr, true)
	r.Words = append(hookWords(stdout), r.Words...)
	return r
}

// hookWords is what the pre-push hook wrote to its standard output, which comes before git's own.
func hookWords(stdout string) []string {
	before, _, _ := strings.Cut("\n"+stdout, "\nTo ")
	return slices.DeleteFunc(lines(before), func(l string) bool { return strings.HasPrefix(l, "!") })
}

// wireRefusal tells from what git said why a remote did not serve it.
func wireRefusal(stderr string, push bool) *Refusal {
	low := strings.ToLower(stderr)
	has := func(any ...string) bool {
		for _, s := range any {
			if strings.Contains(low, s) {
				return true
			}
		}
		return false
	}
	r := &Refusal{Kind: Other, Short: firstFatal(stderr), Words: remoteWords(stderr)}
	if len(r.Words) == 0 {
		r.Words = lines(stderr)
	}
	switch {
	case has("permission denied", "authentication failed", "could not read username", "could not read password",
		"access denied", "returned error: 401", "returned error: 403", "host key verification failed",
		"terminal prompts disabled", "service not enabled"):
		r.Kind = NoAccess
	case has("could not resolve", "connection refused", "connection timed out", "network is unreachable",
		"no route to host",
		"unable to connect", "failed to connect", "could not connect", "does not appear to be a git repository",
		"unable to access", "connection reset", "hung up unexpectedly", "repository not found"):
		r.Kind = Unreachable
	case push && r.Short == "" && has("failed to push some refs"):
		r.Kind = LocalHook
	}
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

// wire runs a command that talks to a remote; failures of the remote come as
// *Refusal.
func (r *Repo) wire(ctx context.Context, doing string, args ...string) (string, error) {
	out, stderr, err := runIn(ctx, r.Dir, call{doing: doing, args: args})
	var e *Error
	if errors.As(err, &e) && e.Code > 0 {
		return "", fmt.Errorf("%s: %w", doing, wireRefusal(string(stderr), false))
	}
	return string(out), err
}

// Fetch brings the local copy of the remote's branches up to date.
func (r *Repo) Fetch(ctx context.Context, remote string) error {
	_, err := r.wire(ctx, "fetching from "+remote, "fetch", "--quiet", "--no-write-fetch-head",
		"--no-auto-maintenance", "--", remote)
	if err != nil {
		return err
	}
	// Where nothing is new git leaves no trace of having asked: then it only seems longer ago. It is
	// not kept where nothing is kept yet.
	if path, err := r.Inside(ctx, askedName(remote)); err == nil {
		_ = os.WriteFile(path, nil, 0o644)
	}
	return nil
}

// FetchRef brings a single ref of the remote's, by a refspec.
func (r *Repo) FetchRef(ctx context.Context, remote, refspec string) error {
	_, err := r.wire(ctx, "fetching from "+remote, "fetch", "--quiet", "--no-write-fetch-head", "--no-tags",
		"--no-auto-maintenance", "--", remote, refspec)
	return err
}

// Deepen gets the rest of the history of a shallow clone.
func (r *Repo) Deepen(ctx context.Context, remote string) error {
	_, err := r.wire(ctx, "getting the history from "+remote, "fetch", "--quiet", "--no-write-fetch-head",
		"--no-auto-maintenance", "--unshallow", "--", remote)
	return err
}

// askedName is the file whose age tells when a remote was last asked.
func askedName(remote string) string {
	return "dorvik/asked-" + strings.NewReplacer("/", "-", "\\", "-", "..", "-").Replace(remote)
}

// RemoteTip asks the remote itself where a branch is; the zero id where it has
// no such branch.
func (r *Repo) RemoteTip(ctx context.Context, remote, ref string) (object.ID, error) {
	out, err := r.wire(ctx, "asking "+remote, "ls-remote", "--", remote, ref)
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

// Push offers a commit to a branch of the remote, never forcing, and gives what hooks here and the
// server said. A push that was not accepted comes back as *Refusal.
func (r *Repo) Push(ctx context.Context, remote, ref string, tip object.ID) (said []string, err error) {
	out, stderr, err := runIn(ctx, r.Dir, call{doing: "pushing to " + remote,
		args: []string{"push", "--porcelain", "--", remote, tip.String() + ":" + ref}})
	var e *Error
	if errors.As(err, &e) && e.Code > 0 {
		if refusal := ParsePush(string(out), string(stderr), e.Code); refusal != nil {
			return refusal.Words, refusal
		}
	}
	return append(hookWords(string(out)), remoteWords(string(stderr))...), err
}
