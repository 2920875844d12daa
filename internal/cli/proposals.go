package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/proposal"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/visible"
	"dorvik.dev/dorvik/internal/words"
)

type proposalsJSON struct {
	Version   int            `json:"version"`
	Remote    vcs.Remote     `json:"remote"`
	Proposals []proposalJSON `json:"proposals"`
	In        int            `json:"in"`                // others that are in their branch already
	More      int            `json:"more,omitempty"`    // older ones that were not looked at
	Unknown   []string       `json:"unknown,omitempty"` // those for a branch that the remote does not have
}

type proposalJSON struct {
	Name    string    `json:"name"`
	From    string    `json:"from"` // branch of the remote at the same commit; empty for a fork
	Into    string    `json:"into"`
	Author  string    `json:"author"`
	When    string    `json:"when"`
	Commits int       `json:"commits"`
	Joins   bool      `json:"joins"`
	Asks    int       `json:"asks"`
	Misfits int       `json:"misfits"`
	Title   string    `json:"title"`
	Tip     object.ID `json:"tip"`
	Clashes []string  `json:"clashes,omitempty"`
	Why     string    `json:"why,omitempty"`    // why it cannot be joined
	Unsure  bool      `json:"unsure,omitempty"` // the search for misfits did not end
}

// rowJSON is the outcome of joining several.
type rowJSON struct {
	Version int `json:"version"`
	// Result is joined, pushed, conflicts, check, refused, undone, or waiting (something else needs a person).
	Result    string          `json:"result"`
	Into      string          `json:"into"`
	Why       string          `json:"why,omitempty"`   // why it waits
	Order     string          `json:"order,omitempty"` // why this order
	Proposals []proposal.Item `json:"proposals"`
	Tip       *object.ID      `json:"tip,omitempty"` // the branch's tip at the remote after a push
	Refusal   string          `json:"refusal,omitempty"`
}

// proposed holds the flags of proposals.
type proposed struct {
	remote, order                  string
	prefer                         string
	join                           []string
	goOn, leaveOut, push, takeBack bool
	noCheck                        bool
}

func proposalsCommand(e *env) *cobra.Command {
	var f proposed
	cmd := &cobra.Command{
		Use: "proposals", Short: "List the branches put forward at the remote; join several, one after the other",
		Example: `  dorvik proposals --json
  dorvik proposals --join 4,7,9 --order least
  dorvik proposals --go-on --push`,
		Long: `Lists who wants what into what, whether it joins, what it would ask and what would
not work together. Dorvik knows proposals from the remote's refs alone;
dorvik.proposals names their pattern (refs/proposals/{name}/{into}).

With --join the named ones are joined into the branch you are on, which must follow
the one they are meant for. What needs a person stops the row: settle it (dorvik, or
dorvik recover --prefer), and go on with --go-on. What does not pass the check is left
out, and the others go on.

Exit code 3 says that a conflict needs a decision, 4 that the check needs a person.`,
		Args: noArgs,
	}
	flags := cmd.Flags()
	flags.StringVar(&f.remote, "remote", "", "ask the remote `NAME` (that of your branch)")
	flags.StringSliceVar(&f.join, "join", nil, "join the proposals `NAME[,NAME…]`")
	flags.StringVar(&f.order, "order", "came",
		"with --join: came, the order in which they are named, or least, the one "+
			"that asks least")
	preferFlag(cmd, &f.prefer)
	flags.BoolVar(&f.noCheck, "no-check", false, "with --join or --go-on: run no check")
	flags.BoolVar(&f.goOn, "go-on", false, "go on with a row that was stopped")
	flags.BoolVar(&f.leaveOut, "leave-out", false, "leave out the one whose turn it is, and go on")
	flags.BoolVar(&f.takeBack, "take-back", false, "undo all joins of the row")
	flags.BoolVar(&f.push, "push", false, "with --join or --go-on: push when all had their turn")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		if err := f.check(); err != nil {
			return err
		}
		if len(f.join) > 0 || f.goOn || f.leaveOut || f.takeBack {
			return e.row(cmd.Context(), f)
		}
		return e.proposals(cmd.Context(), f)
	}
	return e.jsonFlag(cmd)
}

