package tui

import (
	"fmt"
	"strings"

	"charm.land/bubbles/v2/key"
)

// keyMap are all keys there are. Each does one thing, whatever the screen; what that comes to
// on a screen is said by the screen's action.
var keyMap = struct {
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

// Keys lists every key and what it does, place by place: for ?, the README and the manual.
func Keys() []Section {
	return []Section{
		{"everywhere", false, []key.Binding{keyMap.next, as(keyMap.back, "the step before"), as(keyMap.help, "this list"),
			written(keyMap.up, "↑ ↓ pgup pgdn", "scroll; so does the mouse wheel"),
			as(keyMap.stop, "cancel what runs, or quit"), as(keyMap.quit, "quit; safe at any time"), keyMap.suspend,
			as(keyMap.yes, "agree, where a question is asked"), keyMap.history,
			as(keyMap.logbook, "what was done here, to be told and undone"),
			as(keyMap.annotate, "on a file: who wrote its lines"), as(keyMap.picture, "draw what is shown, to a file")}},
		{"Look", false, []key.Binding{as(keyMap.next, "choose a way to join, or go straight on"),
			as(keyMap.fetch, "ask the remote again"),
			as(keyMap.undo, "undo a join that is not pushed yet"), keyMap.drop, as(keyMap.driver, "let a merge driver run"),
			as(keyMap.aside, "have what is in the way moved aside"),
			as(keyMap.carry, "carry uncommitted work, or leave it")}},
		{"Choose", false, []key.Binding{as(keyMap.left, "the one way, the other"), as(keyMap.next, "take this way")}},
		{"Settle", true, []key.Binding{written(keyMap.up, "↑ ↓ or 1–9", "mark a way; the result shows it at once"),
			as(keyMap.next, "settle it by the marked way"), as(keyMap.write, "write the place yourself"),
			written(keyMap.following, "tab shift+tab", "the next conflict, or change in a file"),
			as(keyMap.list, "the list: a number is a conflict, enter reads"),
			as(keyMap.views, "edits, result, texts, or all together"), written(keyMap.pageUp, "pgup pgdn",
				"scroll the result"),
			as(keyMap.take, "edit by edit: take or leave each"), as(keyMap.alike, "settle many alike, seen first"),
			keyMap.colleague,
			keyMap.yourCommit, as(keyMap.aside, "put it aside, with a reason"), as(keyMap.undo, "undo the last decision"),
			as(keyMap.redoTyping, "make it again"), as(keyMap.drop, "forget how it was settled before"),
			as(keyMap.output, "open both in a viewer, what is no text")}},
		{"the road", true, []key.Binding{as(keyMap.road, "your commits, on Settle, Check, Push"),
			written(keyMap.up, "↑ ↓ then 1–3", "a commit, what becomes of it"),
			as(keyMap.next, "apply it, or go to its conflict"), as(keyMap.write, "write its message"),
			as(keyMap.list, "edit its files")}},
		{"writing", true, []key.Binding{as(keyMap.save, "keep what you wrote"), as(keyMap.back, "leave without keeping it"),
			as(keyMap.adopt, "take a single edit of either side over"), keyMap.ownEditor,
			written(keyMap.undoTyping, "ctrl+z ctrl+y", "undo, redo"), as(keyMap.deleteLine,
				"delete the line"),
			keyMap.wordLeft, keyMap.selectLeft, keyMap.cutOut, keyMap.copyOut, keyMap.seek, keyMap.exchange, keyMap.bracket}},
		{"Check", true, []key.Binding{as(keyMap.next, "run it; mend the marked error; go on"),
			as(keyMap.up, "the error before, the next"),
			as(keyMap.install, "install what the project depends on, then check"),
			as(keyMap.try, "a shell in the joined code, before anything is accepted"),
			as(keyMap.each, "check every commit that is made again"), as(keyMap.pair, "find the two commits that collide"),
			as(keyMap.colleague, "write to whose the other is"),
			as(keyMap.origin, "back to the conflict that an error comes from"),
			as(keyMap.take, "take the mends that are certain"), keyMap.again, as(keyMap.output, "the whole output"),
			as(keyMap.undo, "undo the last mend"),
			as(keyMap.write, "type a command to check by"), as(keyMap.skip, "go on although nothing proves that it "+
				"works")}},
		{"History", true, []key.Binding{as(keyMap.next, "look at a commit, its files, their changes"),
			as(keyMap.find, "find by words, by:NAME, in:PATH, since:DATE"),
			as(keyMap.left, "the last recovery, where the lines part"),
			keyMap.compare, keyMap.take, as(keyMap.pick, "pick the marked ones")}},
		{"the logbook", true, []key.Binding{as(keyMap.next, "what was decided"), as(keyMap.undo, "go back before an entry"),
			as(keyMap.pick, "take it back by a new commit"), as(keyMap.views, "what differs from now"),
			as(keyMap.drop, "clean old waypoints")}},
		{"the demo", true, []key.Binding{as(keyMap.teammates, "the teammates: have one pull; play from their side"),
			keyMap.anew}},
		{"Push", false, []key.Binding{as(keyMap.next, "join here and push; never forced"), keyMap.branch,
			as(keyMap.aside, "have what is in the way moved aside"),
			as(keyMap.undo, "undo the join, until it is pushed"), keyMap.others}},
	}
}

// Title is the name of a section as the head of a list.
func (s Section) Title() string { return strings.ToUpper(s.Name[:1]) + s.Name[1:] }
