package tui

import (
	"context"
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"dorvik/internal/core/history"
	"dorvik/internal/core/object"
	"dorvik/internal/core/replay"
	"dorvik/internal/core/settle"
	"dorvik/internal/git"
	"dorvik/internal/recovery"
	"dorvik/internal/words"
)

type pushView struct {
	ready   *pushReady
	refusal *git.Refusal
	unsure  bool   // whether it arrived all the same
	holds   string // what the remote said it holds after the push
}

// pushReady is what is known before the push.
type pushReady struct {
	left   []recovery.LeftOut
	marked []recovery.Marked // files with conflict marks, in any commit that goes
	read   int
	asked  time.Time
	moved  bool
	silent error // the remote did not answer
	st     recovery.State
}

// mended counts what mends changed among what is left out.
func (r *pushReady) mended() (n int) {
	for _, l := range r.left {
		if l.Mend {
			n++
		}
	}
	return n
}

// toPush goes to Push and makes sure of what can be made sure of.
func (m *model) toPush() tea.Cmd {
	m.goTo(recovery.Push)
	m.push = pushView{}
	pos, j, book, tip := m.pos, m.join, m.st.Book, m.check.built.Tip
	if pos.Trivial() == recovery.UpToDate || tip.IsZero() {
		tip = pos.Yours
	}
	return m.start("asking "+pos.Branch.Remote, func(ctx context.Context, _ func(int, int)) (tea.Msg, error) {
		out := pushReady{}
		var err error
		if j != nil {
			if out.left, err = m.s.LeftOut(pos, j, &book); err != nil {
				return nil, err
			}
		}
		if out.marked, out.read, err = m.s.Marks(ctx, home(pos).Theirs, tip); err != nil {
			return nil, err
		}
		at, err := m.s.Repo.RemoteTip(ctx, pos.Branch.Remote, pos.Branch.Ref)
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		out.silent, out.moved, out.asked = err, err == nil && at != home(pos).Theirs, time.Now()
		if pos.Trivial() == recovery.NotTrivial {
			err = m.s.Reach(recovery.Push)
		} else {
			err = nil
		}
		out.st = m.s.State()
		return out, err
	})
}

// home is where the branch stands to its upstream.
func home(p *recovery.Position) *recovery.Position {
	if p.Home != nil {
		return p.Home
	}
	return p
}

// accepted reports whether the result shown is on the branch already. An earlier one
// that was not pushed may be there, too, and is then among yours.
func (m *model) accepted() bool {
	a := m.st.Accepted
	return a != nil && (a.Before == m.pos.Yours || m.pos.Trivial() == recovery.UpToDate)
}

// behind reports whether a push of what was picked would be refused, as the upstream
// has commits of its own.
func (m *model) behind() bool { return m.pos.Picking && len(m.pos.Home.Parted.Theirs) > 0 }

func (m *model) pushKeys() []binding {
	switch {
	case m.push.holds != "":
		return []binding{{"enter", "look"}, {"q", "quit"}}
	case m.push.ready == nil:
		return []binding{{"esc", "back"}}
	case m.push.ready.moved:
		return []binding{{"enter", "look at what is new"}, {"q", "quit"}}
	case m.behind() && m.accepted():
		return []binding{{"enter", "look at both lines"}, {"u", "undo the pick"}, {"q", "quit"}}
	case m.behind():
		return []binding{{"enter", "put them on your branch"}, {"esc", "back"}}
	case m.accepted():
		return []binding{{"enter", "push to " + m.pos.Branch.Upstream}, {"u", "undo the join"}, {"q", "quit"}}
	case m.pos.Trivial() == recovery.UpToDate:
		return []binding{{"enter", "push to " + m.pos.Branch.Upstream}, {"esc", "back"}}
	}
	keys := []binding{{"enter", "join here and push to " + m.pos.Branch.Upstream}, {"w", "join here, push later"}}
	if m.movable() {
		keys = append(keys, binding{"m", "move it aside"})
	}
	return append(keys, binding{"esc", "back"})
}

func (m *model) pushRemark() string {
	switch {
	case m.push.holds != "":
		return "The remote was asked again after the push."
	case m.push.ready != nil && m.push.ready.moved:
		return "Your decisions are kept; only what is new is asked."
	case m.behind():
		return "Nothing is pushed now. What you picked joins what is new there like any other commit of yours."
	case m.accepted():
		return "The joined result is on your branch. It can be undone until it is pushed."
	}
	if m.pos.Picking {
		return "If somebody pushes first, what you picked stays on your branch, and you join the two lines."
	}
	return "If somebody pushes first, Dorvik joins again and asks only what is new."
}

