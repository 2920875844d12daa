package diagnose

import "dorvik.dev/dorvik/internal/core/rx"

// message is the form of a tool's message: parts that stand on lines below each other, others between them. The first
// is on the first line.
type message []part

// part is a line of a message. Each letter of has names what a group is: f the file, l the line, c the column, t the
// text.
type part struct {
	is  *rx.Expr
	has string
}

// mostBetween limits the lines from one part of a message to the next.
const mostBetween = 40

// messages lists forms that need no reader of their own.
var messages = []message{
	// .NET, MSVC, tsc into a file
	{{rx.New(`^(\S.*?)\((\d+)(?:,(\d+))?(?:,\d+,\d+)?\) ?: (?:fatal )?error (\w+\d+: .+?)(?: \[[^\[\]]+\])?$`),
		"flct"}},
	// dotnet test
	{{rx.New(`^\s+Error Message:$`), ""}, {rx.New(`^\s*(\S.*)`), "t"}, {dotnetFrame, "fl"}},
	// dart analyze, flutter analyze, dart test
	{{rx.New(`^\s*error - (\S+):(\d+):(\d+) - (.+?)(?: - \S+)?$`), "flct"}},
	{{rx.New(`^\s*error • (.+) • (\S+):(\d+):(\d+) • `), "tflc"}},
	{{rx.New(`^\s+(Expected: .*)`), "t"}, {rx.New(`^\s+(\S+\.dart) (\d+):(\d+)\s`), "flc"}},
	// mix compile, mix test
	{{rx.New(`^\s+error: (.+)`), "t"}, {rx.New(`^\s+└─ (\S+?):(\d+)(?::(\d+))?`), "flc"}},
	{{rx.New(`^\s+\d+\) (?:test|property) `), ""}, {rx.New(`^\s+\S+\.exs:\d+$`), ""}, {rx.New(`^\s+(\S.*)`), "t"},
		{rx.New(`^\s+(\S+\.exs?):(\d+): `), "fl"}},
	// PHP, PHPUnit
	{{rx.New(`^(?:PHP )?Fatal error:\s+(Uncaught .+?) in (\S+):(\d+)$`), "tfl"}},
	{{rx.New(`^(?:PHP )?(?:Parse|Fatal|Recoverable fatal) error:\s+(.+) in (\S+) on line (\d+)$`), "tfl"}},
	{{rx.New(`^\d+\) \w[\w\\]*::\w`), ""}, {rx.New(`^(\S.*)`), "t"}, {rx.New(`^(\S+\.php):(\d+)$`), "fl"}},
	// Scala 2, Scala 3
	{{rx.New(`^\[error\] (\S+\.scala):(\d+):(\d+): (.+)`), "flct"}},
	{{rx.New(`^(?:\[error\] )?-- (?:\[E\d+\] )?(.*?Error): (\S+\.scala):(\d+):(\d+)`), "tflc"}},
	// RSpec, minitest, Ruby
	{{rx.New(`^\s+Failure/Error: (.+)`), "t"}, {rx.New(`^\s+# (?:\./)?(\S+?):(\d+)`), "fl"}},
	{{rx.New(`^\S+ \[(\S+?):(\d+)\]:$`), "fl"}, {rx.New(`^(.+)`), "t"}},
	{{rx.New("^(\\S+?\\.rb):(\\d+):in [`'].*?': (.+)"), "flt"}},
	// webpack, esbuild
	{{rx.New(`^ERROR in (\S+) (\d+):\d+`), "fl"}, {rx.New(`^(.+)`), "t"}},
	{{rx.New(`^✘ \[ERROR\] (.+)`), "t"}, {rx.New(`^\s+(\S+):(\d+):(\d+):$`), "flc"}},
}

// dotnetFrame is a frame of a stack trace of .NET.
var dotnetFrame = rx.New(`^\s+at .* in (.+):line (\d+)$`)

// listed parses a message of one of the forms in messages.
func listed(lines []string, at int) (Place, int, bool) {
	for _, m := range messages {
		if p, n, ok := m.read(lines, at); ok {
			return p, n, true
		}
	}
	return Place{}, 0, false
}

// read parses a message that begins at a line. Frames below its last part belong to it.
func (m message) read(lines []string, at int) (p Place, n int, ok bool) {
	next := at
	for i, one := range m {
		end := min(len(lines), next+mostBetween)
		if i == 0 {
			end = at + 1
		}
		for ; next < end && !one.fill(&p, lines[next]); next++ {
		}
		if next == end {
			return p, 0, false
		}
		next++
	}
	for m[len(m)-1].is == dotnetFrame && next < len(lines) && dotnetFrame.MatchString(lines[next]) {
		next++
	}
	return p, next - at, true
}

// fill puts what a line says into a place. ok is false if the line is not that part.
func (pt part) fill(p *Place, line string) (ok bool) {
	m := pt.is.FindStringSubmatch(line)
	if m == nil {
		return false
	}
	for i, what := range pt.has {
		switch text := m[i+1]; what {
		case 'f':
			p.Path = text
		case 'l':
			p.Line = number(text)
		case 'c':
			p.Col = number(text)
		case 't':
			p.Text = text
		}
	}
	return true
}
