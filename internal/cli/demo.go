package cli

import (
	"context"
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"dorvik.dev/dorvik/internal/demo"
)

func demoCommand(e *env, theme *string) *cobra.Command {
	var dir, name, in string
	var noUI, hosted bool
	cmd := &cobra.Command{
		Use: "demo", Short: "Make made-up repositories in which a push is refused, and open them",
		Long: `Makes a remote, a clone that is yours and the clones of two teammates, all made
up, in a temporary folder or the one you name, and opens the full screen in
your clone. Nothing outside that folder is touched.

With --host the remote is at a stand-in host with accounts, a protected branch, a
check and proposals, among them one of yours that cannot be joined; its page is at the
address that the first screen shows.

There are three scenes: refused, in which others pushed before you; teammate, the same
story from the other side; and longer, with eight commits of yours and twelve of theirs,
two of which join and do not work together. On the screen z begins again, and i goes to the
teammates' clones.

With --system hg or svn the repositories are of Mercurial or Subversion; the story and the
keys are the same.`,
		Args: noArgs,
	}
	cmd.Flags().StringVar(&dir, "dir", "", "make them in `DIR`, which must be empty or not exist")
	cmd.Flags().BoolVar(&noUI, "no-ui", false, "only make them, and print where they are as JSON")
	cmd.Flags().BoolVar(&hosted, "host", false,
		"play at a stand-in host with proposals, whose page a browser can open; with "+
			"--no-ui it serves until it is interrupted")
	cmd.Flags().StringVar(&in, "system", string(demo.Git), "make repositories of `SYSTEM`: git, hg or svn")
	cmd.Flags().StringVar(&name, "scene", string(demo.AsRuna), "play the scene `NAME`: refused, teammate or longer")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		part, err := demo.ParsePart(name)
		if err != nil {
			return usage{err}
		}
		system, err := demo.ParseSystem(in)
		if err != nil {
			return usage{err}
		}
		if hosted && system != demo.Git {
			return usage{fmt.Errorf("the stand-in host of --host serves git only; leave --system out")}
		}
		if hosted && cmd.Flags().Changed("scene") {
			return usage{fmt.Errorf("--host is a scene of its own; leave --scene out")}
		}
		if hosted {
			part = demo.AsHosted
		}
		for part != "" {
			if part, err = e.play(cmd.Context(), dir, part, system, noUI, *theme); err != nil {
				return err
			}
			dir = "" // create the next one in a new folder
		}
		return nil
	}
	return cmd
}

// play makes the scene and opens it. It returns the side for another round, if the person wants one.
func (e *env) play(ctx context.Context, dir string, part demo.Part, system demo.System, noUI bool, theme string) (
	again demo.Part, err error) {
	if dir == "" {
		if dir, err = os.MkdirTemp("", "dorvik-demo-"); err != nil {
			return "", err
		}
	}
	scene, end, err := makeScene(ctx, dir, part, system)
	if err != nil {
		return "", err
	}
	defer end()
	if noUI {
		if err := e.print(scene); err != nil || scene.Host == "" {
			return "", err
		}
		e.say("The host serves %s until you interrupt it.", scene.Host)
		<-ctx.Done()
		return "", nil
	}
	e.dir, e.played = scene.Clone, &demo.Rehearsal{Scene: scene, Part: part}
	err = e.full(ctx, theme)
	e.say("The demo's repositories stay in %s; delete the folder when you like.", dir)
	return e.played.Again, err
}

// makeScene makes a scene. end ends the host that it starts, if any.
func makeScene(ctx context.Context, dir string, part demo.Part, system demo.System) (scene *demo.Scene, end func(),
	err error) {
	end = func() {}
	if part != demo.AsHosted {
		scene, err = demo.MakeIn(ctx, dir, part, system)
		return scene, end, err
	}
	scene, err = demo.MakeHosted(ctx, dir, func(dir string) (address string, err error) {
		address, end, err = demo.ServeHost(dir)
		return address, err
	})
	if err != nil {
		end()
		return nil, nil, err
	}
	return scene, end, nil
}
