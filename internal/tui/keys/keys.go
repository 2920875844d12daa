// Package keys is the table of all keys: how each is written on the screen, what it does, and its names in the
// terminal. An action of a screen says what its key does there.
package keys

import (
	"fmt"
	"slices"
	"strings"

	"charm.land/bubbles/v2/key"
)

// declared holds every key of the screens, and every key of the editor. No key of a list has two meanings.
var declared struct{ screens, editor []key.Binding }

// The keys of the screens. Each does one thing on every screen. A key without words goes with the one before it.
var (
	Next    = bind("enter", "the next step", "enter")
	Back    = bind("esc", "back", "esc")
	Help    = bind("?", "all keys", "?")
	Quit    = bind("q", "quit", "q")
	Stop    = bind("ctrl+c", "cancel what runs, or quit", "ctrl+c")
	Suspend = bind("ctrl+z", "back to the shell for now; fg returns", "ctrl+z")

	Yes = bind("y", "yes", "y")

	Up       = bind("↑↓", "up, down", "up")
	Down     = bind("", "", "down")
	PageUp   = bind("pgup pgdn", "scroll", "pgup")
	PageDown = bind("", "", "pgdown", "space")
	Top      = bind("home end", "to the start, to the end", "home")
	Bottom   = bind("", "", "end")

	Following = bind("tab", "the next", "tab")
	Previous  = bind("shift+tab", "the one before", "shift+tab")
	Left      = bind("←→", "the other", "left")
	Right     = bind("", "", "right")

	Fetch  = bind("f", "fetch", "f")
	Driver = bind("d", "merge driver", "d")
	Aside  = bind("m", "move it aside", "m")
	Drop   = bind("x", "drop the pick", "x")
	Undo   = bind("u", "undo", "u")

	Write = bind("w", "write it", "w")
	Views = bind("v", "more of it", "v")
	List  = bind("j", "the list", "j")
	Alike = bind("+", "many at once", "+")

	YourCommit  = bind("< >", "the commit of yours, of theirs", "<")
	TheirCommit = bind("", "", ">")
	Install     = bind("%", "install first", "%")
	Try         = bind("!", "try it", "!")
	Each        = bind("#", "check each commit", "#")
	Pair        = bind("*", "find the two commits that collide", "*")
	Colleague   = bind("@", "ask who made the other side", "@")

	Always = bind("&", "always, from these people", "&")
	Origin = bind("-", "the conflict it comes from", "-")

	Output = bind("o", "whole output", "o")
	Again  = bind("r", "run again", "r")
	Skip   = bind("s", "go on without…", "s")
	Branch = bind("b", "join on your branch, push later", "b")

	History  = bind("h", "history", "h")
	Annotate = bind("a", "lines and their authors", "a")
	Find     = bind("/", "find", "/")
	Compare  = bind("c", "compare branches", "c")
	Take     = bind("t", "take it, or leave it", "t")
	Pick     = bind("g", "go and pick the marked", "g")
	Others   = bind("e", "what everyone else gets", "e")
	Picture  = bind("p", "picture", "p")

	ExchangeIt = bind("=", "exchange what the remote has", "=")

	Commit  = bind(",", "commit uncommitted work", ",")
	Through = bind(".", "join, check and push, as long as nothing asks", ".")
	Forward = bind("^", "put the branch forward into another one", "^")

	Proposals = bind("P", "branches put forward at the remote", "P")

	Logbook = bind("l", "logbook", "l")
	Road    = bind("n", "your commits, one by one", "n")
	Carry   = bind("k", "carry your uncommitted work along", "k")

	Teammates = bind("i", "the teammates' clones", "i")
	Anew      = bind("z", "begin the demo again", "z")

	Digits = tenDigits()
)

