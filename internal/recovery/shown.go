package recovery

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/hostapi"
	"dorvik.dev/dorvik/internal/proposal"
	"dorvik.dev/dorvik/internal/vcs"
)

// HostView is what the host of a remote shows after a push.
type HostView struct {
	Page     string // address of the repository's page
	Branch   hostapi.Branch
	Accepted []hostapi.Proposal // proposals that the push brought in
	Mine     *hostapi.Proposal  // the waiting proposal of the pushed branch; nil if there is none
}

// Running reports whether the host's check has not ended yet.
func (v *HostView) Running() bool { return v.Branch.Check.State == hostapi.Running }

// Sentences says what the host shows, in plain sentences.
func (v *HostView) Sentences() (out []string) {
	switch v.Branch.Check.State {
	case hostapi.Running:
		out = append(out, fmt.Sprintf("The host shows %s at %s. Its check is running there.", v.Branch.Name,
			short(v.Branch.Tip)))
	case hostapi.Passed:
		out = append(out, fmt.Sprintf("The host shows %s at %s. Its check passed there.", v.Branch.Name,
			short(v.Branch.Tip)))
	case hostapi.Failed:
		out = append(out, fmt.Sprintf("The host shows %s at %s. Its check failed there: %s", v.Branch.Name,
			short(v.Branch.Tip), lastLine(v.Branch.Check.Output)))
	default:
		out = append(out, fmt.Sprintf("The host shows %s at %s.", v.Branch.Name, short(v.Branch.Tip)))
	}
	for _, p := range v.Accepted {
		out = append(out, fmt.Sprintf("Proposal %d, “%s” by %s, is accepted there.", p.Number, p.Title, p.By))
	}
	if v.Mine != nil {
		out = append(out, fmt.Sprintf("Proposal %d, “%s”, shows what you pushed.", v.Mine.Number, v.Mine.Title))
	}
	return append(out, "Its page: "+v.Page)
}

// short returns the first digits of an id.
func short(id string) string { return id[:min(7, len(id))] }

// lastLine returns the last line of an output that says something.
func lastLine(text string) string {
	lines := strings.Split(strings.TrimSpace(text), "\n")
	return strings.TrimSpace(lines[len(lines)-1])
}

// Shown asks the host of a remote what it shows of a branch that holds tip, by the ref that hosts of this kind have. It
// returns nil if the remote has no such ref.
func (ps *Pusher) Shown(ctx context.Context, to vcs.Line, tip object.ID) (*HostView, error) {
	state, err := proposal.FetchState(ctx, ps.s.Repo, ps.s.Planner.Store, to.Remote)
	if err != nil || state == nil {
		return nil, err
	}
	v := &HostView{Page: vcs.WithoutSecrets(state.Page)}
	name := to.Branch()
	i := slices.IndexFunc(state.Branches, func(b hostapi.Branch) bool { return b.Name == name })
	if i < 0 {
		return nil, nil
	}
	v.Branch = state.Branches[i]
	for _, p := range state.Proposals {
		switch {
		case p.State == hostapi.Accepted && p.Into == name && p.AcceptAt == tip.String():
			v.Accepted = append(v.Accepted, p)
		case p.State == hostapi.Waiting && p.Tip == tip.String() && p.From == name && p.Fork == "":
			v.Mine = &p
		}
	}
	return v, nil
}
