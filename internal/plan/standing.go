package plan

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// Standing describes how yours and theirs relate: what is so, what it means, and what to do.
type Standing struct {
	Well             bool // nothing needs mending
	Head, Text, Next string
}

// String returns everything but the advice, for one line.
func (s Standing) String() string { return s.Head + " " + s.Text }

// Standing describes the position. accepted reports that yours is a joined result that was not pushed.
func (p *Position) Standing(accepted bool) Standing {
	yours, theirs := len(p.Divergence.Yours), len(p.Divergence.Theirs)
	they, up := someAuthors(p.Divergence.Theirs), p.Line().Name
	commits := words.Count(theirs, "commit", "commits")
	s := Standing{Well: true}
	k, starts := p.Kind.(Starting)
	switch {
	case p.Resumes() != nil || p.Counter() != "" || p.IsPick():
		return p.underway(they, commits)
	case starts:
		return k.standing(p)
	case p.Reworks():
		s.Head = fmt.Sprintf("Changing your %s before %s pushed.", words.Count(yours, "commit", "commits"),
			words.Is(yours, "it is", "they are"))
		s.Text = "Nothing is joined, and nothing that is on the remote is changed."
		s.Next = "Your branch is as it was until you accept the result."
		return s
	case p.FromLine() != nil:
		return p.besides(they, commits)
	case p.Exchange != nil && len(p.Exchange.Others) == 0:
		return p.exchanges()
	case p.NothingToDo() && p.Asked.IsZero() && p.Unanswered == nil:
		s.Head = "Nothing to do as far as is known."
		s.Text = fmt.Sprintf("%s and what was last fetched of %s hold the same commits.", p.Branch.Name, up)
		s.Next = "Ask the remote whether it has more by now."
	case p.NothingToDo():
		s.Head = "Nothing to do."
		s.Text = fmt.Sprintf("%s and %s hold the same commits.", p.Branch.Name, up)
		s.Next = "There is nothing to join and nothing to push."
	case p.Trivial() == UpToDate && p.Asked.IsZero() && p.Unanswered == nil:
		s.Head = "Nothing new on " + up + " as far as is known."
		s.Text = "Only the remote can say whether your " + words.Count(yours, "commit", "commits") + " can be " +
			"pushed as " +
			words.Is(yours, "it is.", "they are.")
		s.Next = "Ask it before you push."
	case p.Trivial() == UpToDate:
		s = nothingNew(p, accepted)
	case p.Trivial() == FastForward:
		s.Head = "Only theirs is new."
		s.Text = fmt.Sprintf("%s pushed %s to %s, and you have nothing unpushed.", they, commits, up)
		if p.Branch.Linear {
			s.Text = fmt.Sprintf("%s checked in %s to %s, and you changed nothing.", they, words.Count(theirs,
				"revision",
				"revisions"), up)
			s.Next = "Your files can be brought up to date without joining anything."
			break
		}
		if p.allMine() {
			s.Text = fmt.Sprintf("%s has %s of your own that your branch does not have, and you have nothing "+
				"unpushed.", up, commits)
		}
		s.Next = "Your branch can move forward to theirs without joining anything."
	default:
		s = p.rejected(they, commits)
	}
	if p.Unanswered != nil {
		p.unanswered(&s, yours, theirs, they, commits)
	}
	return s
}

// nothingNew describes a line of which only yours is new.
func nothingNew(p *Position, accepted bool) Standing {
	n := len(p.Divergence.Yours)
	yours := "Your " + words.Count(n, "commit", "commits")
	s := Standing{Well: true, Head: "Nothing new on " + p.Line().Name + ".", Next: "There is nothing to join."}
	switch {
	case len(p.Branch.Secret) >= n:
		s.Text, s.Next = yours+" "+words.Is(n, "is", "are")+" secret.", "There is nothing to join and nothing to push."
		return s
	case accepted:
		s.Next = words.Is(n, "It is", "They are") + " the joined result, accepted here and not pushed yet."
	}
	s.Text = yours + " can be pushed as " + words.Is(n, "it is.", "they are.")
	if p.Branch.Linear {
		s.Text = fmt.Sprintf("%s ready to be checked in.", words.Upper(p.changeLists(n)))
	}
	return s
}

