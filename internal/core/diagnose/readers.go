package diagnose

import (
	"strconv"
	"strings"

	"dorvik.dev/dorvik/internal/core/rx"
)

// reader parses one tool's message that begins at a line; n is its number of lines. ok is false if it is no message of
// that tool.
type reader func(lines []string, at int) (p Place, n int, ok bool)

// readers are tried in this order. The general form is last.
var readers = []reader{python, pytestFrames, asserted, rustc, cmake, maven, kotlin, typescript, makefile, listed,
	nodeError, nodeThrow, junit, general}

// escapes matches the control sequences of terminals (ECMA-48).
var escapes = rx.New(`\x1b\[[0-9;:?]*[ -/]*[@-~]|\x1b\][^\x07\x1b]*(?:\x07|\x1b\\)`)

// plain returns a line without control sequences.
func plain(l string) string {
	if strings.Contains(l, "\x1b") {
		l = escapes.ReplaceAllString(l, "")
	}
	if i := strings.LastIndexByte(strings.TrimRight(l, "\r"), '\r'); i >= 0 { // a progress line that was overwritten
		l = l[i+1:]
	}
	return strings.TrimRight(task.ReplaceAllString(l, "/"), "\r")
}

// task matches what an older Gradle writes in front of the first line of a compiler.
var task = rx.New(`^(?::\w+)+/`)

func number(s string) int {
	n, _ := strconv.Atoi(s)
	return n
}

// placeLine is `file:line:col: text` or `file:line: text`, as Go, gcc, clang, javac, ruby, php and many others write
// it. go vet puts "vet: " before it; go test indents it.
var placeLine = rx.New(`^\s*(?:vet: )?((?:[A-Za-z]:[\\/])?[^\s:][^:]*):(\d+)(?::(\d+))?:\s+(.*\S)`)

// general parses placeLine. It skips warnings and notes of compilers.
func general(lines []string, at int) (Place, int, bool) {
	m := placeLine.FindStringSubmatch(lines[at])
	if m == nil || strings.HasPrefix(m[4], "warning:") || strings.HasPrefix(m[4], "note:") {
		return Place{}, 0, false
	}
	text := strings.TrimPrefix(strings.TrimPrefix(m[4], "fatal error: "), "error: ")
	return Place{m[1], number(m[2]), number(m[3]), text}, 1, true
}

var (
	pyFrame = rx.New(`^\s*File "([^"]+)", line (\d+)`)
	pyError = rx.New(`^(?:E\s+)?((?:\w+\.)*\w*(?:Error|Exception|Warning|Exit|Interrupt|Failure)\b.*)`)
)

// python parses a traceback. The place is the innermost, which stands last; the text is the final line. A syntax error
// has one place.
func python(lines []string, at int) (p Place, n int, ok bool) {
	m := pyFrame.FindStringSubmatch(lines[at])
	if m == nil {
		return p, 0, false
	}
	for i := at; i < len(lines) && i < at+200; i++ {
		if f := pyFrame.FindStringSubmatch(lines[i]); f != nil {
			m = f
		} else if e := pyError.FindStringSubmatch(lines[i]); e != nil {
			return Place{m[1], number(m[2]), 0, e[1]}, i - at + 1, true
		}
	}
	return p, 0, false
}

var (
	pytestFrame = rx.New(`^(\S+\.py):(\d+): in \S+$`)
	assertion   = rx.New(`^\S+: ([^\s:]+):(\d+): (?:.+: )?(Assertion .+ failed\.)$`)
)

// pytestFrames parses pytest's report of tests that it could not load: frames, the innermost last, and the error.
func pytestFrames(lines []string, at int) (p Place, n int, ok bool) {
	m := pytestFrame.FindStringSubmatch(lines[at])
	if m == nil {
		return p, 0, false
	}
	for i := at + 1; i < len(lines) && i < at+200; i++ {
		if f := pytestFrame.FindStringSubmatch(lines[i]); f != nil {
			m = f
		} else if e := pytestWhy.FindStringSubmatch(lines[i]); e != nil {
			return Place{m[1], number(m[2]), 0, e[1]}, i - at + 1, true
		}
	}
	return p, 0, false
}

