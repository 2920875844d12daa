package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"dorvik.dev/dorvik/internal/core/annotate"
	"dorvik.dev/dorvik/internal/core/decided"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/lookback"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/words"
)

type entryJSON struct {
	ID      object.ID      `json:"id"`
	Parents []object.ID    `json:"parents"`
	Subject string         `json:"subject"`
	Author  string         `json:"author"`
	Email   string         `json:"email"`
	Date    string         `json:"date"`
	Where   lookback.Where `json:"where"`
	Was     *object.ID     `json:"was"`
	There   *object.ID     `json:"there"` // the other side's commit with the same change
	Apart   bool           `json:"apart"` // the commit is in a named line and not in the branch
	Names   []string       `json:"names"`
	Decided []decidedJSON  `json:"decided,omitempty"`
}

type decidedJSON struct {
	Path   string `json:"path"`
	Kind   string `json:"kind"` // empty if nothing was in conflict
	Way    string `json:"way"`
	Line   int    `json:"line"` // line of the result; 0 for a path as a whole
	Base   string `json:"base"`
	Yours  string `json:"yours"`
	Theirs string `json:"theirs"`
	Result string `json:"result"`
}

// page is the number of commits that are read at a time.
const page = 500

func historyCommand(e *env) *cobra.Command {
	var decide bool
	var find string
	var most int
	cmd := &cobra.Command{
		Use: "history [REV…]", Short: "List the branch's commits and what each is to you",
		Long: `Lists the commits of the branch and of its upstream, newest first, and what a
rebase left behind: what is on the remote, what is yours and not pushed, what was
replayed or picked and from which commit, what is there already by its change. With
REVs it lists those instead, and tells what they have that the branch has not.

--find takes words and by:NAME, in:PATH, since:DATE and until:DATE. --decided tells
for merge commits what a person decided in each.`,
	}
	cmd.Flags().BoolVar(&decide, "decided", false, "tell what was decided in merge commits")
	cmd.Flags().StringVar(&find, "find", "", "only commits that `WORDS` are true of")
	cmd.Flags().IntVar(&most, "max", 0, "at most `N` commits; 0 for all")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		f, err := lookback.ParseFind(find)
		if err != nil {
			return usage{err}
		}
		w, err := e.workspace(cmd.Context())
		if err != nil {
			return err
		}
		defer w.Close()
		c, err := w.History.Chronicle(cmd.Context(), args...)
		if err != nil {
			return err
		}
		if err := c.Same(cmd.Context()); err != nil {
			return err
		}
		if c.Untold != nil {
			e.say("What Dorvik did here is not told: %v.", c.Untold)
		}
		commits := []entryJSON{}
		err = found(cmd.Context(), w, c, f, most, func(entry *lookback.Entry) error {
			j, err := e.entry(cmd.Context(), w, entry, decide)
			switch {
			case err != nil:
				return err
			case e.json:
				commits = append(commits, j)
			default:
				e.sayEntry(entry, j, f.Empty())
			}
			return nil
		})
		if err != nil || !e.json {
			return err
		}
		return e.print(struct {
			Version int         `json:"version"`
			Commits []entryJSON `json:"commits"`
		}{1, commits})
	}
	return e.jsonFlag(cmd)
}

// found passes on at most so many matching commits of a history; 0 for all.
func found(ctx context.Context, w *recovery.Workspace, c *lookback.Chronicle, f lookback.Find, most int,
	each func(*lookback.Entry) error) error {
	for n := 0; most == 0 || n < most; {
		all, err := c.More(ctx, page)
		if err != nil || len(all) == 0 {
			return err
		}
		some, err := w.History.Found(ctx, f, all)
		if err != nil {
			return err
		}
		if most > 0 {
			some = some[:min(len(some), most-n)]
		}
		n += len(some)
		for i := range some {
			if err := each(&some[i]); err != nil {
				return err
			}
		}
	}
	return nil
}

// entry returns a commit as JSON.
func (e *env) entry(ctx context.Context, w *recovery.Workspace, c *lookback.Entry, decide bool) (entryJSON, error) {
	who := c.Author()
	j := entryJSON{ID: c.ID, Parents: c.Commit.Parents, Subject: c.Subject(), Author: who.Name, Email: who.Email,
		Date: who.Time().Format("2006-01-02T15:04:05Z07:00"), Where: c.Where, Was: optional(c.Was),
		There: optional(c.There.ID), Apart: c.Apart, Names: []string{}}
	if j.Parents == nil {
		j.Parents = []object.ID{}
	}
	for _, n := range c.Names {
		j.Names = append(j.Names, n.Name)
	}
	if !decide || len(c.Commit.Parents) < 2 {
		return j, nil
	}
	account, err := w.History.Decided(ctx, c.Commit)
	if err != nil {
		return j, err
	}
	j.Decided = []decidedJSON{}
	for _, d := range account.Decisions {
		j.Decided = append(j.Decided, decidedOf(d))
	}
	return j, nil
}

