package prove

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"unicode/utf8"

	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/words"
)

// ToMake returns the terms of the commands that still must generate files. agreed is true if all of them may run.
func (pr *Prover) ToMake(ctx context.Context, p *plan.Position, j *plan.Join) (all []*Terms, agreed bool, err error) {
	agreed = true
	for _, m := range j.Unmade() {
		t, err := pr.Asker.termsFor(ctx, &Terms{Command: check.Command{Steps: []string{m.Command}}, Makes: m.Path}, p,
			joinedOn(p, j.Tree))
		if err != nil {
			return nil, false, err
		}
		all, agreed = append(all, t), agreed && t.Agreed()
	}
	return all, agreed, nil
}

// Make runs the commands that make files again, which were shown and are agreed to by that, each in the file's folder
// of
// the check's checkout of a joined commit, and keeps what they made. Nothing else that they changed is taken; what that
// is, is said to each, as all that they print is. failed is the one that did not end well, or nil.
func (pr *Prover) Make(ctx context.Context, j *plan.Join, terms []*Terms, tip object.ID, each func(string)) (
	failed *check.Report, err error) {
	pr.last = lastRun{}
	co, err := pr.checkout(ctx, "check", tip, each)
	if err != nil {
		return nil, err
	}
	from := j.Tree
	if !j.Plain.IsZero() {
		from = j.Plain
	}
	env, err := pr.environment(ctx)
	if err != nil {
		return nil, err
	}
	var paths []string
	for i, m := range j.Unmade() {
		if i >= len(terms) || terms[i].Makes != m.Path || terms[i].Tree != j.Tree {
			return nil, errors.New("what makes files anew was shown for another joined result; look at it again")
		}
		if err := pr.Asker.AgreeTo(terms[i]); err != nil {
			return nil, err
		}
		paths = append(paths, m.Path)
		each("$ " + m.Command + words.If(path.Dir(m.Path) == ".", "", "   (in "+path.Dir(m.Path)+")"))
		r, err := check.Run(ctx, filepath.Join(co.In.Dir, filepath.FromSlash(path.Dir(m.Path))), m.Command,
			env, each)
		if err != nil {
			return nil, err
		}
		if !r.Passed {
			return &r, nil
		}
		text, err := readMade(co.In.Dir, m.Path)
		if err != nil {
			return nil, err
		}
		err = pr.Ledger.KeepMade(plan.Made{Path: m.Path, Command: m.Command, From: from, Text: text})
		if err != nil {
			return nil, err
		}
	}
	changed, err := pr.Repo.ChangedIn(ctx, co.In)
	changed = slices.DeleteFunc(changed, func(p string) bool { return slices.Contains(paths, p) })
	if len(changed) > 0 {
		each("dorvik: changed too, and not taken: " + words.List(words.Some(changed, 8)))
	}
	return nil, err
}

// readMade reads a generated file and normalises its line ends.
func readMade(dir, name string) (string, error) {
	file := filepath.Join(dir, filepath.FromSlash(name))
	info, err := os.Lstat(file)
	if err != nil || !info.Mode().IsRegular() {
		return "", fmt.Errorf("the command took %s away; take one side's instead", name)
	}
	data, err := os.ReadFile(file)
	if err != nil {
		return "", fmt.Errorf("reading what was made: %w", err)
	}
	if !utf8.Valid(data) {
		return "", fmt.Errorf("what was made of %s is not UTF-8 text; take one side's instead", name)
	}
	return strings.ReplaceAll(string(data), "\r\n", "\n"), nil
}
