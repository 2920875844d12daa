package recovery

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"path"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
)

// Terms are what is agreed to where a command may run: the command, the files that say what it does, as they read, and
// the filters of the repository's own configuration that run when its checkout is made.
type Terms struct {
	Command check.Command
	Makes   string // a file that it makes anew, in the folder of which it runs; empty for a check
	Files   []DefinedFile
	Filters []string // "name: command"
	Before  bool     // the command was agreed to before, when one of these read otherwise
}

// DefinedFile is a file that says what a command does.
type DefinedFile struct {
	Path string
	ID   object.ID
	Was  object.ID    // as it was when it was agreed to last; zero where it was not, or reads the same
	By   history.Node // who of the other side changed it; zero where nobody did

	Change struct{ From, To string } // the texts, where it reads otherwise and both can be read
}

// String is what is recorded: the command, and what it goes by.
func (t *Terms) String() string {
	var b strings.Builder
	b.WriteString(t.head())
	for _, f := range t.Files {
		fmt.Fprintf(&b, "\n%s %s", f.ID, f.Path)
	}
	for _, f := range t.Filters {
		fmt.Fprintf(&b, "\nfilter %s", f)
	}
	return b.String()
}

// head is the command, and what it is for.
func (t *Terms) head() string {
	if t.Makes != "" {
		return "make " + t.Makes + " by " + t.Command.Line()
	}
	return "check " + t.Command.Line()
}

// Hash names the terms for a script that agrees to them: the first half of SHA-256 of what is recorded, in hex.
func (t *Terms) Hash() string {
	sum := sha256.Sum256([]byte(t.String()))
	return hex.EncodeToString(sum[:16])
}

// Changed lists the files that read otherwise than when the command was agreed to.
func (t *Terms) Changed() (out []DefinedFile) {
	return slices.DeleteFunc(slices.Clone(t.Files), func(f DefinedFile) bool { return f.Was.IsZero() })
}

// ownYes reports whether a setting is true in the person's own configuration.
func (w *Workspace) ownYes(ctx context.Context, key string) bool {
	all, err := w.Repo.Values(ctx, key, false)
	yes := false
	for _, s := range all {
		if s.Own {
			yes = s.Value == "true"
		}
	}
	return err == nil && yes
}

// TermsOf finds what running a command on a tree would be agreed to by. With a position it also says who of the other
// side changed what it goes by. The error is that of reading the settings or the history.
func (s *Session) TermsOf(ctx context.Context, c check.Command, tree object.ID, p *Position) (*Terms, error) {
	return s.termsFor(ctx, &Terms{Command: c}, tree, p)
}

// termsFor completes terms of which the command is known.
func (s *Session) termsFor(ctx context.Context, t *Terms, tree object.ID, p *Position) (*Terms, error) {
	t.Files = s.definedBy(t.Command, tree, path.Dir(t.Makes))
	filters, err := s.Repo.Values(ctx, `^filter\..*\.(smudge|process)$`, true)
	if err != nil {
		return nil, err
	}
	for _, f := range filters {
		if !f.Own {
			t.Filters = append(t.Filters, strings.TrimSuffix(strings.TrimPrefix(f.Name, "filter."),
				path.Ext(f.Name))+": "+f.Value)
		}
	}
	s.compare(t)
	for i := range t.Files {
		f := &t.Files[i]
		if f.Was.IsZero() {
			continue
		}
		f.Change = s.changeOf(f)
		if p == nil {
			continue
		}
		if f.By, _, err = s.Annotator(p.Divergence.Theirs).Editor(f.Path, nil); err != nil {
			return nil, err
		}
	}
	return t, nil
}

// changeOf reads how a file read then, and reads now; empty where what it was then is gone.
func (s *Session) changeOf(f *DefinedFile) (c struct{ From, To string }) {
	was, err := s.Store.Blob(f.Was)
	is, ierr := s.Store.Blob(f.ID)
	if err == nil && ierr == nil {
		c.From, c.To = string(was), string(is)
	}
	return c
}

// definedBy lists the files of a tree that a command goes by which runs in a folder of it. What cannot be read is none.
func (s *Session) definedBy(c check.Command, tree object.ID, dir string) (out []DefinedFile) {
	at := func(name string) (object.Entry, string, bool) {
		if name == "./" {
			names, ok := s.namesIn(tree, dir)
			return object.Entry{}, names, ok
		}
		e, err := s.Store.Find(tree, path.Join(dir, name))
		if err != nil || !e.Mode.IsRegular() {
			return e, "", false
		}
		data, err := s.Store.Blob(e.ID)
		return e, string(data), err == nil
	}
	for _, name := range check.DefinedBy(c.Line(), func(name string) (string, bool) {
		_, text, ok := at(name)
		return text, ok
	}) {
		e, _, _ := at(name)
		out = append(out, DefinedFile{Path: path.Join(dir, name), ID: e.ID})
	}
	return out
}

// SetCheck has this repository be checked by a command line, which is agreed to by that as it reads now. An empty one
// clears what was set: then the check is found from the project's files again, and asked about before it runs.
func (s *Session) SetCheck(ctx context.Context, line string, tree object.ID) error {
	if line == "" {
		return s.Repo.UnsetConfig(ctx, "dorvik.check")
	}
	if err := s.Repo.SetConfig(ctx, "dorvik.check", line); err != nil {
		return err
	}
	t, _, err := s.MayCheck(ctx, nil, tree)
	if err != nil || t == nil {
		return err
	}
	return s.Agree(t.String())
}

// compare finds the last agreement to the same command, and which files read otherwise then.
func (s *Session) compare(t *Terms) {
	head := t.head()
	for i := len(s.agreements.order) - 1; i >= 0; i-- {
		lines := strings.Split(s.agreements.order[i], "\n")
		if lines[0] != head {
			continue
		}
		t.Before = true
		for _, l := range lines[1:] {
			id, name, _ := strings.Cut(l, " ")
			was, err := object.ParseID(id)
			if err != nil {
				continue
			}
			for k := range t.Files {
				if t.Files[k].Path == name && t.Files[k].ID != was {
					t.Files[k].Was = was
				}
			}
		}
		return
	}
}
