package recovery

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/patch"
	"dorvik.dev/dorvik/internal/git"
	"dorvik.dev/dorvik/internal/words"
)

// patcher makes commits of patches from mails: each of the version it was made from, as far as that is
// known, and of what it changes in it. So they are joined as any other commits are.
type patcher struct {
	w    *Workspace
	ctx  context.Context
	s    *Stuck
	tree object.ID            // as it is when the patches before are applied
	made map[string]object.ID // contents that they made
	base map[string]object.Entry
	now  map[string]object.Entry
	name string // of the patch, for a person
}

// patches lists the patches that are still to be applied as commands of a list. Why is set where Dorvik
// cannot read one.
func (w *Workspace) patches(ctx context.Context, s *Stuck) error {
	tree, err := w.Tree(s.Head)
	if err != nil {
		return err
	}
	how, strip, folder, err := w.reading(ctx, s)
	if err != nil {
		return err
	}
	p := &patcher{w: w, ctx: ctx, s: s, tree: tree, made: map[string]object.ID{}}
	var list []git.Command
	for i, raw := range s.Mails {
		p.name = "its " + words.Nth(s.At+i) + " patch"
		c, err := p.commit(raw, how, strip, folder)
		var unfit *unfitError
		if errors.As(err, &unfit) {
			s.Why = p.name + " " + unfit.Error()
			return nil
		}
		if err != nil {
			return err
		}
		list = append(list, git.Command{Verb: "pick", Commit: w.Store.PutCommit(c)})
	}
	dir, err := w.Repo.Inside(ctx, "hooks")
	if err != nil {
		return err
	}
	for _, name := range []string{"applypatch-msg", "pre-applypatch", "post-applypatch"} {
		if w.Repo.Hook(dir, name) != nil {
			s.note("git would run the hook %s for each patch: Dorvik does not.", name)
		}
	}
	if len(list) > 0 {
		s.Done, s.Todo, s.Stopped = list[:1], list[1:], list[0].Commit
	}
	return nil
}

// unfitError says why a patch cannot be gone on with.
type unfitError struct{ why string }

func (e *unfitError) Error() string { return e.why }

func unfit(why string, args ...any) error { return &unfitError{fmt.Sprintf(why, args...)} }

// reading is how the mails are read and their patches applied, by the options that git was given.
func (w *Workspace) reading(ctx context.Context, s *Stuck) (how patch.Reading, strip int, folder string, err error) {
	how = patch.Reading{KeepSubject: s.Apply.KeepSubject, KeepOthers: s.Apply.KeepOthers, Scissors: s.Apply.Scissors,
		MessageID: s.Apply.MessageID}
	if s.Apply.SignOff {
		if how.SignOff, err = w.signOff(ctx); err != nil {
			return how, 0, "", err
		}
	}
	strip = 1
	for option := range strings.FieldsSeq(s.Apply.Options) {
		option = strings.Trim(option, "'")
		if n, ok := strings.CutPrefix(option, "-p"); ok {
			if strip, err = strconv.Atoi(n); err == nil {
				continue
			}
		}
		if dir, ok := strings.CutPrefix(option, "--directory="); ok {
			folder = strings.Trim(dir, "/") + "/"
			continue
		}
		s.Why = "git was told to apply its patches with “" + option + "”, which Dorvik does not follow"
	}
	return how, strip, folder, nil
}

// commit is what a mail comes to.
func (p *patcher) commit(raw string, how patch.Reading, strip int, folder string) (*object.Commit, error) {
	m, err := patch.ReadMail(raw, how)
	if err != nil {
		return nil, unfit("cannot be read: %s", err)
	}
	files, err := patch.Parse(m.Patch, strip)
	if err != nil {
		return nil, unfit("cannot be read: %s", err)
	}
	if len(files) == 0 {
		return nil, unfit("changes no file")
	}
	p.base, p.now = map[string]object.Entry{}, map[string]object.Entry{}
	for _, f := range files {
		if f.Old != "" {
			f.Old = folder + f.Old
		}
		if f.New != "" {
			f.New = folder + f.New
		}
		if err := p.file(&f); err != nil {
			return nil, err
		}
	}
	base, err := p.w.Store.Edit(p.tree, p.base)
	if err != nil {
		return nil, err
	}
	if p.tree, err = p.w.Store.Edit(base, p.now); err != nil {
		return nil, err
	}
	before := p.w.Store.PutCommit(&object.Commit{Tree: base, Parents: []object.ID{p.s.Head}, Committer: m.Author,
		AuthorLine: m.Author.String()})
	return &object.Commit{Tree: p.tree, Parents: []object.ID{before}, AuthorLine: m.Author.String(),
		Committer: m.Author, Message: m.Message}, nil
}

