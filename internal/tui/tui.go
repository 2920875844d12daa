// Package tui is the full screen: the frame, and a file for each stage. It
// holds no rule of the job; it shows what recovery says and asks it.
package tui

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"
	"unicode"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"

	"dorvik/internal/core/history"
	"dorvik/internal/core/object"
	"dorvik/internal/core/settle"
	"dorvik/internal/recovery"
)

// Run opens the full screen on the repository that holds a folder, and says on
// the terminal afterwards how things were left.
func Run(ctx context.Context, s *recovery.Session, themeName string) error {
	m := newModel(ctx, s, themeName)
	options := []tea.ProgramOption{tea.WithContext(ctx)}
	if c := os.Getenv("COLORTERM"); m.theme.colour && (c == "truecolor" || c == "24bit") {
		options = append(options, tea.WithColorProfile(colorprofile.TrueColor)) // the terminal says so itself
	}
	_, err := tea.NewProgram(m, options...).Run()
	m.leave()
	if err != nil && !errors.Is(err, tea.ErrInterrupted) {
		return fmt.Errorf("the full screen ended: %w; your branch and files are safe, and decisions are kept", err)
	}
	fmt.Fprintln(os.Stderr, m.farewell())
	return nil
}

// model is the whole screen. Everything it shows is a value it holds: what
// tasks find comes in as messages, so drawing never waits.
type model struct {
	ctx   context.Context
	s     *recovery.Session
	theme *theme
	w, h  int
	now   func() time.Time
	me    string // e-mail of the person at the keyboard
	repo  string

	task    *task
	waited  *task // a key came too early for this one, and the flash says so
	flash   line  // one sentence above the keys, until the next key
	help    *scroll
	editing *editing
	viewer  *viewer
	changed bool // something was accepted or pushed in this run

	st      recovery.State
	pos     *recovery.Position
	plan    *recovery.Plan
	ground  []recovery.Ground
	under   []history.Node
	drivers []recovery.Driver // that would run if they were agreed to
	consent bool              // agreeing to the first of them was asked for once
	blocked error
	inWay   *recovery.OverwriteError
	notice  string // what opening found and did, said until something else is done
	aside   bool   // what is in the way and git does not know may be moved aside
	resumed bool

	signed map[object.ID]object.ID // of the commits shown, those that have been signed since
	stage  recovery.Stage
	join   *recovery.Join
	items  []item
	off    int // scroll of the stage's page
	choose chooseView
	settle settleView
	check  checkView
	push   pushView
}

// scroll is the offset of an overlay.
type scroll struct{ off int }

// editing is an editor that is open, and what is done with its text.
type editing struct {
	ed    *editor
	title line
	save  func(text string) tea.Cmd

	leaving bool // ctrl+c was pressed once
}

// item is one conflict of the route, in the order it is asked.
type item struct {
	stop   int
	file   *settle.File
	c      *settle.Conflict
	yours  history.Node // the commits that made the two edits; zero if unknown
	theirs history.Node
	done   *settle.Decision
}

func newModel(ctx context.Context, s *recovery.Session, themeName string) *model {
	m := &model{ctx: ctx, s: s, theme: themeOf(themeName), now: time.Now, repo: filepath.Base(s.Repo.Dir), w: 80, h: 24}
	m.notice = s.Notice
	return m
}

func (m *model) Init() tea.Cmd { return m.load(false) }

// loaded is where things stand.
type loaded struct {
	pos    *recovery.Position
	plan   *recovery.Plan
	ground []recovery.Ground
	st     recovery.State
	inWay  *recovery.OverwriteError
	me     string
	under  []history.Node // the common ancestor, and the one before it
	driver []recovery.Driver
	asked  bool
}

// load looks where things stand, asking the remote first if told to.
func (m *model) load(fetch bool) tea.Cmd {
	doing := "reading the history"
	if fetch && m.pos != nil {
		doing = "asking " + m.pos.Branch.Remote
	}
	return m.start(doing, func(ctx context.Context, progress func(int, int)) (tea.Msg, error) {
		out := loaded{asked: fetch}
		var err error
		if out.pos, err = m.s.Stand(ctx, fetch); err != nil {
			return nil, err
		}
		if err := m.s.Sync(out.pos); err != nil {
			return nil, err
		}
		out.st = m.s.State()
		if out.plan, err = m.s.Plan(ctx, out.pos, &out.st.Book, progress); err != nil {
			return nil, err
		}
		if out.ground, err = m.s.Overlap(out.pos, out.plan.Asking()); err != nil {
			return nil, err
		}
		if out.driver, err = m.s.Unagreed(ctx, out.plan.Asking()); err != nil {
			return nil, err
		}
		if err := m.s.InTheWay(out.pos, out.plan.Asking().Tree); err != nil && !errors.As(err, &out.inWay) {
			return nil, err
		}
		for id := out.pos.Base(); !id.IsZero() && len(out.under) < 2; {
			c, err := m.s.Store.Commit(id)
			if err != nil {
				break // a shallow clone ends here
			}
			out.under = append(out.under, history.Node{ID: id, Commit: c})
			if len(c.Parents) == 0 {
				break
			}
			id = c.Parents[0]
		}
		if who, err := m.s.Repo.Committer(ctx); err == nil {
			out.me = who.Email
		}
		return out, nil
	})
}