// asserted parses the C library's message about a failed assertion.
func asserted(lines []string, at int) (Place, int, bool) {
	m := assertion.FindStringSubmatch(lines[at])
	if m == nil {
		return Place{}, 0, false
	}
	return Place{m[1], number(m[2]), 0, m[3]}, 1, true
}

// frames returns all places of a traceback, the innermost first. If that is outside the project the next one may not
// be.
func frames(lines []string, at, n int) (out [][2]string) {
	for _, l := range lines[at : at+n] {
		m := pyFrame.FindStringSubmatch(l)
		if m == nil {
			m = pytestFrame.FindStringSubmatch(l)
		}
		if m != nil {
			out = append([][2]string{{m[1], m[2]}}, out...)
		} else if m := junitLine.FindStringSubmatch(l); m != nil {
			out = append(out, [2]string{m[1], m[2]})
		} else if m := dotnetFrame.FindStringSubmatch(l); m != nil {
			out = append(out, [2]string{m[1], m[2]})
		} else if m := nodeFrame.FindStringSubmatch(l); m != nil {
			out = append(out, [2]string{m[1], m[2]})
		}
	}
	return out
}

var (
	rustHead  = rx.New(`^error(?:\[E\d+\])?: (.+)`)
	rustPlace = rx.New(`^\s*--> (.+):(\d+):(\d+)$`)
	rustPanic = rx.New(`^thread '.*' (?:\(\d+\) )?panicked at (?:'.*', )?([^:']+):(\d+):(\d+):?$`)
)

// rustc parses an error of the compiler, whose place is on a later line, and a panic of a test.
func rustc(lines []string, at int) (p Place, n int, ok bool) {
	if m := rustPanic.FindStringSubmatch(lines[at]); m != nil {
		p, n = Place{m[1], number(m[2]), number(m[3]), "panicked"}, 1
		if at+1 < len(lines) && strings.TrimSpace(lines[at+1]) != "" {
			p.Text, n = strings.TrimSpace(lines[at+1]), 2
		}
		return p, n, true
	}
	m := rustHead.FindStringSubmatch(lines[at])
	if m == nil {
		return p, 0, false
	}
	for i := at + 1; i < len(lines) && i < at+4; i++ {
		if w := rustPlace.FindStringSubmatch(lines[i]); w != nil {
			return Place{w[1], number(w[2]), number(w[3]), m[1]}, i - at + 1, true
		}
	}
	return p, 0, false
}

var cmakeHead = rx.New(`^CMake Error at ([^:]+):(\d+)(?: \((.+)\))?:?$`)

// cmake parses an error of CMake, whose message is indented below it.
func cmake(lines []string, at int) (p Place, n int, ok bool) {
	m := cmakeHead.FindStringSubmatch(lines[at])
	if m == nil {
		return p, 0, false
	}
	p = Place{m[1], number(m[2]), 0, m[3]}
	for n = 1; at+n < len(lines) && n < 8; n++ {
		if l := strings.TrimSpace(lines[at+n]); l != "" {
			p.Text = l
			return p, n + 1, true
		}
	}
	return p, 1, true
}

var (
	mavenLine  = rx.New(`^\[ERROR\]\s+(.+\.\w+):\[(\d+),(\d+)\]\s+(?:error: )?(.+)`)
	kotlinLine = rx.New(`^e: (?:file://)?(\S+\.kts?):(\d+):(\d+):?\s+(.+)`)
	tsPretty   = rx.New(`^(\S+):(\d+):(\d+) - error (TS\d+: .+)`)
	makeLine   = rx.New(`^([\w./-]*[Mm]akefile|[\w./-]+\.mk):(\d+): \*\*\* (.+?)\.?(?:\s+Stop\.)?$`)
	junitLine  = rx.New(`^\s+at .*\(([\w/]+\.(?:java|kt|scala|groovy)):(\d+)\)`)
	javaThrown = rx.New(`^(?:Exception in thread "[^"]*" )?((?:\w+\.)+\w*(?:Error|Exception|Failure)\b.*)`)
)

