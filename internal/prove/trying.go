package prove

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
)

// LayOut prepares a checkout of a commit and returns its folder: for a command line of the person's own or, if it is
// empty, for manual use. The error is an *UnagreedError if the command would run unseen changes of others.
func (pr *Prover) LayOut(ctx context.Context, p *plan.Position, tip object.ID, line string) (dir string, err error) {
	tree, err := pr.Planner.Tree(ctx, tip)
	if err == nil {
		err = pr.Asker.MayFilter(ctx, p, tree)
	}
	name := "check"
	if err == nil && line != "" { // a program goes on while checks run
		name = "run"
		err = pr.Asker.mayTry(ctx, p, tree, line)
	} else {
		pr.last = lastRun{} // the person may change what passed
	}
	if err != nil {
		return "", err
	}
	co, err := pr.checkout(ctx, name, tip, func(string) {})
	if err != nil {
		return "", err
	}
	return co.In.Dir, nil
}

// mayTry returns an *UnagreedError if a command line of dorvik.run would run unseen changes of others.
func (ak *Asker) mayTry(ctx context.Context, p *plan.Position, tree object.ID, line string) error {
	t, err := ak.termsFor(ctx, &Terms{Command: check.Command{Steps: []string{line}, Source: ak.Repo.Dialect().Source(
		"run"),
		Configured: true, Own: true}}, p, joinedOn(p, tree))
	if err == nil && !t.Agreed() {
		err = &UnagreedError{t}
	}
	return err
}

// Tried lists what the person changed in that checkout.
type Tried struct {
	Mends []plan.Mend // edits of texts in the joined tree
	Other []string    // other changes: new files, binaries, deleted files
}

// TriedIn finds these changes.
func (pr *Prover) TriedIn(ctx context.Context, dir string, tree object.ID) (out Tried, err error) {
	changed, err := pr.Repo.ChangedIn(ctx, &vcs.Checkout{Dir: dir})
	if err != nil {
		return out, err
	}
	for _, p := range changed {
		before, ok, err := pr.Planner.TextAt(ctx, tree, p)
		if err != nil {
			return out, err
		}
		data, rerr := os.ReadFile(filepath.Join(dir, filepath.FromSlash(p)))
		after := string(data)
		if !strings.Contains(before, "\r") {
			after = strings.ReplaceAll(after, "\r\n", "\n")
		}
		if !ok || rerr != nil || !merge.IsText(data) {
			out.Other = append(out.Other, p)
			continue
		}
		out.Mends = append(out.Mends, plan.Mend{Path: p, Before: before, After: after})
	}
	return out, nil
}

// OwnProgram returns a command from the person's own configuration, such as dorvik.run. A value from the repository is
// an error.
func (pr *Prover) OwnProgram(ctx context.Context, key string) (line string, err error) {
	all, err := pr.Repo.Values(ctx, key, false)
	if err != nil {
		return "", err
	}
	for _, v := range all {
		if v.Own {
			line = v.Value
		}
	}
	if line == "" && len(all) > 0 {
		return "", fmt.Errorf("%s is set by the repository's own configuration, which may not have you run programs; "+
			"set it with %s", key, pr.Repo.Dialect().SetEverywhere(strings.TrimPrefix(key, "dorvik.")))
	}
	return line, nil
}
