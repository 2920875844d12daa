package apply

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/git"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/prove"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// agreeTo permits hooks as long as their content stays the same.
func (hk *hooks) agreeTo(ctx context.Context, hooks []*vcs.Hook) error {
	for _, h := range hooks {
		line, _, err := hk.hookLine(ctx, h)
		if err == nil {
			err = hk.ledger.Agree(line)
		}
		if err != nil {
			return err
		}
	}
	return hk.letHooks(ctx)
}

// hookLine returns the text by which a hook is agreed to: its path, its content, and the files of the repository that
// it names, directly or through others. holds maps these paths to their content.
func (hk *hooks) hookLine(ctx context.Context, h *vcs.Hook) (line string, holds map[string]string, err error) {
	text, err := os.ReadFile(h.Path)
	if err != nil {
		return "", nil, fmt.Errorf("reading the hook %s: %w", h.Name, err)
	}
	if holds, err = hk.drivers.NamedBy(ctx, string(text)); err != nil {
		return "", nil, err
	}
	line = fmt.Sprintf("hook %s %s", h.Path, hk.drivers.IdOf(string(text)))
	for _, path := range slices.Sorted(maps.Keys(holds)) {
		line += fmt.Sprintf("\nwith %s %s", path, hk.drivers.IdOf(holds[path]))
	}
	holds[h.Path] = string(text)
	return line, holds, nil
}

// letHooks lets git run the hooks from the working tree that were agreed to, and no others.
func (hk *hooks) letHooks(ctx context.Context) error {
	if !hk.Repo.HooksInTree(ctx) {
		return nil
	}
	hooks, err := hk.Repo.Hooks(ctx)
	if err != nil {
		return err
	}
	var agreed []*vcs.Hook
	now := map[string]map[string]string{}
	for _, h := range hooks {
		line, holds, err := hk.hookLine(ctx, h)
		if err != nil {
			return err
		}
		if !h.InTree || hk.ledger.AgreedTo(line) {
			agreed, now[h.Name] = append(agreed, h), holds
		}
	}
	return hk.Repo.LetHooksRun(agreed, now)
}

// hookRun runs the hooks of one change.
type hookRun struct {
	s *Applier

	without bool // skip hooks without consent instead of asking
	skipped []string
}

// may returns a hook that exists and may run, or nil.
func (r *hookRun) may(ctx context.Context, name string) (*vcs.Hook, error) {
	h := r.s.Repo.Hook(r.s.Repo.HooksDir(ctx), name)
	if h == nil || !h.InTree {
		return h, nil
	}
	line, _, err := r.s.hooks.hookLine(ctx, h)
	switch {
	case err != nil:
		return nil, err
	case r.s.Ledger.AgreedTo(line):
		return h, nil
	case !r.without:
		return nil, &change.HooksError{Hooks: []*vcs.Hook{h}}
	case !slices.Contains(r.skipped, name):
		r.skipped = append(r.skipped, name)
	}
	return nil, nil
}

// hook runs a hook if it exists.
func (r *hookRun) hook(ctx context.Context, name, dir, stdin string, args ...string) error {
	h, err := r.may(ctx, name)
	if err == nil && h != nil {
		_, err = r.s.Repo.RunHook(ctx, h, dir, stdin, args...)
	}
	return err
}

// byGit lists the hooks that git runs itself when it moves refs or writes files.
var byGit = []string{"reference-transaction", "post-index-change"}

// hooksFor lists the hooks that git would run for this join, before and after the change.
func hooksFor(p *plan.Position, j *plan.Join) (before, after []string) {
	messages := []string{"prepare-commit-msg", "commit-msg"}
	switch {
	case p.SettlesOnly(): // no commit is made
	case j.Route == plan.Merge && p.Trivial() == plan.NotTrivial:
		if len(j.Stops) == 0 && p.Resumes() == nil {
			return append([]string{"pre-merge-commit"}, messages...), []string{"post-merge"}
		}
		return append([]string{"pre-commit"}, messages...), nil // git commit makes this one
	case p.Commits():
		return append([]string{"pre-commit"}, messages...), []string{"post-commit"}
	case p.MovesBack(): // git runs no commit hooks when a branch moves back
	case j.Route == plan.Merge || p.Trivial() == plan.FastForward:
		return nil, []string{"post-merge"}
	case j.Route == plan.Rebase:
		if p.Resumes() == nil {
			before = []string{"pre-rebase"}
		}
		if len(j.Reworded()) > 0 {
			before = append(before, messages...)
		}
		return before, []string{"post-checkout", "post-rewrite"}
	}
	return nil, nil
}

