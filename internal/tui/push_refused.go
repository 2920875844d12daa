package tui

import (
	"context"
	"strings"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// afterRefusal offers the next step after a push that was refused.
type afterRefusal struct{ s *pushScreen }

// actions returns the key for the next step, and the one that pushes again as it is.
func (a afterRefusal) actions() []action {
	again := func() tea.Cmd { return a.s.sure(true, a.s.pushNow) }
	pushAgain := acts(keys.Again, "push again", again)
	switch a.s.refused.Refusal.Step() {
	case vcs.ChangeWork:
		return []action{acts(keys.Next, "change your commits", a.rework), pushAgain}
	case vcs.PushAside:
		return []action{acts(keys.Next, "push to another branch", a.aside), pushAgain}
	case vcs.GetHistory:
		return []action{acts(keys.Next, "get the history", a.deepen), pushAgain}
	case vcs.LookAgain, vcs.GoBackFirst:
		return []action{acts(keys.Next, "look at both lines", a.s.lookAgain), pushAgain}
	}
	return []action{acts(keys.Next, "push again", again)}
}

// before returns the keys for a push that the server would refuse, by what it refused before: one to change the
// commits, or to push to another branch if change is nil, and one to push all the same.
func (a afterRefusal) before(change func() tea.Cmd) []action {
	s := a.s
	first := acts(keys.Next, "push to another branch", a.aside)
	if change != nil {
		first = acts(keys.Next, "change your commits", change)
	}
	return []action{first, acts(keys.Again, words.If(s.joins(), "join and push all the same", "push all the same"),
		func() tea.Cmd { return s.sure(true, s.joinAndPush) })}
}

// rework shows the commits that are not pushed, to be reworded, edited or left out, at the one that the server named.
func (a afterRefusal) rework() tea.Cmd {
	j := a.s.job
	return reworkCommits(j, func(ctx context.Context, commits []history.Node) (*recovery.About, error) {
		return j.s.Push.About(ctx, a.s.refused.Refusal, commits)
	})
}

// reworkCommits shows the commits that are not pushed, to be reworded, edited or left out, at the one that find
// returns. find may be nil.
func reworkCommits(j *job, find func(context.Context, []history.Node) (*recovery.About, error)) tea.Cmd {
	return j.start("reading your commits", func(ctx context.Context, _ func(int, int)) (then, error) {
		p, err := j.s.Home(ctx, false)
		if err != nil {
			return nil, err
		}
		if why := recovery.WhyNoRework(p); why != "" {
			return func() tea.Cmd { j.flash = term.Warning(why); return nil }, nil
		}
		var about *recovery.About
		if find != nil {
			if about, err = find(ctx, p.Divergence.Yours); err != nil {
				return nil, err
			}
		}
		err = j.s.Ledger.Choices.Rework(p.Branch.Name, true)
		return func() tea.Cmd {
			j.about = about
			return j.nav.lookAgain(false)
		}, err
	})
}

// leaveCommits ends changing one's own commits.
func leaveCommits(j *job) tea.Cmd {
	return j.start("leaving your commits as they are", func(ctx context.Context, _ func(int, int)) (then, error) {
		err := j.s.Ledger.Choices.Rework(j.pos.Branch.Name, false)
		return func() tea.Cmd { return j.nav.lookAgain(false) }, err
	})
}

// aside asks for the name of another branch, and pushes there.
func (a afterRefusal) aside() tea.Cmd {
	j := a.s.job
	f := &finding{screen: a.s, f: j.frame, label: "push to the branch",
		empty: term.Text(term.Dim, "its name at "+j.pos.To().Remote.String()),
		says:  "Your branch keeps following " + j.pos.To().Name + ". Ask there for the new branch to be joined."}
	f.open(a.proposed(), act(keys.Next, "push there", f.typed(func(name string) tea.Cmd {
		if a.s.to = words.OneLine(name); a.s.to == "" {
			return nil
		}
		return a.s.joinAndPush()
	})))
	return nil
}

// proposed returns a name for a branch: that of the branch here, if it is another one, or one made of the subject of
// the newest commit.
func (a afterRefusal) proposed() string {
	p := a.s.job.pos
	if p.Branch.Full() != p.To().Ref {
		return p.Branch.Name
	}
	if len(p.Divergence.Yours) == 0 {
		return p.Branch.Name + "-2"
	}
	const longest = 40
	var b strings.Builder
	for word := range strings.FieldsFuncSeq(strings.ToLower(p.Divergence.Yours[0].Subject()), func(r rune) bool {
		return (r < 'a' || r > 'z') && (r < '0' || r > '9')
	}) {
		if b.Len()+len(word) > longest {
			break
		}
		if b.Len() > 0 {
			b.WriteByte('-')
		}
		b.WriteString(word)
	}
	if b.Len() == 0 {
		return p.Branch.Name + "-2"
	}
	return b.String()
}

// deepen gets the rest of the history of a shallow clone, and pushes again.
func (a afterRefusal) deepen() tea.Cmd {
	j := a.s.job
	return j.start("getting the history", func(ctx context.Context, _ func(int, int)) (then, error) {
		return a.s.pushNow, j.s.Repo.Deepen(ctx, j.pos.To().Remote)
	})
}
