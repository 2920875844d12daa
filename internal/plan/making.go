package plan

import (
	"slices"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
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

// makings are the files of a join that were decided to be made anew. What is uncommitted is not among them: that
// goes nowhere.
func (pn *Planner) makings(j *Join, decisions *settle.Decisions) (out []Making) {
	decisions = decisions.Indexed()
	for _, stop := range j.Stops {
		if stop.Uncommitted {
			continue
		}
		for i := range stop.Result.Conflicts {
			f := pn.Files.Open(&stop.Result.Conflicts[i])
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
func (pn *Planner) makeAnew(j *Join, decisions *settle.Decisions, made []Made) error {
	from, edits := j.Tree, map[string]object.Entry{}
	for _, m := range pn.makings(j, decisions) {
		if slices.ContainsFunc(j.Mended, func(by Mend) bool { return by.Path == m.Path }) {
			continue
		}
		e, err := pn.Store.Find(from, m.Path)
		if err != nil {
			return err
		}
		if !e.Mode.IsRegular() { // a later commit took it away
			continue
		}
		for _, one := range made {
			if one.Path == m.Path && one.Command == m.Command && one.From == from {
				id := pn.Store.Put(object.KindBlob, []byte(one.Text))
				m.Made, m.Same = true, id == e.ID
				edits[m.Path] = object.Entry{Mode: e.Mode, ID: id}
			}
		}
		j.Makings = append(j.Makings, m)
	}
	if len(edits) == 0 {
		return nil
	}
	tree, err := pn.Store.Edit(from, edits)
	j.Plain, j.Tree = from, tree
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

// WithoutTexts is what commands made, without the texts: those are in the joined tree.
func WithoutTexts(made []Made) []Made {
	out := slices.Clone(made)
	for i := range out {
		out[i].Text = ""
	}
	return out
}

// TextOf is the text of a file in a commit.
func (rd *Reader) TextOf(commit object.ID, path string) (text string, ok bool, err error) {
	tree, err := rd.Tree(commit)
	if err != nil {
		return "", false, err
	}
	return rd.TextAt(tree, path)
}