// The keys of the editor, where letters are typed.
var (
	CursorLeft   = typing("← →", "character by character", "left")
	CursorRight  = typing("", "", "right")
	PageDownOnly = typing("", "", "pgdown") // for screens on which a blank can be typed

	Adopt       = typing("ctrl+t", "take an edit over", "ctrl+t")
	WholeFile   = typing("ctrl+g", "the whole file", "ctrl+g")
	OwnEditor   = typing("ctrl+o", "your editor", "ctrl+o")
	Save        = typing("ctrl+s", "keep this", "ctrl+s")
	UndoTyping  = typing("ctrl+z", "undo", "ctrl+z")
	RedoTyping  = typing("ctrl+y", "redo", "ctrl+y", "ctrl+shift+z")
	DeleteLine  = typing("ctrl+k", "delete line", "ctrl+k")
	Newline     = typing("enter", "a new line", "enter")
	Backspace   = typing("backspace", "delete", "backspace")
	DeleteRight = typing("delete", "delete to the right", "delete")
	LineStart   = typing("home", "start of the line", "home", "ctrl+a")
	LineEnd     = typing("end", "end of the line", "end", "ctrl+e")
	WordLeft    = typing("ctrl+← ctrl+→", "word by word", "ctrl+left", "alt+left", "alt+b")
	WordRight   = typing("", "", "ctrl+right", "alt+right", "alt+f")
	TextStart   = typing("ctrl+home ctrl+end", "start and end of the text", "ctrl+home")
	TextEnd     = typing("", "", "ctrl+end")
	SelectLeft  = typing("shift+←→↑↓", "select", "shift+left")
	SelectRight = typing("", "", "shift+right")
	SelectUp    = typing("", "", "shift+up")
	SelectDown  = typing("", "", "shift+down")

	SelectWordLeft  = typing("", "", "ctrl+shift+left")
	SelectWordRight = typing("", "", "ctrl+shift+right")

	CutOut   = typing("ctrl+x ctrl+v", "cut, put in", "ctrl+x")
	CopyOut  = typing("alt+c", "copy", "alt+c")
	PutIn    = typing("", "", "ctrl+v")
	Bracket  = typing("ctrl+b", "the bracket that belongs to this one", "ctrl+b")
	Seek     = typing("ctrl+f", "find", "ctrl+f")
	Exchange = typing("ctrl+r", "replace", "ctrl+r")
	Unindent = typing("", "", "shift+tab")
	Indent   = typing("tab", "a tab", "tab")
)

// bind declares a key of the screens: how it is written, what it does, and its names in the terminal.
func bind(written, does string, names ...string) key.Binding {
	b := key.NewBinding(key.WithKeys(names...), key.WithHelp(written, does))
	declared.screens = append(declared.screens, b)
	return b
}

// typing declares a key of the editor.
func typing(written, does string, names ...string) key.Binding {
	b := key.NewBinding(key.WithKeys(names...), key.WithHelp(written, does))
	declared.editor = append(declared.editor, b)
	return b
}

// Free returns the characters of an ASCII keyboard that no screen uses, for a new key.
func Free() (free []string) {
	for c := '!'; c <= '~'; c++ {
		taken := slices.ContainsFunc(declared.screens, func(b key.Binding) bool {
			return slices.Contains(b.Keys(), string(c))
		})
		if !taken {
			free = append(free, string(c))
		}
	}
	return free
}

// tenDigits declares the digits, which go with other keys.
func tenDigits() (d [10]key.Binding) {
	for i := range d {
		d[i] = bind("", "", fmt.Sprint(i))
	}
	return d
}

// As returns a key with what it does in one place; empty words leave it as it is.
func As(b key.Binding, does string) key.Binding {
	if does != "" {
		b.SetHelp(b.Help().Key, does)
	}
	return b
}

// Written returns a key that is written in another way on the screen, with what it does.
func Written(b key.Binding, name, does string) key.Binding {
	b.SetHelp(name, does)
	return b
}

// Section holds the keys of one place, for a list.
type Section struct {
	Name  string
	Right bool // shown in the right column of the help
	Keys  []key.Binding
}

