package misfit

import (
	"path"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/rx"
)

// common lists names that so many types have that their use on an unknown value says nothing.
var common = map[string]bool{"open": true, "close": true, "get": true, "set": true, "add": true, "run": true,
	"start": true,
	"stop":  true, "name": true, "read": true, "write": true, "update": true, "remove": true, "delete": true,
	"find": true,
	"size": true, "length": true, "value": true, "key": true, "keys": true, "data": true, "type": true, "init": true,
	"next": true, "push": true, "pop": true, "insert": true, "clear": true, "count": true, "index": true, "items": true,
	"send": true, "print": true, "log": true, "parse": true, "load": true, "save": true, "call": true, "apply": true,
	"bind": true, "map": true, "filter": true, "join": true, "split": true, "format": true, "test": true, "check": true,
	"exec": true, "end": true, "begin": true, "reset": true, "text": true, "title": true, "state": true, "status": true,
	"error": true, "result": true, "message": true, "path": true, "url": true, "list": true, "first": true,
	"last":   true,
	"append": true, "extend": true, "contains": true, "equals": true, "toString": true, "copy": true, "render": true,
	"show": true, "hide": true, "connect": true, "request": true, "response": true, "process": true, "handle": true}

// byMember lists the language families in which a type's own members are used without a qualifier.
var byMember = []string{"java", "c", "ruby", "swift"}

// global lists the language families in which names of other files need no import.
var global = []string{"c", "make", "shell", "ruby", "sql", "java", "swift", "proto", "cmake", "lua", "php"}

// refersTo reports whether a line, without comments and strings, that contains the lost name means that definition.
func (l *loss) refersTo(one *file, line string) bool {
	name, member := l.def.name, l.def.in != ""
	for lo := range occurrences(line, name) {
		before := strings.TrimRight(line[:lo], " \t")
		qualified := strings.HasSuffix(before, ".") || strings.HasSuffix(before, "->") || strings.HasSuffix(before,
			"::")
		switch {
		case member && qualified && !common[name],
			member && !qualified && slices.Contains(byMember, l.lang.family),
			!member && qualified && l.isOf(one, before),
			!member && !qualified && l.known(one):
			return true
		}
	}
	return false
}

var lastWord = rx.New(`(\w+)\W*$`)

// isOf reports whether the qualifier before a name is the file that defined it.
func (l *loss) isOf(one *file, before string) bool {
	if slices.Contains([]string{"java", "c", "php", "swift"}, l.lang.family) {
		return true
	}
	m := lastWord.FindStringSubmatch(before)
	if m == nil {
		return false
	}
	stem := strings.TrimSuffix(path.Base(l.path), path.Ext(l.path))
	if m[1] == stem || l.lang.family == "go" && m[1] == path.Base(path.Dir(l.path)) {
		return true
	}
	for _, text := range one.to { // the text is there under another name
		if strings.Contains(text, stem) && HasWord(text, m[1]) && importing(text) {
			return true
		}
	}
	return false
}

// known reports whether a file can use a name of another file without a qualifier.
func (l *loss) known(one *file) bool {
	if one.path == l.path || slices.Contains(global, l.lang.family) {
		return true
	}
	if l.lang.family == "go" {
		return path.Dir(one.path) == path.Dir(l.path)
	}
	stem := strings.TrimSuffix(path.Base(l.path), path.Ext(l.path))
	for i, text := range one.to {
		if !importing(text) && !strings.Contains(text, "from ") {
			continue
		}
		// An import can span lines, with the file on the first or the last.
		whole := strings.Join(one.to[max(0, i-12):min(len(one.to), i+12)], " ")
		if (HasWord(text, l.def.name) || strings.Contains(text, "*") || strings.ContainsAny(text, "{(}")) &&
			HasWord(whole, stem) && (HasWord(whole, l.def.name) || strings.Contains(text, "*")) {
			return true
		}
	}
	return false
}
