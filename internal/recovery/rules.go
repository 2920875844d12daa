package recovery

import (
	"context"
	"fmt"
	"slices"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/rule"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// Breach is a rule of the server, learned from an earlier refusal, that commits break which are to be pushed.
type Breach struct {
	Rule    rule.Rule
	Commits []history.Node // newest first
	Path    string         // the largest file of the oldest of them, for a rule about sizes
}

// What names the commits, and the file.
func (b Breach) What() string {
	text := "“" + b.Commits[len(b.Commits)-1].Subject() + "”"
	if b.Path != "" {
		text = b.Path + " in " + text
	}
	if n := len(b.Commits) - 1; n > 0 {
		text += " and " + words.Count(n, "other commit", "other commits")
	}
	return text
}

// Sentence describes it without a full stop.
func (b Breach) Sentence() string {
	return "the server refused this before: " + b.What() + ", where it asked for " + b.Rule.String()
}

// About returns its oldest commit as what a refusal is about.
func (b Breach) About() *About {
	return &About{Commit: b.Commits[len(b.Commits)-1], Path: b.Path, Asked: words.Sentence(b.Sentence())}
}

// About is a pushed commit that the words of a refusal name.
type About struct {
	Commit history.Node
	Path   string // file that they name; empty if only the commit
	Asked  string // what an earlier refusal asked for; empty if the words are about this push
}

// Sentence describes it.
func (a *About) Sentence() string {
	if a.Asked != "" {
		return a.Asked
	}
	if a.Path == "" {
		return fmt.Sprintf("The server's words name this commit, “%s”.", a.Commit.Subject())
	}
	return fmt.Sprintf("The server's words name %s, which is in “%s”.", a.Path, a.Commit.Subject())
}

// rules keeps what servers ask of commits.
type rules struct {
	planner *plan.Planner
	ledger  *ledger.Ledger
}

// mostJudged limits the commits of a push that are looked through.
const mostJudged = 1000

// learn remembers what the words of a refusal ask of the commits that were refused.
func (rs rules) learn(ctx context.Context, remote vcs.Remote, r *vcs.Refusal, refused []history.Node) error {
	if r.Step() != vcs.ChangeWork || r.Kind == vcs.LocalHook {
		return nil
	}
	commits, refs, err := rs.judged(ctx, refused, true)
	if err != nil {
		return err
	}
	learned := rule.Learn(slices.Concat(r.Words, []string{r.Short}), commits, func(text string) bool {
		return len(refs.In(text)) > 0
	})
	if len(learned) == 0 {
		return nil
	}
	kept := slices.DeleteFunc(slices.Clone(rs.ledger.State().Rules[remote.String()]), func(old rule.Rule) bool {
		return slices.ContainsFunc(learned, func(r rule.Rule) bool { return r.Kind == old.Kind })
	})
	return rs.ledger.Choices.Asks(remote.String(), append(kept, learned...))
}

// accepted forgets the rules that accepted commits break.
func (rs rules) accepted(ctx context.Context, remote vcs.Remote, commits []history.Node) error {
	broken, err := rs.broken(ctx, remote, commits)
	if err != nil || len(broken) == 0 {
		return err
	}
	kept := slices.DeleteFunc(slices.Clone(rs.ledger.State().Rules[remote.String()]), func(r rule.Rule) bool {
		return slices.ContainsFunc(broken, func(b Breach) bool { return b.Rule == r })
	})
	return rs.ledger.Choices.Asks(remote.String(), kept)
}

// broken lists the rules of a remote's server that commits break.
func (rs rules) broken(ctx context.Context, remote vcs.Remote, nodes []history.Node) (out []Breach, err error) {
	known := rs.ledger.State().Rules[remote.String()]
	if len(known) == 0 {
		return nil, nil
	}
	commits, _, err := rs.judged(ctx, nodes, slices.ContainsFunc(known, func(r rule.Rule) bool {
		return r.Kind == rule.Size
	}))
	if err != nil {
		return nil, err
	}
	for _, r := range known {
		at := r.Broken(commits)
		if len(at) == 0 {
			continue
		}
		b := Breach{Rule: r}
		for _, i := range at {
			b.Commits = append(b.Commits, nodes[i])
		}
		b.Path = r.Beyond(commits[at[len(at)-1]])
		out = append(out, b)
	}
	return out, nil
}

// judged reads what rules are about, with the sizes of files if a rule is about them: that reads every file.
func (rs rules) judged(ctx context.Context, nodes []history.Node, sizes bool) (out []rule.Commit,
	refs *plan.References, err error) {
	if refs, err = rs.planner.References(ctx); err != nil {
		return nil, nil, err
	}
	for _, n := range nodes[:min(mostJudged, len(nodes))] {
		c := rule.Commit{Message: n.Text(), Email: n.Author().Email, Merge: len(n.Parents) > 1,
			Task: len(refs.In(n.Text())) > 0, Files: map[string]int64{}}
		if out = append(out, c); !sizes || c.Merge { // of a merge the others' commits tell
			continue
		}
		var changed []object.Change
		if err := history.EachChange(ctx, rs.planner.Store, n.Commit, func(ch object.Change) {
			if ch.New.Mode.IsRegular() {
				changed = append(changed, ch)
			}
		}); err != nil {
			return nil, nil, err
		}
		for _, ch := range changed {
			data, err := rs.planner.Store.Blob(ctx, ch.New.ID)
			if err != nil {
				return nil, nil, err
			}
			c.Files[ch.Path] = int64(len(data))
		}
	}
	return out, refs, nil
}
