package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"dorvik.dev/dorvik/internal/draw"
)

func drawCommand(e *env) *cobra.Command {
	var a draw.Asked
	var paper, theme string
	var names []string
	var rows strings.Builder
	for _, k := range draw.Kinds() {
		names = append(names, string(k))
		fmt.Fprintf(&rows, "  %-9s %s\n", k, k.Shows())
	}
	cmd := &cobra.Command{
		Use:   "draw " + strings.Join(names, "|") + " -o FILE",
		Short: "Draw a recovery or the history, as SVG or PDF",
		Long: `Draws the recovery that is under way here, or the last one that was made:

` + rows.String() + `
FILE's ending tells the format: .svg or .pdf, and .md for the report. The file must not
exist yet. history takes revisions, too: dorvik draw history main topic -o lines.svg`,
		Example: `  dorvik draw report -o joined.pdf
  dorvik draw history -o history.svg --theme dark`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				return usage{fmt.Errorf("say what to draw: %s", strings.Join(names, ", "))}
			}
			switch kind, err := draw.ParseKind(args[0]); {
			case err != nil:
				return usage{err}
			case len(args) > 1 && kind != draw.KindHistory:
				return usage{fmt.Errorf("only a history takes revisions; unexpected argument %q", args[1])}
			}
			return nil
		},
	}
	cmd.Flags().StringVarP(&a.File, "output", "o", "", "write to `FILE`")
	cmd.Flags().StringVar(&paper, "paper", "a4", "of a PDF: a4 or letter")
	// This flag replaces the screen's flag of the same name.
	cmd.Flags().StringVar(&theme, "theme", "light", "colours: light or dark")
	cmd.Flags().StringVar(&a.Waypoint, "waypoint", "", "draw the recovery that `NAME` goes back before")
	cmd.Flags().IntVar(&a.Most, "max", 0, "of a history, at most `N` commits")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		a.Kind, a.Revs, a.Letter, a.Dark = draw.Kind(args[0]), args[1:], paper == "letter", theme == "dark"
		switch {
		case a.File == "":
			return usage{fmt.Errorf("name the file to write with -o, such as -o %s.svg", args[0])}
		case paper != "a4" && paper != "letter":
			return usage{fmt.Errorf("--paper is a4 or letter, not %q", paper)}
		case theme != "light" && theme != "dark":
			return usage{fmt.Errorf("--theme is light or dark, not %q", theme)}
		}
		return e.drawTo(cmd.Context(), a)
	}
	return e.jsonFlag(cmd)
}

// drawTo makes a drawing and writes it to its file.
func (e *env) drawTo(ctx context.Context, a draw.Asked) error {
	w, err := e.workspace(ctx)
	if err != nil {
		return err
	}
	defer w.Close()
	data, err := draw.Make(ctx, w.History, a)
	var format *draw.FormatError
	if errors.As(err, &format) {
		return usage{err}
	}
	if err != nil {
		return err
	}
	if err := draw.Write(a.File, data); err != nil {
		return err
	}
	if e.json {
		return e.print(map[string]any{"version": 1, "kind": a.Kind, "file": a.File, "bytes": len(data)})
	}
	e.say("%s is written.", a.File)
	return nil
}
