package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/words"
)

// settler is one call of settle.
type settler struct {
	*env
	theme   string
	name    string // path of the file in the project
	result  string // path of the file to write
	content merge.Three[[]byte]
	tool    bool // called by git mergetool
	certain bool
	size    int
	style   string
}

func settleCommand(e *env, theme *string) *cobra.Command {
	s := &settler{env: e}
	cmd := &cobra.Command{
		Use: "settle BASE YOURS THEIRS RESULT", Short: "Settle one file's conflicts, and write the result",
		Long: `Joins three versions of one file and writes the result. Where that asks for
decisions the full screen opens, on that alone; RESULT is written when all are
made, and the exit code is then 0. Else RESULT stays as it is, the exit code is 3,
and what was decided is kept for the next time, 14 days long.

With --certain there is no screen: what joins by itself is joined, the rest is
left between marks, and the exit code is 3 if there is any. So it can be git's
merge driver.`,
		Example: `  git config merge.tool dorvik
  git config mergetool.dorvik.cmd 'dorvik settle --mergetool --name "$MERGED" "$BASE" "$LOCAL" "$REMOTE" "$MERGED"'
  git config mergetool.dorvik.trustExitCode true
  git config merge.dorvik.driver 'dorvik settle --certain --name %P --marker-size %L %O %A %B %A'`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 4 {
				return usage{fmt.Errorf("settle takes four files: BASE YOURS THEIRS RESULT")}
			}
			return nil
		},
	}
	f := cmd.Flags()
	f.StringVar(&s.name, "name", "", "the file's `PATH` in the project, by which its language is known (RESULT)")
	f.BoolVar(&s.tool, "mergetool", false,
		"git's mergetool calls: in a rebase what it names LOCAL is theirs, and it is shown so")
	f.BoolVar(&s.certain, "certain", false, "join what joins by itself, and leave the rest between marks")
	f.IntVar(&s.size, "marker-size", 7, "with --certain: signs in a row that a mark is made of")
	f.StringVar(&s.style, "style", "merge", "with --certain: merge, or diff3 for the base between marks, too")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if s.size < 1 || s.style != "merge" && s.style != "diff3" {
			return usage{fmt.Errorf("--marker-size is 1 or more, and --style merge or diff3")}
		}
		s.theme, s.result = *theme, args[3]
		if s.name == "" {
			s.name = s.result
		}
		var err error
		files := merge.Three[string]{Base: args[0], Yours: args[1], Theirs: args[2]}
		if s.content, err = merge.MapThree(files, versionIn); err != nil {
			return err
		}
		if s.certain {
			return s.joinCertain(cmd.Context())
		}
		return s.onScreen(cmd.Context())
	}
	return cmd
}

// versionIn returns the content of a file, or nil if it does not exist.
func versionIn(file string) ([]byte, error) {
	data, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err == nil && data == nil {
		data = []byte{}
	}
	return data, err
}

// joinCertain joins without a screen.
func (s *settler) joinCertain(ctx context.Context) error {
	store := object.NewOverlay(object.SHA1, nil)
	for _, data := range [][]byte{s.content.Base, s.content.Yours, s.content.Theirs} {
		if !merge.IsText(data) {
			s.say("dorvik: %s is not a text (or larger than %d MB): it stays as yours has it", s.name,
				merge.MaxText>>20)
			return errors.Join(s.write(s.content.Yours), exit{exitConflicts})
		}
	}
	ids, err := merge.MapThree(s.content, func(data []byte) (object.ID, error) {
		return store.Put(object.KindBlob, data), nil
	})
	if err != nil {
		return err
	}
	text, err := merge.NewEngine(store).Text(ctx, ids.Base, ids.Yours, ids.Theirs)
	if err != nil {
		return err
	}
	marks := merge.Marks{Labels: merge.Three[string]{Base: "base", Yours: "yours", Theirs: "theirs"}, Size: s.size,
		Base: s.style == "diff3"}
	if err := s.write([]byte(text.Marked(marks))); err != nil {
		return err
	}
	if n := text.Conflicts(); n > 0 {
		s.say("dorvik: %s left between marks in %s", words.Count(n, "conflict is", "conflicts are"), s.name)
		return exit{exitConflicts}
	}
	return nil
}

