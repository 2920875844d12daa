package tui

import (
	"fmt"
	"strings"

	"charm.land/bubbles/v2/key"
)

// keys are all keys there are. Each does one thing, whatever the screen; what that comes to
// on a screen is said by the screen's action.
var keys = struct {
	next, back, help, quit, stop, suspend, yes,
	up, down, pageUp, pageDown, top, bottom,
	previous, following, left, right,
	fetch, driver, aside, drop, undo,
	always,
	write, views, list, alike, colleague, each, install, try, pair, origin, yourCommit, theirCommit, output, again,
	skip, branch,
	carry, road, history, annotate, find, compare, take, pick, others, picture, teammates, anew, logbook,
	cursorLeft, cursorRight, pageDownOnly, adopt, ownEditor, save, undoTyping, redoTyping, deleteLine, newline,
	backspace,
	deleteRight,
	selectLeft, selectRight, selectUp, selectDown, selectWordLeft, selectWordRight,
	cutOut, copyOut, putIn, bracket, seek, exchange, unindent,
	lineStart, lineEnd, wordLeft, wordRight, textStart, textEnd, indent key.Binding
	digits [10]key.Binding
}{
	next:    bind("enter", "the next step", "enter"),
	back:    bind("esc", "back", "esc"),
	help:    bind("?", "all keys", "?"),
	quit:    bind("q", "quit", "q"),
	stop:    bind("ctrl+c", "cancel what runs, or quit", "ctrl+c"),
	suspend: bind("ctrl+z", "back to the shell for now; fg returns", "ctrl+z"),

	yes: bind("y", "yes", "y"),

	up:       bind("↑↓", "up, down", "up"),
	down:     bind("", "", "down"),
	pageUp:   bind("pgup pgdn", "scroll", "pgup"),
	pageDown: bind("", "", "pgdown", "space"),
	top:      bind("home end", "to the start, to the end", "home"),
	bottom:   bind("", "", "end"),

	following: bind("tab", "the next", "tab"),
	previous:  bind("shift+tab", "the one before", "shift+tab"),
	left:      bind("←→", "the other", "left"),
	right:     bind("", "", "right"),

	fetch:  bind("f", "fetch", "f"),
	driver: bind("d", "merge driver", "d"),
	aside:  bind("m", "move it aside", "m"),
	drop:   bind("x", "drop the pick", "x"),
	undo:   bind("u", "undo", "u"),

	write: bind("w", "write it", "w"),
	views: bind("v", "more of it", "v"),
	list:  bind("j", "the list", "j"),
	alike: bind("+", "many at once", "+"),

	yourCommit:  bind("< >", "the commit of yours, of theirs", "<"),
	theirCommit: bind("", "", ">"),
	install:     bind("%", "install first", "%"),
	try:         bind("!", "try it in a shell", "!"),
	each:        bind("#", "check each commit", "#"),
	pair:        bind("*", "find the two commits that collide", "*"),
	colleague:   bind("@", "ask who made the other side", "@"),

	always: bind("&", "always, from these people", "&"),
	origin: bind("-", "the conflict it comes from", "-"),

	output: bind("o", "whole output", "o"),
	again:  bind("r", "run again", "r"),
	skip:   bind("s", "go on without…", "s"),
	branch: bind("b", "join on your branch, push later", "b"),

	history:  bind("h", "history", "h"),
	annotate: bind("a", "lines and their authors", "a"),
	find:     bind("/", "find", "/"),
	compare:  bind("c", "compare branches", "c"),
	take:     bind("t", "take it, or leave it", "t"),
	pick:     bind("g", "go and pick the marked", "g"),
	others:   bind("e", "what everyone else gets", "e"),
	picture:  bind("p", "picture", "p"),

	logbook: bind("l", "logbook", "l"),
	road:    bind("n", "your commits, one by one", "n"),
	carry:   bind("k", "carry your uncommitted work along", "k"),

	teammates: bind("i", "the teammates' clones", "i"),
	anew:      bind("z", "begin the demo again", "z"),

	cursorLeft:   bind("← →", "character by character", "left"),
	cursorRight:  bind("", "", "right"),
	pageDownOnly: bind("", "", "pgdown"), // where a blank is typed

	adopt:       bind("ctrl+t", "take an edit over", "ctrl+t"),
	ownEditor:   bind("ctrl+o", "open it in your editor", "ctrl+o"),
	save:        bind("ctrl+s", "keep this", "ctrl+s"),
	undoTyping:  bind("ctrl+z", "undo", "ctrl+z"),
	redoTyping:  bind("ctrl+y", "redo", "ctrl+y", "ctrl+shift+z"),
	deleteLine:  bind("ctrl+k", "delete line", "ctrl+k"),
	newline:     bind("enter", "a new line", "enter"),
	backspace:   bind("backspace", "delete", "backspace"),
	deleteRight: bind("delete", "delete to the right", "delete"),
	lineStart:   bind("home", "start of the line", "home", "ctrl+a"),
	lineEnd:     bind("end", "end of the line", "end", "ctrl+e"),
	wordLeft:    bind("ctrl+← ctrl+→", "word by word", "ctrl+left", "alt+left", "alt+b"),
	wordRight:   bind("", "", "ctrl+right", "alt+right", "alt+f"),
	textStart:   bind("ctrl+home ctrl+end", "start and end of the text", "ctrl+home"),
	textEnd:     bind("", "", "ctrl+end"),
	selectLeft:  bind("shift+←→↑↓", "select", "shift+left"),
	selectRight: bind("", "", "shift+right"),
	selectUp:    bind("", "", "shift+up"),
	selectDown:  bind("", "", "shift+down"),

	selectWordLeft:  bind("", "", "ctrl+shift+left"),
	selectWordRight: bind("", "", "ctrl+shift+right"),

	cutOut:   bind("ctrl+x ctrl+v", "cut, put in", "ctrl+x"),
	copyOut:  bind("alt+c", "copy", "alt+c"),
	putIn:    bind("", "", "ctrl+v"),
	bracket:  bind("ctrl+b", "the bracket that belongs to this one", "ctrl+b"),
	seek:     bind("ctrl+f", "find", "ctrl+f"),
	exchange: bind("ctrl+r", "replace", "ctrl+r"),
	unindent: bind("", "", "shift+tab"),
	indent:   bind("tab", "a tab", "tab"),

	digits: digits(),
}