func (m *model) pushKey(name string, page int) tea.Cmd {
	switch name {
	case "enter", "w":
		if m.busy() {
			return nil
		}
		switch {
		case m.push.holds != "" || m.push.ready == nil || m.push.ready.moved:
			holds := m.push.holds
			m.goTo(recovery.Look)
			m.push = pushView{holds: holds}
			return m.load(true)
		case m.behind() && m.accepted():
			m.goTo(recovery.Look)
			return m.load(true)
		case m.behind():
			return m.accept(false)
		case m.accepted() || m.pos.Trivial() == recovery.UpToDate:
			if name == "enter" {
				return m.pushNow()
			}
		default:
			return m.accept(name == "enter")
		}
	case "m":
		m.moveAside()
	case "u":
		if m.canUndo() && !m.busy() {
			return m.undoJoin()
		}
	case "esc":
		if m.busy() {
			return nil
		}
		if m.accepted() && m.pos.Picking {
			m.goTo(recovery.Look)
			return m.load(true)
		}
		if m.accepted() || m.pos.Trivial() != recovery.NotTrivial {
			m.goTo(recovery.Look)
			return nil
		}
		m.goTo(recovery.Check)
	default:
		m.scrollKey(name, page)
	}
	return nil
}

type accepted struct {
	st     recovery.State
	push   bool
	signed map[object.ID]object.ID
	aside  []string // what was moved out of the way
	notice string
}

// accept brings branch, index and working tree to the joined state, and goes on
// to the push if asked.
func (m *model) accept(push bool) tea.Cmd {
	pos, j, built := m.pos, m.join, m.check.built
	consent := recovery.Consent{RewritePublished: m.choose.agreed, MoveAside: m.aside}
	cmd := m.start("changing your branch and files", func(ctx context.Context, _ func(int, int)) (tea.Msg, error) {
		if pos.Trivial() == recovery.FastForward {
			built = recovery.Built{Tip: pos.Theirs}
			j = &recovery.Join{Route: recovery.Route(recovery.FastForward)}
		}
		m.s.Notice = ""
		wp, err := m.s.Accept(ctx, pos, j, built, consent)
		if err != nil {
			return nil, err
		}
		return accepted{m.s.State(), push, m.s.Signatures(), wp.Aside, m.s.Notice}, nil
	})
	m.task.vital = true
	return cmd
}

func (m *model) takeAccepted(a accepted) tea.Cmd {
	m.st, m.changed, m.signed, m.aside, m.notice = a.st, true, a.signed, false, ""
	defer func() {
		if len(a.aside) > 0 {
			m.flash = m.flash.add(plain, " "+list(short(a.aside, 3))+" was moved aside; undo brings it back.")
		}
		if a.notice != "" {
			m.flash = m.flash.add(trouble, " ▲ ").add(plain, a.notice)
		}
	}()
	if m.pos.Trivial() == recovery.FastForward {
		m.goTo(recovery.Look)
		cmd := m.load(true)
		m.flash = txt(joined, "✓ ").add(plain, m.pos.Branch.Name+" moved forward to theirs. “dorvik undo” takes it back.")
		return cmd
	}
	if a.push {
		return m.pushNow()
	}
	if m.pos.Picking {
		m.flash = txt(joined, "✓ ").add(plain, "Picked: your branch and files are at the result. Nothing is pushed yet.")
		return nil
	}
	m.flash = txt(joined, "✓ ").add(plain, "Joined: your branch and files are at the result. Nothing is pushed yet.")
	return nil
}

type pushDone struct {
	done *recovery.Pushed
	st   recovery.State
}

func (m *model) pushNow() tea.Cmd {
	pos := m.pos
	m.push.refusal = nil
	return m.start("pushing to "+pos.Branch.Upstream, func(ctx context.Context, _ func(int, int)) (tea.Msg, error) {
		done, err := m.s.PushTip(ctx, pos)
		if err != nil {
			return nil, err
		}
		return pushDone{done, m.s.State()}, nil
	})
}

func (m *model) takePushDone(d pushDone) tea.Cmd {
	m.st = d.st
	ref := d.done.Refusal
	switch {
	case ref == nil:
		m.changed = true
		m.push.holds = fmt.Sprintf("%s now holds %s.", m.pos.Branch.Upstream, d.done.Holds.String()[:12])
		m.off = 0
		return nil
	case ref.Kind == git.Behind:
		m.goTo(recovery.Look)
		cmd := m.load(true)
		m.flash = txt(trouble, "▲ ").add(plain, "Somebody pushed first, so the push was refused. ")
		if d.done.WentBack {
			m.flash = m.flash.add(plain, "Your branch is back where it was; your decisions are kept.")
		} else if m.pos.Picking {
			m.flash = m.flash.add(plain, "What you picked is on your branch, to be joined with what is new.")
		}
		return cmd
	}
	m.push.refusal, m.push.unsure = ref, d.done.Unsure
	return nil
}