// askHooks returns one *change.HooksError for all hooks of the join that need agreement.
func (r *hookRun) askHooks(ctx context.Context, p *plan.Position, j *plan.Join) error {
	before, after := hooksFor(p, j)
	return r.ask(ctx, slices.Concat(before, after, byGit)...)
}

// ask returns a *change.HooksError for those of the hooks that need agreement.
func (r *hookRun) ask(ctx context.Context, names ...string) error {
	var ask []*vcs.Hook
	for _, name := range names {
		_, err := r.may(ctx, name)
		var asks *change.HooksError
		if errors.As(err, &asks) {
			ask = append(ask, asks.Hooks...)
		} else if err != nil {
			return err
		}
	}
	if len(ask) > 0 {
		return &change.HooksError{Hooks: ask}
	}
	return r.s.hooks.letHooks(ctx)
}

// before runs the hooks that can refuse the join or edit its messages, and returns the commits with these messages.
// The commits must be in the repository.
func (r *hookRun) before(ctx context.Context, p *plan.Position, j *plan.Join, b plan.Built) (plan.Built, error) {
	if err := r.askHooks(ctx, p, j); err != nil {
		return b, err
	}
	names, _ := hooksFor(p, j)
	messages := map[object.ID]string{}
	for _, name := range names {
		var err error
		switch name {
		case "pre-rebase":
			err = r.hook(ctx, name, "", "", p.Line().Name)
		case "pre-merge-commit", "pre-commit":
			err = r.onMerge(ctx, name, p, b)
		case "prepare-commit-msg":
			switch {
			case j.Route == plan.Merge:
				err = r.message(ctx, b.Tip, messages, "merge")
			case p.Commits():
				err = r.message(ctx, b.Tip, messages, "message")
			}
			for _, k := range j.Reworded() {
				if err = r.message(ctx, b.IDs[k], messages, "message"); err != nil {
					break
				}
			}
		}
		if err != nil {
			return b, err
		}
	}
	out, err := r.s.hooks.reworded(ctx, b, messages)
	if err == nil && out.Tip != b.Tip {
		err = r.s.carrier.addTip(ctx, out.Tip)
	}
	return out, err
}

// onMerge runs a hook in a checkout that looks like a working tree before a merge is committed.
func (r *hookRun) onMerge(ctx context.Context, name string, p *plan.Position, b plan.Built) error {
	if h, err := r.may(ctx, name); err != nil || h == nil {
		return err
	}
	s := r.s
	co, err := s.Repo.OpenCheckout(ctx, "check", b.Tip)
	if err != nil {
		return err
	}
	theirs := p.Theirs
	if name == "pre-merge-commit" || p.Commits() {
		theirs = object.ID{}
	}
	done, err := s.Repo.ToMerge(ctx, co, p.Yours, theirs)
	if err != nil {
		return err
	}
	defer done()
	return r.hook(ctx, name, co.Dir, "")
}

// message runs the message hooks for a new commit.
func (r *hookRun) message(ctx context.Context, id object.ID, into map[object.ID]string, source string) error {
	one, err := r.may(ctx, "prepare-commit-msg")
	other, err2 := r.may(ctx, "commit-msg")
	if err = errors.Join(err, err2); err != nil || one == nil && other == nil {
		return err
	}
	c, err := r.s.Planner.Store.Commit(ctx, id)
	if err != nil {
		return err
	}
	path := filepath.Join(r.s.Repo.GitDir, "dorvik", "COMMIT_EDITMSG")
	if err := os.WriteFile(path, []byte(c.Message), 0o644); err != nil {
		return fmt.Errorf("writing the message for its hooks: %w", err)
	}
	defer os.Remove(path)
	if err = r.hook(ctx, "prepare-commit-msg", "", "", path, source); err == nil {
		err = r.hook(ctx, "commit-msg", "", "", path)
	}
	if err != nil {
		return err
	}
	data, err := os.ReadFile(path)
	if err != nil {
		return fmt.Errorf("reading the message from its hooks: %w", err)
	}
	text := strings.TrimSpace(string(data))
	if text == "" {
		return &vcs.HookError{Name: "commit-msg", Said: []string{"it left no message"}}
	}
	if text != strings.TrimSpace(c.Message) {
		into[id] = text + "\n"
	}
	return nil
}