// changeLists names commits that are not checked in, with their verb.
func (p *Position) changeLists(n int) string {
	if p.Branch.Ungroup {
		return "your changes are"
	}
	return "your " + words.Count(n, "change list is", "change lists are")
}

// rejected describes two lines that have parted.
func (p *Position) rejected(they, commits string) Standing {
	yours, theirs, up := len(p.Divergence.Yours), len(p.Divergence.Theirs), p.Line().Name
	if left := p.Branch.Left; len(left) > 0 {
		return Standing{Head: "An update stopped at conflicts.",
			Text: fmt.Sprintf("svn left them in %s. They are joined anew, from your text and theirs, which svn kept.",
				words.List(words.Some(left, 3))),
			Next: "Your files are as the update left them until you accept the result; undo brings those back."}
	}
	if p.Branch.Linear {
		return Standing{Head: "A check-in would be refused.",
			Text: fmt.Sprintf("Your files are out of date: %s checked in %s to %s since you updated.", they,
				words.Count(theirs, "revision", "revisions"), up),
			Next: words.Upper(p.changeLists(yours)) +
				" safe here. Join what is new, check that the result builds, and " +
				"check in."}
	}
	s := Standing{Head: "A push would be rejected."}
	s.Text = fmt.Sprintf("%s pushed %s to %s, and yours %s not build on %s.", they, commits, up,
		words.Is(yours, "does", "do"), words.Is(theirs, "it", "them"))
	if p.allMine() {
		s.Text = fmt.Sprintf("%s has %s of your own that your branch does not build on.", up, commits)
	}
	s.Next = "Your " + words.Count(yours, "commit is", "commits are") +
		" safe here. Join the two lines, check that the result builds, and push again."
	return s
}

// standing describes a branch that was never pushed and has commits that the remote does not have.
func (k Starting) standing(p *Position) Standing {
	branch, commits := p.Branch.Name, len(p.Divergence.Yours)
	s := Standing{Well: true, Head: fmt.Sprintf("%s is not on %s yet.", branch, k.To.Remote)}
	if p.Unanswered != nil {
		s.Well, s.Head = false, p.Asks()+" did not answer. "+s.Head
	}
	if commits == 0 {
		s.Text = "Other branches there have all its commits."
	} else {
		s.Text = fmt.Sprintf("It has %s that no branch there has.", words.Count(commits, "commit", "commits"))
	}
	s.Next = fmt.Sprintf("There is nothing to join. A push makes the branch %s, which %s then follows.", k.To.Name,
		branch)
	return s
}

// exchanges describes a remote branch that has earlier forms of your commits.
func (p *Position) exchanges() Standing {
	s := Standing{Head: fmt.Sprintf("%s has your commits as they were.", p.Line().Name)}
	goes, kept := len(p.Exchange.Goes), 0
	for _, g := range p.Exchange.Goes {
		if !g.Now.IsZero() {
			kept++
		}
	}
	is := words.Is(goes, "is", "are")
	switch {
	case kept == goes:
		s.Text = fmt.Sprintf("%s there %s yours, and %s here in another form since you rewrote %s.",
			words.Count(goes, "commit", "commits"), is, is, words.Is(goes, "it", "them"))
	case kept == 0:
		s.Text = fmt.Sprintf("%s there %s yours, and your branch went back behind %s.",
			words.Count(goes, "commit", "commits"), is, words.Is(goes, "it", "them"))
	default:
		s.Text = fmt.Sprintf("%s there %s yours; %d of them %s here in another form, and the rest was left out here.",
			words.Count(goes, "commit", "commits"), is, kept, words.Is(kept, "is", "are"))
	}
	s.Next = fmt.Sprintf("Exchange what is there for what is here with =. Joining the two lines would bring both "+
		"forms together, or bring back what %s left out.", p.Branch.Name)
	if p.Unanswered != nil {
		s.Head = p.Asks() + " did not answer. " + s.Head
	}
	return s
}

