package tui

import (
	"context"
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"dorvik/internal/core/merge"
	"dorvik/internal/core/settle"
	"dorvik/internal/recovery"
	"dorvik/internal/words"
)

type settleView struct {
	at       int // the conflict
	way      int // the marked way; one past the last is writing it oneself, unmarked none
	view     view
	reading  bool // the cursor is in the list of what joined by itself
	file     int  // there
	verdicts map[settle.Key][]settle.Verdict
}

// unmarked is settleView.way where no way is better than asking: then enter takes nothing.
const unmarked = -1

// view is what the conflict's page shows.
type view int

const (
	allViews  view = iota // edits, ways and result, each as far as it fits
	editView              // the two edits in full
	fileView              // the result in full
	viewCount = 3
)

// verdicts are what the ways of a conflict would do, worked out beside the screen.
type verdicts struct {
	key settle.Key
	of  []settle.Verdict
}

func (m *model) item() *item {
	if m.settle.at < 0 || m.settle.at >= len(m.items) {
		return nil
	}
	return &m.items[m.settle.at]
}

func (m *model) settleKeys() []binding {
	if m.settle.reading {
		return []binding{{"↑↓", "file"}, {"enter", "read it"}, {"esc", "back to the conflicts"}}
	}
	if m.join.Open == 0 && m.marksDecision() {
		return []binding{{"enter", "go on to Check"}, {"↑↓", "try a way"}, {"[ ]", "conflict"}, {"u", "undo"}, {"v", "views"}, {"j", "joined files"}, {"esc", "back"}}
	}
	keys := []binding{{"↑↓", "try a way"}}
	it := m.item()
	if it != nil && m.settle.way == unmarked {
		keys = []binding{{fmt.Sprintf("1–%d ↑↓", len(it.c.Ways)), "mark a way"}}
	} else {
		keys = append(keys, binding{"enter", "settle, next"})
	}
	if it != nil && !it.c.Whole() {
		keys = append(keys, binding{"e", "edit result"}, binding{"v", "views"})
	}
	return append(keys, binding{"[ ]", "conflict"}, binding{"u", "undo"}, binding{"j", "joined files"}, binding{"esc", "back"})
}

func (m *model) settleRemark() string {
	it := m.item()
	if it == nil {
		return "Nothing asks for a decision."
	}
	if m.settle.reading {
		return "These files joined by themselves. Read them if you like."
	}
	if m.join.Open == 0 && m.marksDecision() {
		return "All settled. Enter goes on to the check; nothing has been changed yet."
	}
	if m.settle.way == unmarked {
		return "Nothing is suggested, so nothing is marked: say which, by number or with ↑↓."
	}
	if m.settle.way >= len(it.c.Ways) {
		return "Write the place yourself, starting from what it holds now."
	}
	if o := it.c.Ways[m.settle.way]; m.w < wide && o.Way == it.c.Suggested {
		return "Suggested: " + words.Why(it.c) + "." // which has no room beside the way
	}
	if n, is := it.c.Subject.(*merge.Naming); is && n.Yours.Name != "" && n.Theirs.Name != "" {
		return "What is in the file is kept whatever you take. Only the name is decided."
	}
	if it.c.Ways[m.settle.way].Way == settle.Both {
		return "Both are kept, one of them under another name."
	}
	if it.c.Whole() {
		return "One side of this is kept as it is. What the other did is listed before the push."
	}
	o := it.c.Ways[m.settle.way]
	if o.Moved != nil {
		return "The lines are where they were moved to, with the edit of the other side made there."
	}
	switch o.Way {
	case settle.Sorted:
		return "Puts what both added in the order of the lines around."
	case settle.Weave:
		return "Weave keeps every word either side added and drops every word either removed."
	case settle.Yours:
		return "Takes your text. What they changed here is left out, and listed before the push."
	case settle.Theirs:
		return "Takes their text. What you changed here is left out, and listed before the push."
	case settle.Base:
		return "Takes the text both of you started from; neither edit is kept."
	}
	return "Keeps both texts whole, one after the other. Read the result first."
}

// nextOpen finds the next conflict without a decision after one, going round.
func (m *model) nextOpen(after int) int {
	for i := 1; i <= len(m.items); i++ {
		if k := (after + i + len(m.items)) % len(m.items); m.items[k].done == nil {
			return k
		}
	}
	return max(0, min(after, len(m.items)-1))
}

