package recovery

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
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/words"
)

// Making is a file that a program makes, and that was decided to be made anew once all is settled.
type Making struct {
	Path    string
	Command string // run in the file's folder
	Made    bool   // for the very tree that is joined
	Same    bool   // the command left it as it was
}

// Made is what a command made of a file, in a tree.
type Made struct {
	Path    string    `json:"path"`
	Command string    `json:"command"`
	From    object.ID `json:"from"` // the joined tree it was made from
	Text    string    `json:"text"`
}

// maker is settle.Files.Maker: the command that is known by the kind of the file or else the one that
// dorvik.generate names.
func (w *Workspace) maker(_, known string) string {
	if known == "" {
		known, _ = w.Repo.Config(context.Background(), "dorvik.generate")
	}
	return known
}

// makings are the files of a join that were decided to be made anew. What is uncommitted is not among them: that
// goes nowhere.
func (w *Workspace) makings(j *Join, decisions *settle.Decisions) (out []Making) {
	decisions = decisions.Indexed()
	for _, stop := range j.Stops {
		if stop.Uncommitted {
			continue
		}
		for i := range stop.Result.Conflicts {
			f := w.files.Open(&stop.Result.Conflicts[i])
			for _, q := range f.Questions {
				d, _, ok := decisions.For(q)
				if !ok || d.Way != settle.Anew ||
					slices.ContainsFunc(out, func(m Making) bool { return m.Path == f.Path }) {
					continue
				}
				out = append(out, Making{Path: f.Path, Command: f.Command()})
			}
		}
	}
	return out
}

// makeAnew puts what commands made of this very tree in the place of the files they made. A file that was mended by
// hand stays as it is.
func (w *Workspace) makeAnew(j *Join, decisions *settle.Decisions, made []Made) error {
	from, edits := j.Tree, map[string]object.Entry{}
	for _, m := range w.makings(j, decisions) {
		if slices.ContainsFunc(j.Mended, func(by Mend) bool { return by.Path == m.Path }) {
			continue
		}
		e, err := w.Store.Find(from, m.Path)
		if err != nil {
			return err
		}
		if !e.Mode.IsRegular() { // a later commit took it away
			continue
		}
		for _, one := range made {
			if one.Path == m.Path && one.Command == m.Command && one.From == from {
				id := w.Store.Put(object.KindBlob, []byte(one.Text))
				m.Made, m.Same = true, id == e.ID
				edits[m.Path] = object.Entry{Mode: e.Mode, ID: id}
			}
		}
		j.Makings = append(j.Makings, m)
	}
	if len(edits) == 0 {
		return nil
	}
	tree, err := w.Store.Edit(from, edits)
	j.plain, j.Tree = from, tree
	return err
}

// Unmade are the files that are still to be made anew.
func (j *Join) Unmade() (out []Making) {
	return slices.DeleteFunc(slices.Clone(j.Makings), func(m Making) bool { return m.Made })
}

// Sentence tells of a making, for where the result is told of.
func (m Making) Sentence() string {
	switch {
	case !m.Made:
		return m.Path + " was not made anew: “" + m.Command + "” did not run, or did not end well. It is yours where " +
			"both sides changed it."
	case m.Same:
		return m.Path + " is yours where both sides changed it: “" + m.Command + "” ran, and left it as it is."
	}
	return m.Path + " was made anew by “" + m.Command + "”."
}

// amended reports whether the joined tree is not the one that the joins alone come to.
func (j *Join) amended() bool {
	return len(j.Mended) > 0 || slices.ContainsFunc(j.Makings, func(m Making) bool { return m.Made && !m.Same })
}

// ToMake gives what the commands are that are still to make files, with what they go by, and whether they may be run:
// each was agreed to before as it reads now. With a position it also says who of the other side changed what.
func (s *Session) ToMake(ctx context.Context, p *Position, j *Join) (all []*Terms, agreed bool, err error) {
	agreed = true
	for _, m := range j.Unmade() {
		t, err := s.termsFor(ctx, &Terms{Command: check.Command{Steps: []string{m.Command}}, Makes: m.Path}, p,
			p.joined(j.Tree))
		if err != nil {
			return nil, false, err
		}
		all, agreed = append(all, t), agreed && t.Agreed()
	}
	return all, agreed, nil
}

// Make runs the commands that make files anew, which were shown and are agreed to by that, each in the file's folder of
// the check's checkout of a joined commit, and keeps what they made. Nothing else that they changed is taken; what that
// is, is said to each, as all that they print is. failed is the one that did not end well, or nil.
func (s *Session) Make(ctx context.Context, j *Join, terms []*Terms, tip object.ID, each func(string)) (
	failed *check.Report, err error) {
	s.last = lastRun{}
	co, err := s.checkout(ctx, "check", tip, each)
	if err != nil {
		return nil, err
	}
	from := j.Tree
	if !j.plain.IsZero() {
		from = j.plain
	}
	env, err := s.environment(ctx)
	if err != nil {
		return nil, err
	}
	var paths []string
	for i, m := range j.Unmade() {
		if i >= len(terms) || terms[i].Makes != m.Path || terms[i].Tree != j.Tree {
			return nil, errors.New("what makes files anew was shown for another joined result; look at it again")
		}
		if err := s.AgreeTo(terms[i]); err != nil {
			return nil, err
		}
		paths = append(paths, m.Path)
		each("$ " + m.Command + words.If(path.Dir(m.Path) == ".", "", "   (in "+path.Dir(m.Path)+")"))
		r, err := check.Run(ctx, filepath.Join(co.Dir, filepath.FromSlash(path.Dir(m.Path))), m.Command,
			env, each)
		if err != nil {
			return nil, err
		}
		if !r.Passed {
			return &r, nil
		}
		text, err := readMade(co.Dir, m.Path)
		if err != nil {
			return nil, err
		}
		s.state.Made = slices.DeleteFunc(slices.Clone(s.state.Made), func(o Made) bool { return o.Path == m.Path })
		s.state.Made = append(s.state.Made, Made{m.Path, m.Command, from, text})
	}
	if err := s.save(); err != nil {
		return nil, err
	}
	changed, err := s.Repo.ChangedIn(ctx, co.Checkout)
	changed = slices.DeleteFunc(changed, func(p string) bool { return slices.Contains(paths, p) })
	if len(changed) > 0 {
		each("dorvik: changed too, and not taken: " + words.List(words.Some(changed, 8)))
	}
	return nil, err
}

// readMade reads a file that a command made, with the line ends that git would keep.
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
		return "", fmt.Errorf("what was made of %s is no text in UTF-8; take one side's instead", name)
	}
	return strings.ReplaceAll(string(data), "\r\n", "\n"), nil
}

// withoutTexts is what commands made, without the texts: those are in the joined tree.
func withoutTexts(made []Made) []Made {
	out := slices.Clone(made)
	for i := range out {
		out[i].Text = ""
	}
	return out
}

// madeAt is what commands had made at a waypoint. What cannot be read any more is not among it.
func (w *Workspace) madeAt(p *Waypoint) (out []Made) {
	for _, m := range p.Made {
		text, ok, err := w.textOf(p.After, m.Path)
		if err == nil && ok {
			m.Text = text
			out = append(out, m)
		}
	}
	return out
}

// textOf is the text of a file in a commit.
func (w *Workspace) textOf(commit object.ID, path string) (text string, ok bool, err error) {
	tree, err := w.Tree(commit)
	if err != nil {
		return "", false, err
	}
	return w.TextAt(tree, path)
}