// onScreen opens the full screen if there is something to decide.
func (s *settler) onScreen(ctx context.Context) error {
	f := recovery.OneFile{Name: s.name, Content: s.content}
	if err := s.who(ctx, &f); err != nil {
		return err
	}
	cache, err := os.UserCacheDir()
	if err != nil {
		return fmt.Errorf("looking for a place to keep decisions in: %w", err)
	}
	session, err := recovery.OpenOneFile(ctx, filepath.Join(cache, "dorvik", "settle"), f)
	if err != nil {
		return err
	}
	saved, err := s.decide(ctx, session)
	session.Close()
	if err != nil {
		return err
	}
	if !saved {
		return exit{exitConflicts}
	}
	return session.Forget()
}

func (s *settler) decide(ctx context.Context, session *recovery.Session) (saved bool, err error) {
	p, err := session.Locate(ctx, false)
	if err != nil {
		return false, err
	}
	if err := session.Ledger.Sync(p); err != nil {
		return false, err
	}
	st := session.Ledger.State()
	j, err := session.Planner.Join(ctx, p, plan.Merge, &st.Decisions, plan.Amends{}, nil)
	if err != nil {
		return false, err
	}
	save := func(j *plan.Join) error {
		content, there, err := recovery.Settled(ctx, session, j, s.name)
		if err != nil || there {
			return errors.Join(err, s.write(content))
		}
		return os.Remove(s.result)
	}
	if len(j.Stops) == 0 {
		s.say("dorvik: %s joins by itself", s.name)
		return true, save(j)
	}
	if !isTerminal(s.out) {
		s.say("dorvik: %s, and there is no terminal to settle %s on. --certain leaves them between marks.",
			words.Count(j.Open, "conflict", "conflicts"), words.If(j.Open == 1, "it", "them"))
		return false, nil
	}
	return s.screens.File(ctx, session, s.theme, s.result, save)
}

// who finds the authors of the versions in the surrounding repository, and which version is yours.
func (s *settler) who(ctx context.Context, f *recovery.OneFile) error {
	f.Who.Yours = recovery.LastEdit{By: object.Signature{Name: "you", Email: "you", Zone: "+0000"},
		Message: "your side"}
	f.Who.Theirs = recovery.LastEdit{By: object.Signature{Name: "somebody", Email: "somebody", Zone: "+0000"},
		Message: "their side"}
	if !s.tool {
		return nil
	}
	w, err := recovery.OpenWorkspace(ctx, s.dir)
	if err != nil {
		return err
	}
	defer w.Close()
	who, swapped, err := w.LastEdits(ctx, s.name)
	if err != nil {
		return err
	}
	if swapped {
		f.Content.Yours, f.Content.Theirs = f.Content.Theirs, f.Content.Yours
	}
	for _, one := range []struct{ has, found *recovery.LastEdit }{{&f.Who.Yours, &who.Yours},
		{&f.Who.Theirs, &who.Theirs}} {
		if one.found.By.Email != "" {
			*one.has = *one.found
		}
	}
	if len(f.Content.Base) == 0 { // git passes an empty file if there was none
		f.Content.Base = nil
	}
	return nil
}

// write writes the result to its file, completely or not at all.
func (s *settler) write(content []byte) error {
	mode := fs.FileMode(0o644)
	target, err := filepath.EvalSymlinks(s.result)
	if err != nil {
		target = s.result
	}
	if info, err := os.Stat(target); err == nil {
		mode = info.Mode().Perm()
	}
	file, err := os.CreateTemp(filepath.Dir(target), ".dorvik-")
	if err != nil {
		return fmt.Errorf("writing %s: %w; it is as it was", s.result, err)
	}
	_, err = file.Write(content)
	if err = errors.Join(err, file.Chmod(mode), file.Sync(), file.Close()); err == nil {
		err = os.Rename(file.Name(), target)
	}
	if err != nil {
		os.Remove(file.Name())
		return fmt.Errorf("writing %s: %w; it is as it was", s.result, err)
	}
	return nil
}
