package cli

import (
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/words"
)

type waysJSON struct {
	Version        int            `json:"version"`
	JoinedByItself int            `json:"joined_by_itself"`
	Conflicts      []questionJSON `json:"conflicts"`
}

type questionJSON struct {
	BaseLines   [2]int    `json:"base_lines"`
	YoursLines  [2]int    `json:"yours_lines"`
	TheirsLines [2]int    `json:"theirs_lines"`
	Kind        string    `json:"kind"`
	Suggested   string    `json:"suggested"`
	Ways        []wayJSON `json:"ways"`
}

type wayJSON struct {
	Way       string         `json:"way"`
	Text      string         `json:"text"`
	Reason    string         `json:"reason"`
	Parses    *bool          `json:"parses"`
	Problem   string         `json:"problem"`
	Twice     string         `json:"twice,omitempty"` // text that is there twice, so that the later one wins
	LeavesOut []settle.Piece `json:"leaves_out"`
	Keeps     []settle.Piece `json:"keeps"`
	Moved     *movedJSON     `json:"moved,omitempty"`
	File      *string        `json:"file,omitempty"` // the whole file, with the suggested ways elsewhere
}

// movedJSON is what a way writes where one side moved the lines of the place to.
type movedJSON struct {
	Side  string `json:"side"`
	Lines [2]int `json:"lines"` // first line and number of lines, in that side's text
	Text  string `json:"text"`  // replacement of the lines
}

func waysCommand(e *env) *cobra.Command {
	var name string
	var whole bool
	cmd := &cobra.Command{
		Use: "ways BASE YOURS THEIRS", Short: "List one file's conflicts with the ways to settle each",
		Long: `Joins three versions of one file in memory and lists its conflicts, each with the
ways to settle it: the text, whether the whole file would still parse, and what
the way leaves out (words a side wrote) or keeps (words a side removed).`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 3 {
				return usage{fmt.Errorf("ways takes three files: BASE YOURS THEIRS")}
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&name, "name", "", "the file's `PATH` in the project, by which its language is known (YOURS)")
	cmd.Flags().BoolVar(&whole, "whole", false,
		"with each way the whole joined file, with the suggested ways in the other places")
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		if name == "" {
			name = args[1]
		}
		store := object.NewOverlay(object.SHA1, nil)
		files := merge.Three[string]{Base: args[0], Yours: args[1], Theirs: args[2]}
		ids, err := merge.MapThree(files, func(file string) (object.ID, error) {
			data, err := os.ReadFile(file)
			if err == nil && !merge.IsText(data) {
				err = fmt.Errorf("%s is not a text (or larger than %d MB), so it cannot be joined line by line",
					file, merge.MaxText>>20)
			}
			return store.Put(object.KindBlob, data), err
		})
		if err != nil {
			return err
		}
		text, err := merge.NewEngine(store).Text(cmd.Context(), ids.Base, ids.Yours, ids.Theirs)
		if err != nil {
			return err
		}
		out := waysOf(name, text, whole)
		if e.json {
			return e.print(out)
		}
		e.sayWays(&out)
		return nil
	}
	return e.jsonFlag(cmd)
}

// sayWays lists the ways for a person.
func (e *env) sayWays(out *waysJSON) {
	e.say("%s, %s.", words.Count(out.JoinedByItself, "region joined by itself", "regions joined by themselves"),
		words.Count(len(out.Conflicts), "conflict", "conflicts"))
	for _, c := range out.Conflicts {
		e.say("lines %d–%d of yours, %d–%d of theirs", c.YoursLines[0], c.YoursLines[1], c.TheirsLines[0],
			c.TheirsLines[1])
		for _, w := range c.Ways {
			mark := " "
			if w.Way == c.Suggested {
				mark = "▶"
			}
			e.say("  %s %-14s leaves out %d, keeps %d  %s%s", mark, w.Way, len(w.LeavesOut), len(w.Keeps), w.Problem,
				w.Reason)
		}
	}
}

func waysOf(name string, text *merge.Text, whole bool) waysJSON {
	out := waysJSON{Version: 1, Conflicts: []questionJSON{}}
	kind := merge.Content
	if len(text.Base) == 0 {
		kind = merge.AddAdd
	}
	var questions []*settle.Question
	f := settle.Open(&merge.Conflict{Path: name, Kind: kind, Subject: &merge.Lines{Text: text, Mode: object.ModeFile}})
	if f.Text != nil {
		text, questions = f.Text, f.Questions
	}
	for _, r := range text.Hunks {
		if r.Origin != merge.FromBase && r.Origin != merge.Contested {
			out.JoinedByItself++
		}
	}
	for _, c := range questions {
		cj := questionJSON{lineRange(c.Place.Base), lineRange(c.Place.Yours), lineRange(c.Place.Theirs),
			string(c.Kind), string(c.Suggested), nil}
		for _, o := range c.Ways {
			v := f.JudgeSuggested(c, o)
			w := wayJSON{Way: string(o.Way), Text: o.Text, Reason: o.Reason, Parses: v.Parses, Problem: v.Problem,
				Twice:     v.Twice,
				LeavesOut: some(v.LeavesOut), Keeps: some(v.Keeps)}
			if m := o.Moved; m != nil {
				r := f.Text.Hunks[m.Hunk]
				at := r.Yours
				if m.Side == merge.Theirs {
					at = r.Theirs
				}
				w.Moved = &movedJSON{string(m.Side), lineRange(at), m.Text}
			}
			if o.Way == c.Suggested {
				w.Reason = c.Why
			}
			if whole {
				file := f.WithSuggested(c, o)
				w.File = &file
			}
			cj.Ways = append(cj.Ways, w)
		}
		out.Conflicts = append(out.Conflicts, cj)
	}
	return out
}

func some(p []settle.Piece) []settle.Piece {
	if p == nil {
		return []settle.Piece{}
	}
	return p
}

// lineRange returns the first and last line, from 1. An empty range has last = first-1.
func lineRange(s merge.Span) [2]int { return [2]int{s.Lo + 1, s.Hi} }