// bind declares a key: how it is written, what it does, and its names in the terminal. One
// without words goes with the one before it.
func bind(written, does string, names ...string) key.Binding {
	return key.NewBinding(key.WithKeys(names...), key.WithHelp(written, does))
}

func digits() (d [10]key.Binding) {
	for i := range d {
		d[i] = bind("", "", fmt.Sprint(i))
	}
	return d
}

// as is a key with what it does in one place.
func as(b key.Binding, does string) key.Binding {
	if does != "" {
		b.SetHelp(b.Help().Key, does)
	}
	return b
}

// written is a key under another name.
func written(b key.Binding, name, does string) key.Binding {
	b.SetHelp(name, does)
	return b
}

// Section is the keys of one place.
type Section struct {
	Name  string
	right bool // it stands at the right where there is room
	Keys  []key.Binding
}

// KeySections lists every key and what it does, place by place: for ?, the README and the manual.
func KeySections() []Section {
	return []Section{
		{"everywhere", false, []key.Binding{keys.next, as(keys.back, "the step before"), as(keys.help, "this list"),
			written(keys.up, "↑ ↓ pgup pgdn", "scroll; so does the mouse wheel"),
			as(keys.stop, "cancel what runs, or quit"), as(keys.quit, "quit; safe at any time"), keys.suspend,
			as(keys.yes, "agree, where a question is asked"), keys.history,
			as(keys.logbook, "what was done here, to be told and undone"),
			as(keys.annotate, "on a file: who wrote its lines"), as(keys.picture, "draw what is shown, to a file")}},
		{"Look", false, []key.Binding{as(keys.next, "choose a way to join, or go straight on"),
			as(keys.fetch, "ask the remote again"),
			as(keys.undo, "undo a join that is not pushed yet"), keys.drop, as(keys.driver, "let a merge driver run"),
			as(keys.aside, "have what is in the way moved aside"),
			as(keys.carry, "carry uncommitted work, or leave it")}},
		{"Choose", false, []key.Binding{as(keys.left, "the one way, the other"), as(keys.next, "take this way")}},
		{"Settle", true, []key.Binding{written(keys.up, "↑ ↓ or 1–9", "mark a way; the result shows it at once"),
			as(keys.next, "settle it by the marked way"), as(keys.write, "write the place yourself"),
			written(keys.following, "tab shift+tab", "the next conflict, or change in a file"),
			as(keys.list, "the list: a number is a conflict, enter reads"),
			as(keys.views, "edits, result, texts, or all together"), written(keys.pageUp, "pgup pgdn",
				"scroll the result"),
			as(keys.take, "edit by edit: take or leave each"), as(keys.alike, "settle many alike, seen first"),
			keys.colleague,
			keys.yourCommit, as(keys.aside, "put it aside, with a reason"), as(keys.undo, "undo the last decision"),
			as(keys.redoTyping, "make it again"), as(keys.drop, "forget how it was settled before"),
			as(keys.output, "open both in a viewer, what is no text")}},
		{"the road", true, []key.Binding{as(keys.road, "your commits, on Settle, Check, Push"),
			written(keys.up, "↑ ↓ then 1–3", "a commit, what becomes of it"),
			as(keys.next, "apply it, or go to its conflict"), as(keys.write, "write its message"),
			as(keys.list, "edit its files")}},
		{"writing", true, []key.Binding{as(keys.save, "keep what you wrote"), as(keys.back, "leave without keeping it"),
			as(keys.adopt, "take a single edit of either side over"), keys.ownEditor,
			written(keys.undoTyping, "ctrl+z ctrl+y", "undo, redo"), as(keys.deleteLine,
				"delete the line"),
			keys.wordLeft, keys.selectLeft, keys.cutOut, keys.copyOut, keys.seek, keys.exchange, keys.bracket}},
		{"Check", true, []key.Binding{as(keys.next, "run it; mend the marked error; go on"),
			as(keys.up, "the error before, the next"),
			as(keys.install, "install what the project depends on, then check"),
			as(keys.try, "a shell in the joined code, before anything is accepted"),
			as(keys.each, "check every commit that is made again"), as(keys.pair, "find the two commits that collide"),
			as(keys.colleague, "write to whose the other is"),
			as(keys.origin, "back to the conflict that an error comes from"),
			as(keys.take, "take the mends that are certain"), keys.again, as(keys.output, "the whole output"),
			as(keys.undo, "undo the last mend"),
			as(keys.write, "type a command to check by"), as(keys.skip, "go on although nothing proves that it "+
				"works")}},
		{"History", true, []key.Binding{as(keys.next, "look at a commit, its files, their changes"),
			as(keys.find, "find by words, by:NAME, in:PATH, since:DATE"),
			as(keys.left, "the last recovery, where the lines part"),
			keys.compare, keys.take, as(keys.pick, "pick the marked ones")}},
		{"the logbook", true, []key.Binding{as(keys.next, "what was decided"), as(keys.undo, "go back before an entry"),
			as(keys.pick, "take it back by a new commit"), as(keys.views, "what differs from now"),
			as(keys.drop, "clean old waypoints")}},
		{"the demo", true, []key.Binding{as(keys.teammates, "the teammates: have one pull; play from their side"),
			keys.anew}},
		{"Push", false, []key.Binding{as(keys.next, "join here and push; never forced"), keys.branch,
			as(keys.aside, "have what is in the way moved aside"),
			as(keys.undo, "undo the join, until it is pushed"), keys.others}},
	}
}

// Title is the name of a section as the head of a list.
func (s Section) Title() string { return strings.ToUpper(s.Name[:1]) + s.Name[1:] }
