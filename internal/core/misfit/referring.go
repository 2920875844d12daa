package misfit

import (
	"path"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/rx"
)

// common are names that so many things have that one on something unknown says nothing.
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

// byMember are the families in which a member of one's own type is named without saying of what.
var byMember = []string{"java", "c", "ruby", "swift"}

// global are the families in which a name of another file is known without importing it.
var global = []string{"c", "make", "shell", "ruby", "sql", "java", "swift", "proto", "cmake", "lua", "php"}

// refersTo reports whether a line, without comments and strings, that has the name of what is lost means just that.
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

// isOf reports whether what stands before a sign is the file that a name was defined in.
func (l *loss) isOf(one *file, before string) bool {
	if slices.Contains([]string{"java", "c", "php", "swift"}, l.lang.family) {
		return true
	}
	m := lastWord.FindStringSubmatch(before)
	if m == nil {
		return false
	}
	stem := strings.TrimSuffix(path.Base(l.path), path.Ext(l.path))
	if m[1] == stem {
		return true
	}
	for _, text := range one.to { // under another name
		if strings.Contains(text, stem) && hasWord(text, m[1]) && importing(text) {
			return true
		}
	}
	return false
}

// known reports whether a file knows a name of another without saying of what.
func (l *loss) known(one *file) bool {
	if one.path == l.path || slices.Contains(global, l.lang.family) {
		return true
	}
	stem := strings.TrimSuffix(path.Base(l.path), path.Ext(l.path))
	for i, text := range one.to {
		if !importing(text) && !strings.Contains(text, "from ") {
			continue
		}
		// An import may go over lines, and name its file on the first or on the last.
		whole := strings.Join(one.to[max(0, i-12):min(len(one.to), i+12)], " ")
		if (hasWord(text, l.def.name) || strings.Contains(text, "*") || strings.ContainsAny(text, "{(}")) &&
			hasWord(whole, stem) && (hasWord(whole, l.def.name) || strings.Contains(text, "*")) {
			return true
		}
	}
	return false
}