// reworded makes commits again with other messages, and the commits on top of them.
func (hk *hooks) reworded(ctx context.Context, b plan.Built, messages map[object.ID]string) (plan.Built, error) {
	if len(messages) == 0 {
		return b, nil
	}
	now := map[object.ID]object.ID{}
	again := func(id object.ID) (object.ID, error) {
		if id.IsZero() || !hk.planner.Store.Made(id) {
			return id, nil
		}
		made, err := hk.planner.Store.Commit(ctx, id)
		if err != nil {
			return id, err
		}
		c := *made
		c.Parents = nil
		for _, p := range made.Parents {
			if to, ok := now[p]; ok {
				p = to
			}
			c.Parents = append(c.Parents, p)
		}
		if text, ok := messages[id]; ok {
			c.Message = text
		}
		now[id] = hk.planner.Store.PutCommit(&c)
		return now[id], nil
	}
	out := plan.Built{Tip: b.Tip, Moves: b.Moves}
	for _, id := range b.IDs { // parents first
		to, err := again(id)
		if err != nil {
			return b, err
		}
		out.IDs = append(out.IDs, to)
	}
	var err error
	if to, ok := now[b.Tip]; ok {
		out.Tip = to
	} else if len(b.IDs) == 0 {
		out.Tip, err = again(b.Tip)
	}
	return out, err
}

// after runs the hooks that git runs after a join. Failures are only reported.
func (r *hookRun) after(ctx context.Context, p *plan.Position, j *plan.Join, b plan.Built, wp *ledger.Waypoint) {
	r.without = true // the join is done: skip a hook that came with it instead of asking
	_, names := hooksFor(p, j)
	for _, name := range names {
		var err error
		switch name {
		case "post-merge":
			err = r.hook(ctx, name, "", "", "0")
		case "post-commit":
			err = r.hook(ctx, name, "", "")
		case "post-checkout":
			err = r.hook(ctx, name, "", "", wp.Before.String(), wp.After.String(), "1")
		case "post-rewrite":
			if list := r.rewritten(p, j, b); list != "" {
				err = r.hook(ctx, name, "", list, "rebase")
			}
		}
		if err != nil {
			r.s.Ledger.Tell("%s The join is made all the same.", words.Sentence(err.Error()))
		}
	}
	r.tellSkipped()
}

// tellSkipped reports the hooks that did not run.
func (r *hookRun) tellSkipped() {
	if n := len(r.skipped); n > 0 {
		r.s.Ledger.Tell("The %s %s not run: the repository brought %s, and you did not agree.",
			words.Is(n, "hook", "hooks"),
			words.List(r.skipped)+" "+words.Is(n, "was", "were"), words.Is(n, "it", "them"))
	}
}

// rewritten lists old and new ids of rewritten commits, for post-rewrite. It starts with those that git rewrote before
// it stopped.
func (r *hookRun) rewritten(p *plan.Position, j *plan.Join, b plan.Built) string {
	var out strings.Builder
	add := func(was, is object.ID) {
		if is = r.s.signer.signedAs(is); was != is && !is.IsZero() {
			fmt.Fprintf(&out, "%s %s\n", was, is)
		}
	}
	if p.Resumes() != nil {
		for _, c := range p.Stuck.Left.Done {
			add(c.Commit, p.Stuck.Left.Remade[c.Commit])
		}
	}
	for i := range j.Steps {
		if i < len(b.IDs) {
			add(j.Steps[i].Commit.ID, b.IDs[i])
		}
	}
	return out.String()
}

// hooks manages agreements to run hooks.
type hooks struct {
	Repo    *git.Repo
	planner *plan.Planner
	ledger  *ledger.Ledger
	drivers *prove.Drivers
}
