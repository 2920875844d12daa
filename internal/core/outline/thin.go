package outline

import "strings"

// Thin removes the bodies of functions and of top-level tables from Go source, except those for which keep returns
// true; lo and hi are the lines of a body, from 0. Everything else stays on its line. It relies on gofmt: declarations
// begin at the left margin, and a brace alone there closes them. A text with such a brace in a string no longer
// parses.
func Thin(text string, keep func(lo, hi int) bool) string {
	lines := strings.SplitAfter(text, "\n")
	var out strings.Builder
	out.Grow(len(text) / 2)
	for i := 0; i < len(lines); i++ {
		head, end := body(lines, i)
		if end < 0 || keep(i, end+1) {
			out.WriteString(lines[i])
			continue
		}
		for ; i < head; i++ {
			out.WriteString(lines[i])
		}
		out.WriteString(opening(lines[head]))
		if !strings.HasPrefix(lines[head], "var ") {
			out.WriteString(" for {}") // after an endless loop no return is needed
		}
		out.WriteString(strings.Repeat("\n", end-head))
		i = end - 1
	}
	return out.String()
}

// body returns the line that opens the body of what begins at a line, and the one that closes it, or -1.
func body(lines []string, at int) (head, end int) {
	isFunc := strings.HasPrefix(lines[at], "func ")
	if !isFunc && !strings.HasPrefix(lines[at], "var ") {
		return 0, -1
	}
	head = at
	if isFunc && strings.HasSuffix(strings.TrimRight(lines[at], "\r\n"), "(") { // the parameters are on the next lines
		for head++; head < len(lines) && strings.HasPrefix(lines[head], "\t"); head++ {
		}
		if head == len(lines) || !strings.HasPrefix(lines[head], ")") {
			return 0, -1
		}
	}
	if !strings.HasSuffix(opening(lines[head]), "{") {
		return 0, -1
	}
	for end = head + 1; end < len(lines); end++ {
		switch l := strings.TrimRight(lines[end], "\r\n"); {
		case l == "}":
			return head, end
		case strings.HasPrefix(l, "}"), strings.HasPrefix(l, "func "), strings.HasPrefix(l, "type "):
			return 0, -1
		}
	}
	return 0, -1
}

// opening returns a line without its end and without a comment after a final brace.
func opening(l string) string {
	l = strings.TrimRight(l, "\r\n")
	if i := strings.LastIndex(l, "{ // "); i >= 0 {
		return l[:i+1]
	}
	return l
}
