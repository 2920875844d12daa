package cli

import (
	"os"

	"github.com/spf13/cobra"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/demo"
)

func (e *env) demo(theme *string) *cobra.Command {
	var dir string
	var noUI bool
	cmd := &cobra.Command{
		Use: "demo", Short: "Make made-up repositories in which a push is refused, and open them",
		Long: `Makes a remote, a clone that is yours and the clones of two teammates, all made
up, in a temporary folder or the one you name, and opens the full screen in
your clone. Nothing outside that folder is touched.`,
		Args: noArgs,
	}
	cmd.Flags().StringVar(&dir, "dir", "", "make them in `DIR`, which must be empty or not exist")
	cmd.Flags().BoolVar(&noUI, "no-ui", false, "only make them, and print where they are as JSON")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		if dir == "" {
			var err error
			if dir, err = os.MkdirTemp("", "dorvik-demo-"); err != nil {
				return err
			}
		}
		scene, err := demo.Make(cmd.Context(), dir)
		if err != nil {
			return err
		}
		if noUI {
			return e.print(scene)
		}
		e.dir = scene.Clone
		err = e.full(cmd.Context(), *theme)
		e.say("The demo's repositories stay in %s; delete the folder when you like.", dir)
		return err
	}
	return cmd
}

type undoJSON struct {
	Version  int       `json:"version"`
	Waypoint string    `json:"waypoint"`
	Branch   string    `json:"branch"`
	Tip      object.ID `json:"tip"`
	Notice   string    `json:"notice,omitempty"`
}

func (e *env) undo() *cobra.Command {
	cmd := &cobra.Command{
		Use: "undo [WAYPOINT]", Short: "Take the last accepted join back, before it is pushed",
		Args: cobra.MatchAll(func(_ *cobra.Command, args []string) error {
			if len(args) > 1 {
				return usage{cobra.MaximumNArgs(1)(nil, args)}
			}
			return nil
		}),
	}
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		s, err := e.session(cmd.Context())
		if err != nil {
			return err
		}
		defer s.Close()
		name := ""
		if len(args) == 1 {
			name = args[0]
		}
		notice := s.TakeNotice()
		if notice != "" {
			e.say("%s", notice)
		}
		if s.TookBack && name == "" {
			// What was cut off is gone back from; an older join is not meant.
			b, err := s.Repo.Current(cmd.Context())
			if err != nil || !e.json {
				return err
			}
			return e.print(undoJSON{1, "", b.Name, b.Tip, notice})
		}
		w, err := s.GoBack(cmd.Context(), name)
		if err != nil {
			return err
		}
		if notice = s.TakeNotice(); notice != "" {
			e.say("%s", notice)
		}
		e.say("%s is back at %s, with index and files. Your decisions are kept.", w.Branch, w.Before)
		if e.json {
			return e.print(undoJSON{1, w.Name, w.Branch, w.Before, notice})
		}
		return nil
	}
	return e.jsonFlag(cmd)
}