func (m *model) pushPage(w int) page {
	var p page
	p.blank()
	say := func(l line) { p.rows(indent(wrap(l, w-4), 2)) }
	r := m.push.ready
	up := m.pos.Branch.Upstream
	switch {
	case m.push.holds != "":
		say(line{}.bold(joined, "✓ Pushed. ").add(plain, m.push.holds+" "+m.inIt()))
	case r == nil:
		say(txt(dim, "Asking "+m.pos.Branch.Remote+" where it is…"))
		return p
	case m.push.refusal != nil:
		m.refusalPage(&p, w)
	case r.moved:
		say(line{}.bold(trouble, "▲ Somebody pushed meanwhile. ").add(plain, up+" is no longer where it was when this was joined. Look at what is new; your decisions are kept."))
		return p
	case r.silent != nil:
		say(line{}.bold(trouble, "▲ "+m.pos.Branch.Remote+" did not answer. ").add(plain, sentence(r.silent.Error())+" The push will show."))
	case m.behind() && m.accepted():
		say(line{}.bold(joined, "✓ Picked. ").add(plain, fmt.Sprintf("%s on your branch. %s has %s that you do not have: join the two lines before you push.",
			plural(m.join.Kept(), "commit is", "commits are"), up, plural(len(m.pos.Home.Parted.Theirs), "commit", "commits"))))
	case m.behind():
		say(line{}.bold(joined, "Ready. ").add(plain, fmt.Sprintf("%s on your branch. %s has %s that you do not have, so a push comes after joining those.",
			plural(m.join.Kept(), "commit goes", "commits go"), up, plural(len(m.pos.Home.Parted.Theirs), "commit", "commits"))))
	default:
		say(line{}.bold(joined, "Ready. ").add(plain, fmt.Sprintf("%s to %s. The remote was asked %s and has not moved.",
			plural(m.goes(), "commit goes", "commits go"), up, ago(m.now(), r.asked))))
	}
	if n := len(r.left); n > 0 && m.push.holds == "" {
		mended := r.mended()
		var parts []string
		if n > mended {
			parts = append(parts, plural(n-mended, "thing", "things")+" somebody did will be left out, as you decided")
		}
		if mended > 0 {
			parts = append(parts, "your mend changed "+plural(mended, "line", "lines")+" somebody wrote")
		}
		say(txt(trouble, "▲ ").add(plain, sentence(strings.Join(parts, ", and ")+"; see the list below")))
	}
	p.blank()
	p.row(txt(plain, "  ").then(heading("WHAT " + strings.ToUpper(m.pos.Branch.Name) + " BECOMES")))
	p.blank()
	m.becomes(&p, w)
	if m.pos.Trivial() == recovery.NotTrivial && r != nil {
		p.blank()
		p.row(txt(plain, "  ").then(rule(w - 4)))
		m.leftOutRows(&p, r, w)
		if m.push.holds == "" {
			p.blank()
			p.row(txt(plain, "  ").then(rule(w - 4)))
			m.madeSure(&p, r)
		}
	}
	return p
}

// inIt says what of both sides is in what was pushed.
func (m *model) inIt() string {
	switch r := m.push.ready; {
	case m.pos.Trivial() == recovery.UpToDate && m.join == nil || r == nil:
		return "Your work is in it."
	case len(r.left) > r.mended():
		return "Both sides' work is in it, but for " + plural(len(r.left), "thing", "things") + " in the list below."
	case len(r.left) > 0:
		return "Both sides' work is in it; your mend changed " + plural(len(r.left), "line", "lines") + " of it."
	}
	return "Both sides' work is in it."
}

// signedOf gives the commit that was made of one with a signature, or itself.
func (m *model) signedOf(id object.ID) object.ID {
	if to, is := m.signed[id]; is {
		return to
	}
	return id
}

// goes counts the commits that the push adds to the remote.
func (m *model) goes() int {
	switch {
	case m.pos.Picking:
		return len(m.pos.Home.Parted.Yours) + m.join.Kept()
	case m.pos.Trivial() == recovery.UpToDate || m.join == nil:
		return len(m.pos.Parted.Yours)
	case m.join.Route == recovery.Rebase:
		return m.join.Kept()
	}
	return len(m.pos.Parted.Yours) + 1
}

