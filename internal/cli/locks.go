package cli

import (
	"context"
	"errors"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"dorvik.dev/dorvik/internal/draw"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/recovery"
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
all locks. --ask writes a note to who holds them instead. Subversion knows locks. For git they
are refs of the remote (docs/locks.md), which the attribute “lockable” asks for.`}
	var why string
	var take, ask bool
	cmd.Flags().StringVarP(&why, "message", "m", "", "why, which others see: `TEXT`")
	cmd.Flags().BoolVar(&take, "take-over", false, "take locks that others hold")
	cmd.Flags().BoolVar(&ask, "ask", false, "print a note that asks who holds the locks, and take none")
	taken := onLocks(e, func(ctx context.Context, in vcs.Locking, paths []string) error {
		return in.Lock(ctx, paths, why, take)
	})
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if ask {
			return askForLocks(cmd.Context(), e, args)
		}
		return taken(cmd, args)
	}
	return e.jsonFlag(cmd)
}

// askForLocks prints a note to each person who holds a lock of the files.
func askForLocks(ctx context.Context, e *env, args []string) error {
	w, paths, err := lockable(ctx, e, args)
	if err != nil {
		return err
	}
	defer w.Close()
	v, err := w.Glance(ctx, true, "")
	if err != nil {
		return err
	}
	by := map[string][]vcs.Lock{}
	for _, l := range v.Locks.List {
		if !l.Mine && l.Owner != "" && slices.Contains(paths, l.Path) {
			by[l.Owner] = append(by[l.Owner], l)
		}
	}
	if len(by) == 0 {
		e.say("Nobody else holds a lock of what you named.")
	}
	for _, who := range slices.Sorted(maps.Keys(by)) {
		e.say("To %s:\n%s", who, draw.LockNote(by[who], v.Locks.Changed))
	}
	return nil
}

// lockable opens the repository and returns the files of the arguments as they are named from its top. It fails where
// the system knows no locks.
func lockable(ctx context.Context, e *env, args []string) (*recovery.Workspace, []string, error) {
	if len(args) == 0 {
		return nil, nil, usage{errors.New("name the files")}
	}
	w, err := e.workspace(ctx)
	if err != nil {
		return nil, nil, err
	}
	paths, err := below(e.dir, w.Repo.Where().Dir, args)
	if w.Locks == nil {
		err = &plan.Blocked{What: w.Repo.Dialect().Name + " knows no locks.", Next: "Nothing was changed."}
	}
	if err != nil {
		w.Close()
		return nil, nil, err
	}
	return w, paths, nil
}

// unlockCommand gives locks back.
func unlockCommand(e *env) *cobra.Command {
	cmd := &cobra.Command{Use: "unlock FILE...", Short: "Give locks of files back",
		Long: "Gives the lock of each file back that this working copy holds."}
	cmd.RunE = onLocks(e, func(ctx context.Context, in vcs.Locking, paths []string) error {
		return in.Unlock(ctx, paths)
	})
	return e.jsonFlag(cmd)
}

// onLocks runs a change of locks on the files that are named, and says how it is then.
func onLocks(e *env, do func(ctx context.Context, in vcs.Locking, paths []string) error) func(*cobra.Command,
	[]string) error {
	return func(cmd *cobra.Command, args []string) error {
		ctx := cmd.Context()
		w, paths, err := lockable(ctx, e, args)
		if err != nil {
			return err
		}
		defer w.Close()
		in := w.Locks
		if err := do(ctx, in, paths); err != nil {
			if refusal := (*vcs.Refusal)(nil); errors.As(err, &refusal) {
				for _, text := range refusal.Words {
					e.say("%s", text)
				}
			}
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