func (f *proposed) check() error {
	if f.order != "came" && f.order != "least" {
		return usage{fmt.Errorf("--order is came or least, not %q", f.order)}
	}
	if len(f.join) > 0 && (f.goOn || f.leaveOut || f.takeBack) {
		return usage{fmt.Errorf("--join begins a row; --go-on, --leave-out and --take-back are for one that was begun")}
	}
	return nil
}

// board lists the proposals of the remote that the flags name.
func (f *proposed) board(ctx context.Context, w *recovery.Workspace) (*proposal.Listed, []proposal.Forecast, error) {
	remote := vcs.Remote(f.remote)
	if remote == "" {
		var err error
		if remote, err = w.Proposals.Remote(ctx); err != nil {
			return nil, nil, err
		}
	}
	l, err := w.Proposals.List(ctx, remote)
	if err != nil {
		return nil, nil, err
	}
	out := make([]proposal.Forecast, len(l.Proposals))
	return l, out, w.Proposals.Forecast(ctx, l.Proposals, func(i int, f proposal.Forecast) { out[i] = f })
}

// proposals prints the list.
func (e *env) proposals(ctx context.Context, f proposed) error {
	w, err := e.workspace(ctx)
	if err != nil {
		return err
	}
	defer w.Close()
	l, all, err := f.board(ctx, w)
	if err != nil {
		return err
	}
	if e.json {
		out := proposalsJSON{Version: 1, Remote: l.Remote, Proposals: []proposalJSON{}, In: l.In, More: l.More,
			Unknown: l.Unknown}
		for i := range l.Proposals {
			out.Proposals = append(out.Proposals, proposalOf(&l.Proposals[i], &all[i]))
		}
		return e.print(out)
	}
	var text strings.Builder
	for i := range l.Proposals {
		p := &l.Proposals[i]
		fmt.Fprintf(&text, "%-4s %s\n     %s, by %s, %s: %s, %s\n", p.Name, p.Title(), p.Wish(), p.Last.Author().Name,
			words.Ago(time.Now(), p.Last.Author().Time()), words.Count(all[i].Commits, "commit", "commits"),
			all[i].Outcome())
		for _, s := range all[i].Sentences(p)[1:] {
			fmt.Fprintf(&text, "     ▲ %s\n", s)
		}
		if len(all[i].Clashes) > 0 {
			fmt.Fprintf(&text, "     ≠ %s\n", words.List(words.Some(all[i].Clashes, 3)))
		}
	}
	if len(l.Proposals) == 0 {
		pattern, err := w.Proposals.Pattern(ctx)
		if err != nil {
			return err
		}
		fmt.Fprintln(&text, l.None(pattern))
	}
	if beside := l.Beside(); beside != "" {
		fmt.Fprintln(&text, beside)
	}
	_, err = fmt.Fprint(e.out, visible.Lines(text.String()))
	return err
}

func proposalOf(p *proposal.Proposal, f *proposal.Forecast) proposalJSON {
	a := p.Last.Author()
	return proposalJSON{Name: p.Name, From: p.From, Into: p.Into.Branch(), Author: a.Name,
		When: a.Time().Format(time.RFC3339), Commits: f.Commits, Joins: f.Joins(), Asks: f.Asks, Misfits: len(
			f.Misfits),
		Title: p.Title(), Tip: p.Last.ID, Clashes: f.Clashes, Why: f.Err, Unsure: f.Unsure}
}