func fields(m []string) (Place, int, bool) {
	if m == nil {
		return Place{}, 0, false
	}
	return Place{m[1], number(m[2]), number(m[3]), m[4]}, 1, true
}

func maven(lines []string, at int) (Place, int, bool) {
	return fields(mavenLine.FindStringSubmatch(lines[at]))
}

func kotlin(lines []string, at int) (Place, int, bool) {
	return fields(kotlinLine.FindStringSubmatch(lines[at]))
}

// typescript parses tsc's output to terminals.
func typescript(lines []string, at int) (Place, int, bool) {
	return fields(tsPretty.FindStringSubmatch(lines[at]))
}

func makefile(lines []string, at int) (Place, int, bool) {
	m := makeLine.FindStringSubmatch(lines[at])
	if m == nil {
		return Place{}, 0, false
	}
	return Place{m[1], number(m[2]), 0, m[3]}, 1, true
}

var (
	nodePlace  = rx.New(`^(?:file://)?(/?\S+\.[cm]?[jt]sx?):(\d+)$`)
	nodeThrown = rx.New(`^(\w*(?:Error|Exception)\b.*)`)
)

// nodeError parses node's report of a program that an error ended: the place, the line with a mark below it, and the
// error.
func nodeError(lines []string, at int) (p Place, n int, ok bool) {
	m := nodePlace.FindStringSubmatch(lines[at])
	if m == nil {
		return p, 0, false
	}
	for i := at + 1; i < len(lines) && i < at+8; i++ {
		if e := nodeThrown.FindStringSubmatch(lines[i]); e != nil {
			col := 0
			if at+2 < i && strings.Trim(lines[at+2], " ^") == "" {
				col = strings.IndexByte(lines[at+2], '^') + 1
			}
			return Place{m[1], number(m[2]), col, e[1]}, i - at + 1, true
		}
	}
	return p, 0, false
}

var nodeFrame = rx.New(`^\s+at (?:.* \()?(?:file://)?(/?[^()]+?):(\d+):(\d+)\)?(?: \{)?$`)

// nodeThrow parses an error with its calls but without a place before them, as for a missing module.
func nodeThrow(lines []string, at int) (p Place, n int, ok bool) {
	m := nodeThrown.FindStringSubmatch(lines[at])
	if m == nil {
		return p, 0, false
	}
	for i := at + 1; i < len(lines) && i < at+40; i++ {
		f := nodeFrame.FindStringSubmatch(lines[i])
		if f == nil && p.Line > 0 {
			break
		}
		if f != nil {
			if n = i - at + 1; p.Line == 0 {
				p = Place{f[1], number(f[2]), number(f[3]), m[1]}
			}
		}
	}
	return p, n, p.Line > 0
}

// junit parses an exception of the Java machine. The place is the innermost of the project.
func junit(lines []string, at int) (p Place, n int, ok bool) {
	m := javaThrown.FindStringSubmatch(lines[at])
	if m == nil {
		return p, 0, false
	}
	for i := at + 1; i < len(lines) && i < at+60; i++ {
		w := junitLine.FindStringSubmatch(lines[i])
		if w == nil && p.Line > 0 {
			break
		}
		if w != nil {
			if n = i - at + 1; p.Line == 0 {
				p = Place{w[1], number(w[2]), 0, m[1]}
			}
		}
	}
	return p, n, p.Line > 0
}

var (
	eslintFile = rx.New(`^(/?\S+\.(?:[cm]?[jt]sx?|vue))$`)
	eslintRow  = rx.New(`^\s+(\d+):(\d+)\s+error\s+(.+?)(?:\s{2,}\S+)?$`)
	pytestRow  = rx.New(`^(\S+\.py):(\d+): (\w+(?:Error|Exception|Failure|Exit)\b.*)$`)
	pytestWhy  = rx.New(`^E\s+(.+)`)
)
