package format

import (
	"fmt"
	"strings"

	"dorvik.dev/dorvik/internal/core/lang"
	"dorvik.dev/dorvik/internal/core/rx"
)

// pair is a word that begins a block of lines, and the one that ends it.
type pair struct {
	opens, closes *rx.Expr // of a line without the blanks around it
	word          string   // as a person calls the beginning; the line's first word if it is empty
}

// paired are the languages whose blocks begin and end with words.
var paired = map[*lang.Language][]pair{
	lang.Ruby: {{rx.New(`^(def|class|module|if|unless|while|until|case|begin|for)\b|=\s*(if|case|begin|unless)\b|` +
		`\bdo(\s*\|[^|]*\|)?$`), rx.New(`^end\b`), ""}},
	lang.Lua: {{rx.New(`^(local )?function\b|\bfunction\s*\([^)]*\)$|\b(then|do)$|^repeat\b`),
		rx.New(`^(end|until)\b`), ""}},
	lang.Shell: {{rx.New(`^if\b`), rx.New(`^fi\b`), "if"}, {rx.New(`^do\b|;\s*do$`), rx.New(`^done\b`), "do"},
		{rx.New(`^case\b.*\bin$`), rx.New(`^esac\b`), "case"}, {rx.New(`\{$`), rx.New(`^\}`), "{"}},
	lang.Make: {{rx.New(`^(ifdef|ifndef|ifeq|ifneq)\b`), rx.New(`^endif\b`), ""},
		{rx.New(`^define\b`), rx.New(`^endef\b`), ""}},
	lang.CMake: {{rx.New(`(?i)^if\s*\(`), rx.New(`(?i)^endif\b`), "if"},
		{rx.New(`(?i)^foreach\s*\(`), rx.New(`(?i)^endforeach\b`), "foreach"},
		{rx.New(`(?i)^function\s*\(`), rx.New(`(?i)^endfunction\b`), "function"}},
}

// oneLine matches a line of Ruby that begins a block and ends it.
var oneLine = rx.New(`\bend\b|^def\s[^=]*\)?\s=\s`)

// document matches what begins a text that goes on to a word alone in its line.
var document = rx.New(`<<[-~]?\s*["']?(\w+)`)

// pairsProblem returns the first block that does not end, or an end without a block.
func pairsProblem(l *lang.Language, text string) string {
	type begun struct {
		of, line int
		word     string
	}
	var open []begun
	n, until := 0, ""
	for line := range strings.Lines(text) {
		n++
		body := strings.TrimSpace(line)
		if until != "" {
			if body == until {
				until = ""
			}
			continue
		}
		if m := document.FindStringSubmatch(body); m != nil && (l == lang.Shell || l == lang.Ruby) {
			until = m[1]
		}
		if body == "" || strings.HasPrefix(body, "#") || strings.HasPrefix(body, "--") && l == lang.Lua {
			continue
		}
		for i, p := range paired[l] {
			if p.closes.MatchString(body) {
				if len(open) == 0 || open[len(open)-1].of != i {
					return fmt.Sprintf("line %d: %s ends nothing", n, firstWord(body))
				}
				open = open[:len(open)-1]
			}
			if p.opens.MatchString(body) && !(l == lang.Ruby && oneLine.MatchString(body)) &&
				!(l != lang.Ruby && p.closes.MatchString(lastCommand(body))) {
				word := p.word
				if word == "" {
					word = firstWord(body)
				}
				open = append(open, begun{i, n, word})
			}
		}
	}
	if len(open) > 0 {
		last := open[len(open)-1]
		return fmt.Sprintf("line %d: %s does not end", last.line, last.word)
	}
	return ""
}

func firstWord(line string) string {
	word, _, _ := strings.Cut(line, " ")
	return word
}

// lastCommand returns what follows the last semicolon of a line.
func lastCommand(line string) string {
	return strings.TrimSpace(line[strings.LastIndexByte(line, ';')+1:])
}

var (
	// a tag, or a comment or the contents of a script, in which there are none
	tag = rx.New(`(?is)<!--.*?-->|<(?:script|style)\b.*?</(?:script|style)\s*>|<(/?)([a-z][\w.-]*)((?:\s|/)(?:[^` +
		`<>"']|"[^"]*"|` +
		`'[^']*')*)?>`)
	// elements that need no end
	noEnd = rx.New(`(?i)^(area|base|br|col|embed|hr|img|input|link|meta|source|track|wbr|li|p|td|th|tr|dt|dd|opt` +
		`ion|tbody|` +
		`thead|tfoot|colgroup|html|head|body)$`)
	placeholder = rx.New(`\{%-?\s*(end)?(if|for|block|each|with|unless|macro|call|filter)\b[^%]*%\}`)
)

// tagsProblem returns the first element that does not end, or an end without an element; and the same of blocks of
// placeholders.
func tagsProblem(text string) string {
	for _, find := range []*rx.Expr{tag, placeholder} {
		type begun struct {
			name string
			at   int
		}
		var open []begun
		at := func(i int) int { return 1 + strings.Count(text[:i], "\n") }
		for _, m := range find.FindAllStringSubmatchIndex(text, -1) {
			if m[4] < 0 || find == tag && (noEnd.MatchString(text[m[4]:m[5]]) || text[m[1]-2] == '/') {
				continue
			}
			name := text[m[4]:m[5]]
			ends := m[2] >= 0 && m[2] < m[3]
			switch n := len(open); {
			case !ends:
				open = append(open, begun{name, m[0]})
			case n == 0:
				return fmt.Sprintf("line %d: %s ends nothing", at(m[0]), name)
			case !strings.EqualFold(open[n-1].name, name):
				return fmt.Sprintf("line %d: %s is ended by %s", at(open[n-1].at), open[n-1].name, name)
			default:
				open = open[:n-1]
			}
		}
		if n := len(open); n > 0 {
			return fmt.Sprintf("line %d: %s does not end", at(open[n-1].at), open[n-1].name)
		}
	}
	return ""
}