func (m *model) refusalPage(p *page, w int) {
	ref := m.push.refusal
	p.rows(indent(wrap(line{}.bold(trouble, "✗ The push was refused. ").add(plain, sentence(ref.Error())), w-4), 2))
	next := map[git.RefusalKind]string{
		git.ServerRule:  "Your joined branch is safe here. Do what the server asks for, then push again with enter; or undo the join with u.",
		git.LocalHook:   "Your joined branch is safe here. Mend what the hook found, then push again with enter; or undo the join with u.",
		git.NoAccess:    "Your joined branch is safe here. Push again with enter once you are let in; or undo the join with u.",
		git.Unreachable: "Your joined branch is safe here. Push again with enter when the remote can be reached.",
	}[ref.Kind]
	if next == "" {
		next = "Your joined branch is safe here. Push again with enter, or undo the join with u."
	}
	if m.push.unsure {
		next = "The remote does not answer, so it is not known whether the push arrived all the same. " + next
	}
	p.rows(indent(wrap(txt(dim, next), w-4), 2))
	if len(ref.Words) > 0 {
		p.blank()
		p.row(txt(plain, "  ").then(heading("WHAT WAS SAID")))
		for i, s := range ref.Words {
			if i == 12 {
				p.row(txt(dim, "    …"))
				break
			}
			p.row(txt(plain, "    "+s))
		}
	}
}

// becomes lists the branch as it will be, newest first.
func (m *model) becomes(p *page, w int) {
	const most = 10
	rows, room := 0, 24
	for _, n := range append(append([]history.Node(nil), m.pos.Parted.Yours...), m.pos.Parted.Theirs...) {
		room = max(room, len([]rune(n.Subject())))
	}
	joint, _, _ := strings.Cut(recovery.MergeMessage(m.pos), "\n")
	if m.join != nil && m.join.Route == recovery.Merge {
		room = max(room, len([]rune(joint)))
	}
	room = min(room, max(20, w-50))
	show := func(sign string, h hue, id, subject, who, note string) {
		if rows++; rows > most {
			return
		}
		p.row(txt(h, "    "+sign).fit(8).add(h, id+"  ").then(txt(plain, subject).fit(room)).add(dim, "  "+who).fit(room+28).add(dim, "  "+note))
	}
	yoursOf := m.pos.Parted.Yours
	switch j := m.join; {
	case m.pos.Trivial() == recovery.UpToDate || j == nil:
		for _, n := range yoursOf {
			show("●", yours, n.ID.Short(), n.Subject(), m.name(n, settle.SideYours), "")
		}
	case j.Route != recovery.Merge:
		sign, h, side := "●′", yours, settle.SideYours
		if m.pos.Picking {
			sign, h, side = "■′", theirs, settle.SideTheirs
		}
		mended := len(j.Mended) > 0
		for i := len(j.Steps) - 1; i >= 0; i-- {
			s := &j.Steps[i]
			if s.Left() {
				continue
			}
			id, note := s.Commit.ID, "unchanged"
			if i < len(m.check.built.IDs) && m.check.built.IDs[i] != id && !m.check.built.IDs[i].IsZero() {
				id, note = m.signedOf(m.check.built.IDs[i]), "new id, was "+s.Commit.ID.Short()
			}
			if mended {
				note += ", with the mend"
				mended = false
			}
			show(sign, h, id.Short(), s.Commit.Subject(), m.name(s.Commit, side), note)
		}
		if m.pos.Picking {
			for _, n := range yoursOf {
				show("●", yours, n.ID.Short(), n.Subject(), m.name(n, settle.SideYours), "as it is")
			}
		}
	default:
		show("✦", joined, m.signedOf(m.check.built.Tip).Short(), joint, "you", map[bool]string{true: "the joint, with the mend", false: "the joint"}[len(j.Mended) > 0])
		for _, n := range yoursOf {
			show("●", yours, n.ID.Short(), n.Subject(), m.name(n, settle.SideYours), "as it is")
		}
	}
	for _, n := range m.pos.Parted.Theirs {
		if m.pos.Picking {
			break // they stay where they are
		}
		show("■", theirs, n.ID.Short(), n.Subject(), first2(m.name(n, settle.SideTheirs)), "on the remote")
	}
	if rows > most {
		p.row(txt(dim, fmt.Sprintf("    and %s", plural(rows-most, "older commit", "older commits"))))
	}
	if len(m.under) > 0 && m.pos.Trivial() == recovery.NotTrivial {
		p.row(txt(base, "    ◆").fit(8).add(base, m.under[0].ID.Short()+"  ").add(dim, m.under[0].Subject()+"   common ancestor"))
	}
	if m.join == nil {
		return
	}
	for i := range m.join.Steps {
		s := &m.join.Steps[i]
		switch s.Outcome {
		case replay.AlreadyThere:
			p.row(txt(dim, "    ◌").fit(8).add(dim, s.Commit.ID.Short()+"  "+s.Commit.Subject()+"   not needed: "+s.Same.ID.Short()+" holds the same change"))
		case replay.Emptied:
			p.row(txt(dim, "    ◌").fit(8).add(dim, s.Commit.ID.Short()+"  "+s.Commit.Subject()+"   not needed: nothing of it is left"))
		}
	}
}