// Pushes reports whether the branch has commits that its place at the remote lacks, as far as is known here.
func (p *Position) Pushes() bool { return len(p.Upstream().Divergence.Yours) > 0 }

// besides describes a join with another line than the upstream.
func (p *Position) besides(they, commits string) Standing {
	yours := len(p.Divergence.Yours)
	name, line := p.Branch.Name, p.Line().Name
	first := line                             // at the start of a sentence
	if strings.HasPrefix(line, "proposal ") { // a common word, which a branch's name is not
		first = words.Upper(line)
	}
	s := Standing{Well: true}
	switch {
	case p.NothingToDo():
		s.Head, s.Text = "Nothing to join.", fmt.Sprintf("%s and %s hold the same commits.", name, line)
		s.Next = "Choose another line with c."
	case p.Trivial() == UpToDate:
		s.Head = fmt.Sprintf("%s has all of %s.", name, line)
		s.Text = fmt.Sprintf("It has %s more, and there is nothing to join.", words.Count(yours, "commit", "commits"))
		s.Next = "Go on to push it, or choose another line with c."
		if up := p.Upstream(); !p.Pushes() {
			s.Next = fmt.Sprintf("%s has all of it, too, so there is nothing to push. Choose another line with c.",
				up.Branch.To().Name)
		}
	case p.Trivial() == FastForward:
		s.Head = fmt.Sprintf("Only %s is new.", line)
		s.Text = fmt.Sprintf("%s has %s by %s that %s does not have, and %s has nothing of its own.", first, commits,
			they, name, name)
		s.Next = fmt.Sprintf("Your branch can move forward to %s without joining anything.", line)
	case p.BringsIn():
		s.Head = fmt.Sprintf("%s has %s that %s does not have.", first, words.Count(len(p.Divergence.Theirs),
			"revision",
			"revisions"), name)
		s.Text = fmt.Sprintf("%s checked %s in there, and %s has %s of its own since the two parted.", they,
			words.Is(len(p.Divergence.Theirs), "it", "them"), name, words.Count(yours, "revision", "revisions"))
		s.Next = fmt.Sprintf("Bring %s into %s as one revision. %s itself is not changed by that.", line, name, first)
		if early := p.early(); early != nil {
			s.Next = words.Sentence(early.Error())
		}
	default:
		s.Head = fmt.Sprintf("%s and %s have parted.", first, name)
		s.Text = fmt.Sprintf("%s has %s by %s that %s does not have, and %s has %s that %s does not have.", first,
			commits, they, name, name, words.Count(yours, "commit", "commits"), line)
		s.Next = fmt.Sprintf("Bring %s into %s by merge, or put your commits on top of it by rebase. %s itself is not "+
			"changed by that.", line, name, first)
	}
	if p.Unanswered != nil {
		s.Well = false
		s.Next += fmt.Sprintf(" %s did not answer, so this goes by what was fetched%s.", p.Asks(),
			words.If(p.Known.IsZero(), "", " on "+p.Known.Format("2 Jan 2006 at 15:04")))
	}
	return s
}

// underway describes an operation that was begun: a half-done one of git, taking back a join, or a pick.
func (p *Position) underway(they, commits string) Standing {
	s := Standing{Well: true}
	switch {
	case p.Resumes() != nil:
		s.Well = false
		s.Head = fmt.Sprintf("Going on with %s that was half done.", p.Stuck.What())
		if p.SettlesOnly() {
			s.Head = "Settling the conflicts that were left in your files; nothing is committed by that."
		}
		s.Text = p.Stuck.standing()
		s.Next = "Branch and files are as they were left until you accept the result; undo brings them back " +
			"like that."
	case p.Counter() != "":
		s.Head = "Taking back what waypoint " + p.Counter() + " brought."
		s.Text = "A new commit undoes it, on top of all that came since. Neither that nor anything on the remote is " +
			"rewritten."
		s.Next = "Your branch is as it was until you accept the result."
	default:
		s.Head = commits + " to pick."
		s.Text = fmt.Sprintf("What %s changed there is brought onto %s, commit by commit.", they, p.Branch.Name)
		s.Next = "Your branch is as it was until you accept the result. The commits stay where they are, too."
		if n := len(p.Upstream().Divergence.Theirs); n > 0 {
			s.Next += fmt.Sprintf(" %s has %s that you do not have: join %s before you push.",
				p.Branch.Upstream, words.Count(n, "commit", "commits"), words.Is(n, "it", "them"))
		}
	}
	return s
}