// rejoined is the route worked out anew.
type rejoined struct {
	join  *recovery.Join
	items []item
	st    recovery.State
	then  func() tea.Cmd
}

// rejoin works the chosen route out under the decisions; change, if not nil,
// is made to the session first. then runs on the screen afterwards.
func (m *model) rejoin(change func(s *recovery.Session) error, then func() tea.Cmd) tea.Cmd {
	pos := m.pos
	return m.start("joining", func(ctx context.Context, progress func(int, int)) (tea.Msg, error) {
		if change != nil {
			if err := change(m.s); err != nil {
				return nil, err
			}
		}
		st := m.s.State()
		j, err := m.s.Join(ctx, pos, st.Route, &st.Book, st.Mends, progress)
		if err != nil {
			return nil, err
		}
		items, err := itemsOf(m.s.Workspace, pos, j, &st.Book)
		return rejoined{j, items, st, then}, err
	})
}

func itemsOf(w *recovery.Workspace, pos *recovery.Position, j *recovery.Join, book *settle.Book) ([]item, error) {
	var items []item
	theirs := w.Touched(pos.Parted.Theirs)
	all := w.Touched(pos.Parted.Yours)
	for i, stop := range j.Stops {
		for _, f := range stop.Files {
			for _, c := range f.Conflicts {
				it := item{stop: i, file: f, c: c}
				if pos.Picking {
					it.theirs = stop.Commit
				} else {
					it.yours = stop.Commit
				}
				var err error
				var lines []string
				if it.yours.Commit == nil {
					if !c.Whole() {
						lines = f.Text.Yours[c.Place.Yours.Lo:c.Place.Yours.Hi]
					}
					if it.yours, err = who(all, f, lines); err != nil {
						return nil, err
					}
				}
				lines = nil
				if !c.Whole() {
					lines = f.Text.Theirs[c.Place.Theirs.Lo:c.Place.Theirs.Hi]
				}
				if it.theirs.Commit == nil {
					if it.theirs, err = who(theirs, f, lines); err != nil {
						return nil, err
					}
				}
				if d, _, ok := book.For(c); ok {
					it.done = &d
				}
				items = append(items, it)
			}
		}
	}
	return items, nil
}

// who finds the commit behind an edit, under the file's other names too.
func who(t *history.Toucher, f *settle.File, lines []string) (history.Node, error) {
	var n history.Node
	for _, path := range f.Names() {
		if path == "" {
			continue
		}
		at, ok, err := t.Who(path, lines)
		if err != nil || ok {
			return at, err
		}
	}
	return n, nil
}

func (m *model) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.w, m.h = msg.Width, msg.Height
	case tick:
		if m.task != nil {
			return m, tickAfter(slow)
		}
	case ended:
		if msg.task != m.task {
			return m, nil // cancelled, and something else runs
		}
		if m.waited == m.task {
			m.flash = nil // it said to wait for this
		}
		m.task, m.waited = nil, nil
		return m, m.finished(msg.msg)
	case outputLine:
		m.check.take(msg)
		return m, m.check.wait()
	case verdicts:
		m.settle.verdicts[msg.key] = msg.of
	case tea.PasteMsg:
		if m.editing != nil {
			m.editing.ed.paste(msg.Content)
		}
	case tea.MouseWheelMsg:
		step := 3
		if msg.Button == tea.MouseWheelUp {
			step = -3
		}
		m.scrollBy(step)
	case tea.MouseClickMsg:
		return m, m.click(msg.X, msg.Y)
	case tea.KeyPressMsg:
		return m, m.key(msg)
	}
	return m, nil
}

func (m *model) scrollBy(n int) {
	switch {
	case m.help != nil:
		m.help.off += n
	case m.viewer != nil:
		m.viewer.off += n
	default:
		m.off += n
	}
}

// finished takes the outcome of a task.
func (m *model) finished(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case failed:
		return m.failure(msg.err)
	case loaded:
		return m.takeLoaded(msg)
	case rejoined:
		m.join, m.items, m.st = msg.join, msg.items, msg.st
		m.settle.verdicts = map[settle.Key][]settle.Verdict{}
		if msg.then != nil {
			return msg.then()
		}
	case checkReady:
		return m.takeCheckReady(msg)
	case checkDone:
		return m.takeCheckDone(msg)
	case pushReady:
		m.push.ready, m.st = &msg, msg.st
	case accepted:
		return m.takeAccepted(msg)
	case pushDone:
		return m.takePushDone(msg)
	case wentBack:
		return m.takeWentBack(msg)
	case *viewer:
		m.viewer = msg
	}
	return nil
}