func (m *model) leftOutRows(p *page, r *pushReady, w int) {
	p.row(txt(plain, "  ").then(heading("LEFT OUT")).add(dim, "  what somebody did and the result does not hold"))
	p.blank()
	if len(r.left) == 0 {
		p.row(txt(joined, "    ✓ ").add(plain, "nothing").add(dim, "   every line, name and deletion of either side is in the result"))
		return
	}
	where := func(l recovery.LeftOut) string {
		if l.Line > 0 {
			return fmt.Sprintf("%s:%d", l.Path, l.Line)
		}
		return l.Path
	}
	column := 0
	for _, l := range r.left[:min(8, len(r.left))] {
		column = max(column, len([]rune(where(l))))
	}
	column = min(column, w/3)
	for i, l := range r.left {
		if i == 8 {
			p.row(txt(dim, "    and "+plural(len(r.left)-i, "more", "more")))
			break
		}
		sign, h, who := "●", yours, "you"
		if l.Side == settle.SideTheirs {
			sign, h, who = "■", theirs, l.Author
		}
		text := words.LeftOut(l.Text, l.Kept, l.Mend)
		if l.What == recovery.GivenName {
			text = "this name; kept under another"
		}
		p.row(txt(h, "    "+sign+" "+who).fit(20).add(dim, "  ").then(txt(dim, cutPath(where(l), column)).fit(column+3)).add(h, text).cut(w))
	}
}

// madeSure lists what was made sure of, and what was not.
func (m *model) madeSure(p *page, r *pushReady) {
	p.row(txt(plain, "  ").then(heading("BEFORE IT GOES")))
	p.blank()
	row := func(ok bool, what, detail string) {
		l := txt(joined, "    ✓  ")
		if !ok {
			l = txt(trouble, "    ▲  ")
		}
		p.row(l.add(plain, what).fit(46).add(dim, "  "+detail))
	}
	ways := map[string]int{}
	var order []string
	for _, it := range m.items {
		if it.done != nil {
			if ways[it.done.Way.Label()]++; ways[it.done.Way.Label()] == 1 {
				order = append(order, it.done.Way.Label())
			}
		}
	}
	for i, name := range order {
		order[i] = fmt.Sprintf("%d × %s", ways[name], name)
	}
	detail := "there were none"
	if len(order) > 0 {
		detail = strings.Join(order, ";  ")
	}
	row(true, "every conflict is settled", detail)
	if len(r.marked) == 0 {
		row(true, "no conflict marks in what goes", plural(r.read, "file read", "files read"))
	} else {
		var where []string
		for _, k := range r.marked {
			where = append(where, k.String())
		}
		row(false, "conflict marks stand in a file", list(short(where, 2)))
	}
	switch c := &m.check; {
	case c.passed:
		row(true, "the joined code passes its check", c.command.Line+"   "+seconds(c.took))
	case c.failed:
		row(false, "the check failed", "you chose to go on")
	default:
		row(false, "the joined code was not checked", "")
	}
	if m.join.Route == recovery.Rebase {
		row(!m.plan.Pushed, "nothing already pushed is rewritten", map[bool]string{true: "some of your commits are on a remote", false: "none of the " + plural(m.join.Kept(), "commit", "commits") + " was ever pushed"}[m.plan.Pushed])
	}
	if n := len(m.pos.Dirty); n > 0 {
		var paths []string
		for _, d := range m.pos.Dirty {
			paths = append(paths, d.Path)
		}
		if m.inWay != nil {
			row(m.aside, map[bool]string{true: "what is in the way is moved aside", false: "uncommitted work is in the way"}[m.aside], list(short(m.inWay.Paths, 3)))
		} else {
			row(true, "uncommitted work stays as it is", list(short(paths, 3)))
		}
	}
	if r.silent == nil {
		row(true, "the remote is where it was", home(m.pos).Theirs.Short()+", asked "+ago(m.now(), r.asked))
	} else {
		row(false, "the remote did not answer", "")
	}
}