// allMine reports whether the person wrote all of theirs.
func (p *Position) allMine() bool {
	return p.Me != "" && !slices.ContainsFunc(p.Divergence.Theirs, func(n history.Node) bool {
		return n.Author().Key() != p.Me
	})
}

// KnowMe finds the person's identity, and which commits of theirs the person made elsewhere: those that arrived by a
// fetch and not by a push from here. It examines only the newest commits and moves.
func (pn *Planner) KnowMe(ctx context.Context, p *Position) {
	who, err := pn.Source.Committer(ctx)
	if err != nil {
		return
	}
	p.Me, p.Elsewhere = who.Key(), map[object.ID]bool{}
	const most = 50
	var moves []vcs.RefMove
	for _, n := range p.Divergence.Theirs[:min(most, len(p.Divergence.Theirs))] {
		if n.Author().Key() != p.Me {
			continue
		}
		if moves == nil {
			moves = pn.Source.Reflog(ctx, p.Line().Tracking)
		}
		from := max(0, len(moves)-most)
		brought := slices.IndexFunc(moves[from:], func(m vcs.RefMove) bool { // the first move that brought it
			has, err := history.IsAncestor(ctx, pn.Store, n.ID, m.To)
			return err == nil && has
		})
		if brought > 0 || brought == 0 && from == 0 {
			p.Elsewhere[n.ID] = moves[from+brought].Why != pushedFromHere
		}
	}
}

// unanswered describes what is known if the remote did not answer.
func (p *Position) unanswered(s *Standing, yours, theirs int, they, commits string) {
	s.Well = false
	s.Head = p.Asks() + " did not answer."
	since := "As it was last fetched"
	if !p.Known.IsZero() {
		since += ", on " + p.Known.Format("2 Jan 2006 at 15:04")
	}
	switch {
	case theirs == 0 && yours == 0:
		s.Text = fmt.Sprintf("%s, %s held what you have.", since, p.Line().Name)
		s.Next = "Ask again when it can be reached."
	case theirs == 0:
		s.Text = fmt.Sprintf("%s, %s held nothing that you do not have; %s of yours %s not there.", since,
			p.Line().Name,
			words.Count(yours, "commit", "commits"), words.Is(yours, "was", "were"))
		s.Next = "Push when it can be reached; what is new there by then is joined first."
	case yours == 0:
		s.Text = fmt.Sprintf("%s, %s had pushed %s that you do not have.", since, they, commits)
		s.Next = "Your branch can move forward to what was fetched."
	default:
		s.Text = fmt.Sprintf("%s, %s had pushed %s that yours %s not build on.", since, they, commits,
			words.Is(yours, "does", "do"))
		s.Next = "You can join what was fetched; the push waits until the remote can be reached."
	}
}

// someAuthors names the authors of commits; of many only the first.
func someAuthors(commits []history.Node) string {
	names := Authors(commits)
	if len(names) > 3 {
		return names[0] + " and " + words.Count(len(names)-1, "other", "others")
	}
	return words.List(names)
}

// TheirNames names the authors of theirs.
func (p *Position) TheirNames() string { return someAuthors(p.Divergence.Theirs) }

// Upstream returns the position of the branch relative to its upstream, also during a pick or a join with another
// line.
func (p *Position) Upstream() *Position {
	if k := p.picks(); k != nil && k.Home != nil {
		return k.Home
	}
	switch k := p.Kind.(type) {
	case *FromLine:
		if k.Home != nil {
			return k.Home
		}
	case Reworking:
		return k.Home
	}
	return p
}