// Sections lists every key and what it does, place by place: for ?, the README and the manual.
func Sections() []Section {
	return []Section{
		{"everywhere", false, []key.Binding{Next, As(Back, "the step before"), As(Help, "this list"),
			Written(Up, "↑ ↓ pgup pgdn", "scroll; so does the mouse wheel"),
			As(Stop, "cancel what runs, or quit"), As(Quit, "quit; safe at any time"), Suspend, History,
			As(Yes, "agree, where a question is asked"),
			As(Logbook, "what was done here, with undo"),
			As(Annotate, "on a file: who wrote its lines"), As(Picture, "draw what is shown, to a file")}},
		{"Look", false, lookKeys()},
		{"Choose", false, []key.Binding{As(Left, "the one way, the other"), As(Next, "take this way")}},
		{"Settle", true, []key.Binding{Written(Up, "↑ ↓ or 1–9", "mark a way; the result shows it at once"),
			As(Next, "settle it by the marked way"), As(Write, "write the place yourself"),
			Written(Following, "tab shift+tab", "the next conflict, or change in a file"),
			As(List, "the list: a number is a conflict, enter reads"),
			As(Views, "edits, result, texts, or all together"), Written(PageUp, "pgup pgdn",
				"scroll the result"),
			As(Take, "edit by edit: take or leave each"), As(Alike, "settle many alike, seen first"),
			Colleague,
			YourCommit, As(Aside, "put it aside, with a reason"), As(Undo, "undo the last decision"),
			As(RedoTyping, "make it again"), As(Drop, "forget the earlier decision"),
			As(Output, "open both in a viewer, what is no text")}},
		{"the road", true, []key.Binding{As(Road, "your commits, on Settle, Check, Push"),
			Written(Up, "↑ ↓ then 1–3", "a commit, then its outcome"),
			As(Next, "apply it, or go to its conflict"), As(Write, "write its message"),
			As(List, "edit its files")}},
		{"writing", true, []key.Binding{As(Save, "keep what you wrote"), As(Back, "leave without keeping it"),
			As(Adopt, "take a single edit over; in a message, name a task"),
			As(WholeFile, "from a place to the whole file"), As(OwnEditor, "your own editor"),
			Written(UndoTyping, "ctrl+z ctrl+y", "undo, redo"), As(DeleteLine,
				"delete the line"),
			WordLeft, SelectLeft, CutOut, CopyOut, Seek, Exchange, Bracket}},
		{"Check", true, []key.Binding{As(Next, "run it; mend the marked error; go on"),
			As(Up, "the error before, the next"),
			As(Install, "install what the project depends on, then check"),
			As(Try, "a shell, or dorvik.run, in the joined code, before anything is accepted"),
			As(Each, "check every replayed commit"), As(Pair, "find the two commits that collide"),
			As(Colleague, "write to whose the other is"),
			As(Origin, "back to the conflict that an error comes from"),
			As(Take, "take the mends that are certain"), Again, As(Output, "the whole output"),
			As(Undo, "undo the last mend"),
			As(Write, "type a command to check by"), As(Skip, "go on although nothing proves that it "+
				"works")}},
		{"History", true, []key.Binding{As(Next, "look at a commit, its files, their changes"),
			As(Find, "find by words, by:NAME, in:PATH, since:DATE"),
			As(Left, "the last recovery, where the lines part"),
			Compare, Take, As(Pick, "pick the marked ones")}},
		{"the logbook", true, []key.Binding{As(Next, "what was decided"), As(Undo, "go back before an entry"),
			As(Pick, "take it back by a new commit"), As(Views, "what differs from now"),
			As(Drop, "clean old waypoints")}},
		{"the demo", true, []key.Binding{As(Teammates, "the teammates: let one pull; play from their side"),
			Anew}},
		{"Push", false, []key.Binding{As(Next, "join here and push; never forced"), Branch,
			As(Write, "write the message of the commit"),
			As(Aside, "move aside what is in the way"), As(Take, "push tags that belong, too"),
			As(Again, "push though it was refused before"),
			As(Undo, "undo the join, until it is pushed"), Others}},
	}
}

func lookKeys() []key.Binding {
	return []key.Binding{As(Next, "choose a way to join, or the next step"),
		As(Fetch, "ask the remote again"),
		As(Compare, "join with another line: a branch, a tag, an address"),
		As(Commit, "commit your work: files, or single edits"),
		As(Colleague, "ask who holds a lock"),
		As(Through, "all of it, stopping at the first thing that asks"),
		As(Forward, "put the branch forward: move another one to here"),
		As(Proposals, "branches put forward by others, and by you"),
		As(ExchangeIt, "exchange your own commits there for those here"),
		As(Undo, "undo a join that is not pushed yet"), As(Drop, "drop the pick, or the other line"),
		As(Driver, "let a merge driver run"), As(Aside, "move aside what is in the way"),
		As(Carry, "carry uncommitted work, or leave it")}
}

// Title is the name of a section as the head of a list.
func (s Section) Title() string { return strings.ToUpper(s.Name[:1]) + s.Name[1:] }
