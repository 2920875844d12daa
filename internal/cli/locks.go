package cli

import (
	"context"
	"errors"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// locksJSON is what the commands about locks print.
type locksJSON struct {
	Version int        `json:"version"`
	Locks   []vcs.Lock `json:"locks"`
}

// lockCommand takes locks.
func lockCommand(e *env) *cobra.Command {
	cmd := &cobra.Command{Use: "lock FILE...", Short: "Take files to change alone, where the system knows locks",
		Long: `Takes the lock of each file, so that the repository takes no change of it from anybody
else until you give it back with “dorvik unlock”. Where somebody holds one it says who, and
since when; --take-over takes it all the same, and they are told. “dorvik look” lists
all locks. Subversion knows locks.`}
	var why string
	var take bool
	cmd.Flags().StringVarP(&why, "message", "m", "", "why, which others see: `TEXT`")
	cmd.Flags().BoolVar(&take, "take-over", false, "take locks that others hold")
	cmd.RunE = onLocks(e, func(ctx context.Context, in vcs.Locking, paths []string) error {
		return in.Lock(ctx, paths, why, take)
	})
	return e.jsonFlag(cmd)
}

// unlockCommand gives locks back.
func unlockCommand(e *env) *cobra.Command {
	cmd := &cobra.Command{Use: "unlock FILE...", Short: "Give locks of files back",
		Long: "Gives the lock of each file back that this working copy holds."}
	cmd.RunE = onLocks(e, func(ctx context.Context, in vcs.Locking, paths []string) error {
		return in.Unlock(ctx,
			paths)
	})
	return e.jsonFlag(cmd)
}

// onLocks runs a change of locks on the files that are named, and says how it is then.
func onLocks(e *env, do func(ctx context.Context, in vcs.Locking, paths []string) error) func(*cobra.Command,
	[]string) error {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) == 0 {
			return usage{errors.New("name the files")}
		}
		ctx := cmd.Context()
		w, err := e.workspace(ctx)
		if err != nil {
			return err
		}
		defer w.Close()
		in, ok := w.Repo.(vcs.Locking)
		if !ok {
			return &plan.Blocked{What: w.Repo.Dialect().Name + " knows no locks.", Next: "Nothing was changed."}
		}
		paths, err := below(e.dir, w.Repo.Where().Dir, args)
		if err != nil {
			return err
		}
		if err := do(ctx, in, paths); err != nil {
			return err
		}
		all, err := in.Locks(ctx)
		if err != nil {
			return err
		}
		for _, l := range all {
			text, _ := plan.LockSentence(time.Now(), l, nil)
			e.say("%s", text)
		}
		if len(all) == 0 {
			e.say("%s", words.Sentence("no file is locked"))
		}
		if !e.json {
			return nil
		}
		return e.print(locksJSON{1, append([]vcs.Lock{}, all...)})
	}
}

// below returns paths as they are named from the top of a working tree.
func below(dir, top string, args []string) (out []string, err error) {
	for _, arg := range args {
		full, err := filepath.Abs(filepath.Join(dir, arg))
		if err == nil {
			full, err = filepath.EvalSymlinks(full)
		}
		if err != nil {
			return nil, usage{err}
		}
		rel, err := filepath.Rel(top, full)
		if err != nil || strings.HasPrefix(rel, "..") {
			return nil, usage{errors.New(arg + " is not in " + top)}
		}
		out = append(out, filepath.ToSlash(rel))
	}
	return out, nil
}
