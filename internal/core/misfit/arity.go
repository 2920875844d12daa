package misfit

import (
	"slices"
	"strings"
)

// arity is the number of arguments that something takes.
type arity struct{ least, most int }

// noEnd is the value of arity.most for any number.
const noEnd = 1 << 20

func (a arity) takes(n int) bool { return n >= a.least && n <= a.most }

// bracketed splits the text between a bracket and its closing one, possibly some lines further, at its outermost
// commas. ok is false if it does not close in time.
func bracketed(lines []string, line, col int) (parts []string, ok bool) {
	parts, _, ok = bracketedTo(lines, line, col)
	return parts, ok
}

// bracketedTo is bracketed; after is the rest of the line in which the bracket closes.
func bracketedTo(lines []string, line, col int) (parts []string, after string, ok bool) {
	depth, quote := 0, byte(0)
	var part strings.Builder
	for i := line; i < min(len(lines), line+longestHead); i++ {
		text := lines[i]
		from := 0
		if i == line {
			from = col
		}
		for k := from; k < len(text); k++ {
			ch := text[k]
			switch {
			case quote != 0:
				if ch == '\\' {
					part.WriteByte(ch)
					k++
				} else if ch == quote {
					quote = 0
				}
			case ch == '"' || ch == '`' || ch == '\'' && (k == 0 || !wordly(text[k-1])):
				quote = ch
			case ch == '(' || ch == '[' || ch == '{':
				if depth++; depth == 1 {
					continue
				}
			case ch == ')' || ch == ']' || ch == '}':
				if depth--; depth == 0 {
					if s := strings.TrimSpace(part.String()); s != "" {
						parts = append(parts, s)
					}
					return parts, text[k+1:], true
				}
			case ch == ',' && depth == 1:
				parts = append(parts, strings.TrimSpace(part.String()))
				part.Reset()
				continue
			}
			if k < len(text) {
				part.WriteByte(text[k])
			}
		}
	}
	return nil, "", false
}

// params returns the text between the brackets after a definition's name.
func params(lines []string, d def) string {
	parts, _ := paramsOf(lines, d)
	return strings.Join(parts, ", ")
}

func paramsOf(lines []string, d def) (parts []string, ok bool) {
	at := strings.Index(lines[d.line], d.name)
	if at < 0 {
		return nil, false
	}
	rest := lines[d.line][at+len(d.name):]
	open := strings.IndexByte(rest, '(')
	if open < 0 || strings.Trim(rest[:open], " \t") != "" && rest[0] != '<' {
		return nil, false
	}
	return bracketed(lines, d.line, at+len(d.name)+open)
}

// arityOf returns the number of arguments of a definition. ok is false if it takes none because it is something else.
func arityOf(l *language, lines []string, d def) (a arity, ok bool) {
	list, ok := paramsOf(lines, d)
	if !ok {
		return a, false
	}
	for i, p := range list {
		name, _, _ := strings.Cut(p, ":")
		switch name = strings.TrimSpace(name); {
		case p == "" || p == "void" || l.family == "python" && (p == "/"):
			continue
		case i == 0 && (l.family == "python" && (name == "self" || name == "cls") || l.family == "rust" &&
			(strings.TrimLeft(name, "&mut ") == "self" || strings.HasSuffix(name, "self"))):
			continue
		case l.family == "python" && strings.HasPrefix(p, "*"), strings.HasPrefix(p, "..."), strings.HasSuffix(p,
			"..."),
			strings.Contains(p, "... "), strings.HasPrefix(p, "*") && l.family == "ruby", strings.HasPrefix(p,
				"vararg "),
			strings.HasPrefix(p, "params "), strings.HasPrefix(p, "&") && l.family == "ruby":
			a.most = noEnd
			continue
		case strings.Contains(p, "=") || strings.HasSuffix(name, "?"):
		default:
			a.least++
		}
		a.most = min(a.most+1, noEnd)
	}
	return a, true
}

// invocation is a call: its arguments, and what follows it in the line where it ends.
type invocation struct {
	args  []string
	after string
}

// callsOf returns the calls of a name that begin in a line, but for those whose arguments are spread from a list.
func callsOf(lines []string, line int, name string) (out []invocation) {
	text := lines[line]
	for lo := range occurrences(text, name) {
		open := lo + len(name)
		for open < len(text) && text[open] == ' ' {
			open++
		}
		if open >= len(text) || text[open] != '(' {
			continue
		}
		args, end, ok := bracketedTo(lines, line, open)
		spread := slices.ContainsFunc(args, func(a string) bool {
			return strings.HasPrefix(a, "*") && !strings.HasPrefix(a, "*p") || strings.HasPrefix(a, "...") ||
				strings.HasSuffix(a, "...")
		})
		if ok && !spread {
			out = append(out, invocation{args, strings.TrimSpace(end)})
		}
	}
	return out
}