// file takes in what a patch does to one file.
func (p *patcher) file(f *patch.File) error {
	var was object.Entry
	var before, after []byte
	var err error
	if f.Old == "" {
		p.base[f.New] = object.Entry{}
		if after, err = change(f, nil); err != nil {
			return unfit("makes %s, and holds not all of it: %s", f.New, err)
		}
	} else {
		if was, err = p.w.Store.Find(p.tree, f.Old); err != nil {
			return err
		}
		if before, after, err = p.versions(f, was); err != nil {
			return err
		}
	}
	mode := f.OldMode
	switch {
	case mode != 0:
	case was.Mode.IsRegular() || was.Mode == object.ModeLink:
		mode = was.Mode
	default:
		mode = object.ModeFile
	}
	if mode == object.ModeSubmodule || f.NewMode == object.ModeSubmodule {
		return unfit("moves the submodule %s", f.Old+words.If(f.Old == "", f.New, ""))
	}
	if f.Old != "" {
		p.base[f.Old] = object.Entry{Mode: mode, ID: p.w.Store.Put(object.KindBlob, before)}
	}
	if f.Old != f.New && f.Old != "" && !f.Copied {
		p.now[f.Old] = object.Entry{}
	}
	if f.New != "" {
		if f.NewMode != 0 {
			mode = f.NewMode
		}
		id := p.w.Store.Put(object.KindBlob, after)
		p.now[f.New] = object.Entry{Mode: mode, ID: id}
		p.made[id.String()] = id
		if f.NewID != "" && !strings.HasPrefix(id.String(), f.NewID) && f.Binary != nil {
			return unfit("makes another %s than it says", f.New)
		}
	}
	return nil
}

// change makes the change to the version that it was made from.
func change(f *patch.File, before []byte) ([]byte, error) {
	if f.Binary != nil {
		return f.Binary.Apply(before)
	}
	text, err := patch.Apply(f.Hunks, string(before))
	return []byte(text), err
}

// versions gives the version that the change of a file was made from, and that with the change made. It is
// the very one where it is here; else it is told from the file as it is.
func (p *patcher) versions(f *patch.File, is object.Entry) (before, after []byte, err error) {
	if id, ok := p.known(f.OldID); ok {
		if before, err = p.w.Store.Blob(id); err != nil {
			return nil, nil, err
		}
		if after, err = change(f, before); err == nil {
			return before, after, nil
		}
	}
	if !is.Mode.IsRegular() {
		return nil, nil, unfit("changes %s, which is not here, nor is the version it was made from", f.Old)
	}
	now, err := p.w.Store.Blob(is.ID)
	if err != nil {
		return nil, nil, err
	}
	if f.Binary != nil {
		if f.Binary.Delta {
			return nil, nil, unfit("changes %s from a version that is not here", f.Old)
		}
		return nil, nil, unfit("replaces %s, which is another file here", f.Old)
	}
	text, changed, nearly := patch.Version(f.Hunks, string(now))
	for _, line := range nearly {
		p.s.Nearly = append(p.s.Nearly, merge.Remark{Path: f.Old, Words: fmt.Sprintf("%s fits only nearly, at line "+
			"%d, as what stands around its change is another here", p.name, line)})
	}
	return []byte(text), []byte(changed), nil
}

// known finds the content of an id, which may be shortened: made by a patch before, or kept here.
func (p *patcher) known(id string) (object.ID, bool) {
	if len(id) < 4 {
		return object.ID{}, false
	}
	for name, made := range p.made {
		if strings.HasPrefix(name, id) {
			return made, true
		}
	}
	out, err := p.w.Repo.Content(p.ctx, id)
	return out, err == nil
}