// row begins a row or goes on with one, and pushes at its end if asked to.
func (e *env) row(ctx context.Context, f proposed) error {
	prefer, err := (&recoverFlags{prefer: f.prefer}).ways()
	if err != nil {
		return err
	}
	s, err := e.session(ctx)
	if err != nil {
		return err
	}
	defer s.Close()
	rows := recovery.RowsOf(s)
	rows.Unchecked, rows.Prefer = f.noCheck, prefer
	switch {
	case f.takeBack:
		if err := rows.TakeBack(ctx); err != nil {
			return err
		}
		e.say("The joins of the row are undone.")
		return e.rowDone(rowJSON{Result: "undone"}, nil)
	case len(f.join) > 0:
		if err := f.begin(ctx, s, rows); err != nil {
			return err
		}
	case f.leaveOut:
		if err := rows.LeaveOut(ctx, "you decided so"); err != nil {
			return err
		}
	}
	halt, err := rows.Next(ctx, func(step string) { e.say("%s", step) })
	if err != nil {
		return err
	}
	out := rowJSON{Version: 1, Result: "joined"}
	row := rows.Now()
	out.Into, out.Order, out.Proposals = row.Into.Name, row.Why, row.Items
	if halt != nil {
		out.Why = halt.Why
		return e.halted(out, row, halt)
	}
	e.sayRow(row)
	if !f.push || row.Count(proposal.Joined) == 0 {
		return e.rowDone(out, nil)
	}
	return e.pushRow(ctx, rows, out)
}

// begin begins a row of the named proposals.
func (f *proposed) begin(ctx context.Context, s *recovery.Session, rows *recovery.Rows) error {
	l, all, err := f.board(ctx, s.Workspace)
	if err != nil {
		return err
	}
	of := map[string]proposal.Forecast{}
	var list []proposal.Proposal
	for _, name := range f.join {
		i := slices.IndexFunc(l.Proposals, func(p proposal.Proposal) bool { return p.Name == name })
		if i < 0 {
			return usage{fmt.Errorf("no proposal %q waits at %s", name, l.Remote)}
		}
		list = append(list, l.Proposals[i])
		of[name] = all[i]
	}
	seq, err := s.Workspace.Proposals.InTurn(ctx, list)
	if err != nil {
		return err
	}
	if f.order == "least" {
		least, err := s.Workspace.Proposals.LeastAsking(ctx, seq)
		if err != nil {
			return err
		}
		if least != nil {
			seq = least
		}
	}
	return rows.Begin(ctx, seq, func(i int) proposal.Forecast { return of[seq.List[i].Name] })
}

// sayRow prints what became of each.
func (e *env) sayRow(row *proposal.Row) {
	e.say("%s", row.Sentence())
	for i := range row.Items {
		item := &row.Items[i]
		e.say("  %-4s %s, by %s: %s", item.Name, item.Title, words.List(words.Some(item.By, 3)), item.Account())
		for _, a := range item.Again {
			e.say("       %s", a)
		}
	}
}

// halted reports that a row needs a person.
func (e *env) halted(out rowJSON, row *proposal.Row, halt *recovery.Halt) error {
	item := row.Current()
	e.say("Stopped at proposal %s, “%s”: %s. Settle it with “dorvik”, then “dorvik proposals --go-on”; or “dorvik "+
		"proposals --leave-out”.", item.Name, item.Title, halt.Why)
	switch halt.Stage {
	case ledger.Settle:
		out.Result = "conflicts"
		return e.rowDone(out, exit{exitConflicts})
	case ledger.Check:
		out.Result = "check"
		return e.rowDone(out, exit{exitCheck})
	}
	out.Result = "waiting"
	return e.rowDone(out, exit{exitFailed})
}

// rowDone prints the JSON and returns err.
func (e *env) rowDone(out rowJSON, err error) error {
	if e.json {
		out.Version = 1
		if out.Proposals == nil {
			out.Proposals = []proposal.Item{}
		}
		if perr := e.print(out); perr != nil {
			return perr
		}
	}
	return err
}

// pushRow pushes what was joined.
func (e *env) pushRow(ctx context.Context, rows *recovery.Rows, out rowJSON) error {
	done, err := rows.Push(ctx)
	if err != nil {
		return err
	}
	if done.Refusal != nil {
		out.Result, out.Refusal = "refused", done.Refusal.Error()
		e.say("%s", out.Refusal)
		return e.rowDone(out, exit{exitRefused})
	}
	out.Result, out.Tip = "pushed", &done.Tip
	e.say("Pushed. %s now holds %s.", done.To.Name, done.Tip.Prefix(7))
	return e.rowDone(out, nil)
}