func optional(id object.ID) *object.ID {
	if id.IsZero() {
		return nil
	}
	return &id
}

func decidedOf(d decided.Decision) decidedJSON {
	return decidedJSON{d.Path, string(d.Kind), string(d.Way), d.Line, d.Base, d.Yours, d.Theirs, d.Result}
}

// sayEntry prints a commit for people: its lines, id, owner and remarks.
func (e *env) sayEntry(c *lookback.Entry, j entryJSON, lines bool) {
	var drawn strings.Builder
	if lines {
		for _, cell := range c.Cells() {
			if cell.Commit {
				drawn.WriteString(c.Sign())
				continue
			}
			drawn.WriteRune(cell.Rune())
		}
	}
	said := strings.Join(c.Said(object.ID.String), "; ")
	if said != "" {
		said = "   " + said
	}
	if len(j.Names) > 0 {
		said = "  [" + strings.Join(j.Names, ", ") + "]" + said
	}
	e.say("%-8s %s  %s  %s, %s%s", drawn.String(), e.opened.Planner.Name(c.ID), c.Subject(), j.Author,
		c.Author().Time().Format("2 Jan 2006"), said)
	for _, d := range j.Decided {
		e.say("           %s: %s", d.Path, words.If(d.Kind == "", "changed though nothing was in conflict",
			d.Kind+", "+d.Way))
	}
}

type annotatedJSON struct {
	Version int                 `json:"version"`
	Path    string              `json:"path"`
	Rev     object.ID           `json:"rev"`
	Lines   []annotatedLineJSON `json:"lines"`
}

type annotatedLineJSON struct {
	Line     int       `json:"line"`
	Commit   object.ID `json:"commit"`
	Path     string    `json:"path"`
	FromLine int       `json:"from_line"`
	Author   string    `json:"author"`
	Email    string    `json:"email"`
	Date     string    `json:"date"`
	Subject  string    `json:"subject"`
}

func annotateCommand(e *env) *cobra.Command {
	cmd := &cobra.Command{
		Use: "annotate [REV] PATH", Short: "Say of each line of a file who brought it, when, and why",
		Long: `Finds for each line of a file the commit that brought it, back through renames,
merges and lines that were moved within the file. PATH is as it is in the
repository, from its top.`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) < 1 || len(args) > 2 {
				return usage{fmt.Errorf("annotate takes a file, and before it a revision if you like: [REV] PATH")}
			}
			return nil
		},
	}
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		rev, path := "", args[len(args)-1]
		if len(args) == 2 {
			rev = args[0]
		}
		w, err := e.workspace(cmd.Context())
		if err != nil {
			return err
		}
		defer w.Close()
		a, id, err := w.History.Annotate(cmd.Context(), rev, path)
		if err != nil {
			return err
		}
		out := annotatedJSON{Version: 1, Path: path, Rev: id, Lines: make([]annotatedLineJSON, len(a.Text))}
		if err := e.annotated(cmd.Context(), w, a, out.Lines); err != nil {
			return err
		}
		if e.json {
			return e.print(out)
		}
		for i, l := range out.Lines {
			e.say("%s  %-18s %s %5d  %s", l.Commit.Prefix(12), l.Author, l.Date[:10], l.Line,
				strings.TrimRight(a.Text[i], "\r\n"))
		}
		return nil
	}
	return e.jsonFlag(cmd)
}

// annotated fills in the lines.
func (e *env) annotated(ctx context.Context, w *recovery.Workspace, a *annotate.Annotation,
	lines []annotatedLineJSON) error {
	var failed error
	err := a.Run(ctx, func(found []annotate.Found) {
		for _, f := range found {
			c, err := w.Planner.Store.Commit(ctx, f.Commit)
			if err != nil {
				failed = err
				return
			}
			who := c.Author()
			for k := range f.Count {
				lines[f.Line-1+k] = annotatedLineJSON{f.Line + k, f.Commit, f.Path, f.From + k, who.Name, who.Email,
					who.Time().Format("2006-01-02T15:04:05Z07:00"), c.Subject()}
			}
		}
	})
	if err == nil {
		err = failed
	}
	return err
}