// selectConflict marks the way that is decided, or else suggested, and has the
// ways judged.
func (m *model) selectConflict() tea.Cmd {
	it := m.item()
	if it == nil {
		return nil
	}
	m.settle.way = unmarked
	want := it.c.Suggested
	if it.done != nil {
		want = it.done.Way
	}
	for i, o := range it.c.Ways {
		if o.Way == want {
			m.settle.way = i
		}
	}
	if want == settle.Written {
		m.settle.way = len(it.c.Ways)
	}
	if m.settle.verdicts[it.c.Key] != nil {
		return nil
	}
	f, c, book := it.file, it.c, m.st.Book
	return func() tea.Msg {
		out := verdicts{key: c.Key}
		for _, o := range c.Ways {
			out.of = append(out.of, f.Judge(c, o, func(other *settle.Conflict) settle.Option {
				o, _ := f.Chosen(other, &book)
				return o
			}))
		}
		return out
	}
}

// marksDecision reports whether the marked way is what was decided.
func (m *model) marksDecision() bool {
	it := m.item()
	if it == nil || it.done == nil || m.settle.way == unmarked {
		return false
	}
	if m.settle.way < len(it.c.Ways) {
		return it.c.Ways[m.settle.way].Way == it.done.Way
	}
	return it.done.Way == settle.Written
}

func (m *model) settleKey(name string, page int) tea.Cmd {
	it := m.item()
	v := &m.settle
	if v.reading {
		return m.readingKey(name)
	}
	switch name {
	case "esc":
		if v.view != allViews {
			v.view = allViews
			return nil
		}
		if !m.busy() {
			m.goTo(recovery.Choose)
		}
	case "j":
		v.reading = true
	case "v":
		v.view = (v.view + 1) % viewCount
		m.off = 0
	case "u":
		if m.busy() {
			return nil
		}
		return m.undoDecision()
	case "[", "]", "left", "right", "tab", "shift+tab":
		if len(m.items) > 0 {
			step := 1
			if name == "[" || name == "left" || name == "shift+tab" {
				step = len(m.items) - 1
			}
			v.at = (v.at + step) % len(m.items)
			m.off = 0
			return m.selectConflict()
		}
	}
	if it == nil {
		if name == "enter" && !m.busy() {
			return m.toCheck()
		}
		return nil
	}
	switch name {
	case "up":
		v.way = max(0, v.way-1)
		m.off = 0
	case "down":
		v.way = min(len(it.c.Ways), v.way+1)
		m.off = 0
	case "pgup", "pgdown", "home", "end":
		m.scrollKey(name, page/2)
	case "e":
		return m.write()
	case "enter":
		return m.decide()
	default:
		if n := int(name[0] - '1'); len(name) == 1 && n >= 0 && n < len(it.c.Ways) {
			v.way = n
			m.off = 0
		}
	}
	return nil
}

// decide settles the conflict by the marked way and goes to the next; where
// that is settled already it goes on.
func (m *model) decide() tea.Cmd {
	it := m.item()
	if m.busy() {
		return nil
	}
	if m.marksDecision() {
		if m.join.Open == 0 {
			return m.toCheck()
		}
		m.settle.at = m.nextOpen(m.settle.at)
		m.off = 0
		return m.selectConflict()
	}
	if m.settle.way == unmarked {
		m.flash = txt(trouble, "▲ ").add(plain, fmt.Sprintf("Nothing is marked, so nothing was taken: 1–%d or ↑↓ marks a way", len(it.c.Ways)))
		if !it.c.Whole() {
			m.flash = m.flash.add(plain, ", e writes")
		}
		m.flash = m.flash.add(plain, ".")
		return nil
	}
	if m.settle.way >= len(it.c.Ways) {
		return m.write()
	}
	return m.record(settle.Decision{Key: it.c.Key, Way: it.c.Ways[m.settle.way].Way})
}

func (m *model) record(d settle.Decision) tea.Cmd {
	at := m.settle.at
	return m.rejoin(func(s *recovery.Session) error { return s.Decide(d) }, func() tea.Cmd {
		m.settle.at = min(at, len(m.items)-1)
		if m.join.Open > 0 {
			m.settle.at = m.nextOpen(at)
		}
		m.off = 0
		return m.selectConflict()
	})
}