func (m *model) failure(err error) tea.Cmd {
	var b *recovery.Blocked
	m.check.running = false
	switch {
	case errors.Is(err, context.Canceled):
		m.flash = txt(plain, "Cancelled. Nothing was changed.")
	case m.pos == nil || errors.As(err, &b) && m.stage == recovery.Look:
		m.blocked = err
	default:
		m.flash = txt(trouble, "▲ ").add(plain, sentence(err.Error()))
	}
	var published *recovery.PublishedError
	if errors.As(err, &published) { // it came here without having been confirmed
		m.goTo(recovery.Choose)
		m.choose.route, m.choose.confirm = recovery.Rebase, true
		m.flash = txt(trouble, "▲ ").add(plain, "Some of these commits are on a remote: whoever has them will have them twice. Press y to rebase all the same.")
	}
	var over *recovery.OverwriteError
	if errors.As(err, &over) {
		if m.inWay = over; over.Unknown {
			m.flash = txt(trouble, "▲ ").add(plain, list(short(over.Paths, 2))+" is in the way, and git does not know it. Press m to have it moved aside. Nothing was changed.")
		}
	}
	return nil
}

// sentence makes an error's text a sentence.
func sentence(s string) string {
	r := []rune(s)
	if len(r) == 0 {
		return s
	}
	r[0] = unicode.ToUpper(r[0])
	if !strings.ContainsRune(".?!", r[len(r)-1]) {
		r = append(r, '.')
	}
	return string(r)
}

func (m *model) takeLoaded(l loaded) tea.Cmd {
	m.pos, m.plan, m.ground, m.st, m.inWay, m.me, m.blocked = l.pos, l.plan, l.ground, l.st, l.inWay, l.me, nil
	m.under, m.drivers = l.under, l.driver
	if m.choose.route == "" || m.pos.Picking != (m.choose.route == recovery.Pick) || m.stage == recovery.Look && m.st.Route == "" {
		m.choose.route = m.plan.Suggested
	}
	m.join, m.items = nil, nil
	if !l.asked {
		return m.load(true)
	}
	if m.resumed {
		return nil
	}
	m.resumed = true
	if m.pos.Trivial() == recovery.UpToDate && m.st.Accepted != nil {
		m.flash = txt(plain, "You joined here before and have not pushed yet.")
		return m.toPush()
	}
	if m.st.Stage > recovery.Choose && m.st.Route != "" {
		m.choose.route = m.st.Route
		return m.rejoin(nil, func() tea.Cmd {
			if n := m.join.Settled; n > 0 {
				m.flash = txt(plain, fmt.Sprintf("Going on where you left: %s kept.", plural(n, "decision was", "decisions were")))
			}
			return m.afterJoin()
		})
	}
	return nil
}

// afterJoin goes to the stage a joined route asks for.
func (m *model) afterJoin() tea.Cmd {
	if m.pos.Picking && m.join.Open == 0 && m.join.Kept() == 0 {
		cmd := m.dropPick()
		m.flash = txt(plain, "There is nothing left to pick: what those commits change is in your line. Your branch is as it was.")
		return cmd
	}
	if m.join.Open > 0 {
		m.goTo(recovery.Settle)
		m.settle.at = m.nextOpen(-1)
		return m.selectConflict()
	}
	return m.toCheck()
}

func (m *model) goTo(s recovery.Stage) {
	if m.stage != s {
		m.off = 0
	}
	m.stage = s
}

// name tells an author: "you" for the person at the keyboard.
func (m *model) name(n history.Node, side settle.Side) string {
	if n.Commit == nil {
		return "somebody"
	}
	a := n.Author()
	if m.me != "" && a.Email == m.me {
		if side == settle.SideTheirs {
			return "you, from elsewhere"
		}
		return "you"
	}
	return a.Name
}

func (m *model) age(n history.Node) string { return ago(m.now(), n.Author().Time()) }

// theirNames are the authors of their side, "them" where there are many.
func (m *model) theirNames() string {
	names := recovery.Authors(m.pos.Parted.Theirs)
	if len(names) > 3 {
		return fmt.Sprintf("%s and %d others", names[0], len(names)-1)
	}
	return list(names)
}

func (m *model) farewell() string {
	switch {
	case m.push.holds != "":
		return "dorvik: pushed. " + m.push.holds
	case m.st.Accepted != nil:
		return "dorvik: the joined result is on your branch and not pushed yet. “dorvik” goes on; “dorvik undo” takes it back."
	case m.changed:
		return "dorvik: done."
	case len(m.st.Picks) > 0:
		return fmt.Sprintf("dorvik: nothing was changed. %s to pick; “dorvik” goes on where you left.", plural(len(m.st.Picks), "commit is left", "commits are left"))
	case len(m.st.Book.Decisions) > 0:
		return fmt.Sprintf("dorvik: nothing was changed. %s kept; “dorvik” goes on where you left.", plural(len(m.st.Book.Decisions), "decision is", "decisions are"))
	}
	return "dorvik: nothing was changed."
}