func (m *model) undoDecision() tea.Cmd {
	var undone settle.Decision
	var any bool
	return m.rejoin(func(s *recovery.Session) (err error) {
		undone, any, err = s.UndoDecision()
		return err
	}, func() tea.Cmd {
		if !any {
			m.flash = txt(plain, "There is no decision to undo.")
			return nil
		}
		m.settle.at = max(0, min(m.settle.at, len(m.items)-1))
		for i := range m.items {
			if m.items[i].c.Key == undone.Key {
				m.settle.at = i
			}
		}
		m.flash = txt(plain, "The last decision ("+undone.Way.Label()+") is taken back.")
		return m.selectConflict()
	})
}

// marked is the marked way, or the decision; where nothing is marked, what was there
// before both edits.
func (m *model) marked(it *item) settle.Option {
	if m.settle.way == unmarked {
		return settle.Option{Text: it.c.Base}
	}
	if m.settle.way < len(it.c.Ways) {
		return it.c.Ways[m.settle.way]
	}
	o, _ := it.file.Chosen(it.c, &m.st.Book)
	return o
}

// write opens the editor on the place, or on where its lines were moved to.
func (m *model) write() tea.Cmd {
	it := m.item()
	if it.c.Whole() {
		m.flash = txt(plain, "There is no text to write here: keep one side or the other.")
		return nil
	}
	o := m.marked(it)
	if both, ok := it.c.Option(settle.YoursTheirs); ok && m.settle.way == unmarked {
		o = both // to be cut down to what is meant
	}
	text, d := o.Text, settle.Decision{Key: it.c.Key, Way: settle.Written}
	if o.Moved != nil {
		text, d.Moved = o.Moved.Text, true
	}
	closed := text == "" || strings.HasSuffix(text, "\n")
	parts, at := m.parts(it)
	ed := newEditor(strings.TrimSuffix(text, "\n"), 1+linesBefore(parts, at))
	m.editing = &editing{ed: ed, title: txt(plain, " ").bold(bright, it.c.Path).add(dim, "  written by you"), save: func(text string) tea.Cmd {
		if closed && text != "" {
			text += "\n"
		}
		d.Text = text
		return m.record(d)
	}}
	return nil
}

func (m *model) readingKey(name string) tea.Cmd {
	files := m.joinedFiles()
	v := &m.settle
	switch name {
	case "esc", "j":
		v.reading = false
	case "up":
		v.file = max(0, v.file-1)
	case "down":
		v.file = min(len(files)-1, v.file+1)
	case "enter", "space":
		if len(files) > 0 && !m.busy() {
			return m.read(files[v.file].Path)
		}
	}
	return nil
}

// read opens a file of the joined tree to be read.
func (m *model) read(path string) tea.Cmd {
	pos, tree := m.pos, m.join.Tree
	return m.start("reading "+path, func(context.Context, func(int, int)) (tea.Msg, error) {
		lines, ok, err := m.s.Lines(pos, tree, path)
		if err != nil {
			return nil, err
		}
		v := &viewer{title: line{}.add(plain, " ").bold(bright, path).add(dim, "   ").add(yours, "● yours").add(dim, "  ").add(theirs, "■ theirs").add(dim, "  ").add(joined, "✦ joined"), numbers: true, lines: lines}
		if !ok {
			v.lines = []recovery.Line{{Text: "This path holds no text in the joined result: it is binary, a link, or deleted."}}
			v.numbers = false
		} else {
			v.seek(0)
		}
		return v, nil
	})
}

func (m *model) joinedFiles() []recovery.Ground {
	asked := map[string]bool{}
	for _, it := range m.items {
		for _, p := range it.file.Names() {
			asked[p] = true
		}
	}
	var out []recovery.Ground
	for _, g := range m.ground {
		if !g.Decide && !asked[g.Path] {
			out = append(out, g)
		}
	}
	return out
}

// settleClick marks the way under the mouse, or goes to the conflict.
func (m *model) settleClick(x, y int) tea.Cmd {
	it := m.item()
	if it == nil {
		return nil
	}
	rows := m.settlePage(m.w, m.bodyHeight())
	if y < 0 || y >= len(rows) {
		return nil
	}
	text := ""
	for _, s := range rows[y] {
		text += s.text
	}
	if m.w >= wide && x <= listWidth {
		for i := range m.items {
			m2 := &m.items[i]
			if strings.Contains(text[:min(len(text), listWidth+8)], cutPath(m2.c.Path, listWidth-3)) {
				m.settle.at, m.off = i, 0
				return m.selectConflict()
			}
		}
		return nil
	}
	for i, o := range it.c.Ways {
		if strings.Contains(text, fmt.Sprintf("%d  %s ", i+1, o.Way.Label())) {
			m.settle.way = i
		}
	}
	return nil
}
