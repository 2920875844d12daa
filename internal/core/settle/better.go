package settle

import (
	"encoding/json"
	"path"
	"regexp"
	"slices"
	"strings"

	"dorvik/internal/core/diff"
	"dorvik/internal/core/merge"
)

// place is where a contested region stands: its file, and the unchanged lines
// next to it, empty where there is none.
type place struct{ path, before, after string }

// better tries, one after the other, what knows more than words: it gives the text
// of a way that applies both edits, the reason, and which way that is.
func (c *Conflict) better(at place) (way Way, text, reason string, ok bool) {
	for _, try := range []func(c *Conflict, at place) (Way, string, string, bool){reindented, lineSet, jsonMembers, inOrder} {
		if way, text, reason, ok = try(c, at); ok && text != c.Yours && text != c.Theirs {
			return way, text, reason, true
		}
	}
	return "", "", "", false
}

// inOrder joins lines that both added between two that are in order with them.
func inOrder(c *Conflict, at place) (Way, string, string, bool) {
	before, after := strings.TrimSpace(at.before), strings.TrimSpace(at.after)
	if c.Base != "" || before == "" || after == "" {
		return "", "", "", false
	}
	yours, theirs := diff.Lines(c.Yours), diff.Lines(c.Theirs)
	same := func(s string) string { return s }
	for _, key := range []func(string) string{strings.ToLower, same} {
		compare := func(a, b string) int { return strings.Compare(key(strings.TrimSpace(a)), key(strings.TrimSpace(b))) }
		fits := func(lines []string) bool {
			return slices.IsSortedFunc(slices.Concat([]string{before}, lines, []string{after}), compare)
		}
		if compare(before, after) < 0 && fits(yours) && fits(theirs) {
			all := slices.Concat(yours, theirs)
			slices.SortStableFunc(all, compare)
			return Sorted, strings.Join(slices.Compact(all), ""), "the lines around are in alphabetical order, and so are both additions", true
		}
	}
	return "", "", "", false
}

// sets tells by a file's ending, or its name, which of its lines are members of a
// set: their order means nothing.
var sets = map[string]*regexp.Regexp{
	".go":           regexp.MustCompile(`^\s*(import\s+)?([\w.]+\s+)?"[^"]+"\s*(//.*)?$`),
	".py":           regexp.MustCompile(`^\s*(import\s+[\w., ]+|from\s+[\w.]+\s+import\s+[\w., *]+)\s*(#.*)?$`),
	".java":         regexp.MustCompile(`^import\s+[\w.* ]+;\s*$`),
	".kt":           regexp.MustCompile(`^import\s+[\w.* ]+$`),
	".rs":           regexp.MustCompile(`^\s*(pub\s+)?use\s+[^;]+;\s*$`),
	".js":           regexp.MustCompile(`^import\s.*['"]\s*;?\s*$`),
	".cs":           regexp.MustCompile(`^\s*using\s+[\w.= ]+;\s*$`),
	".gitignore":    regexp.MustCompile(`^[^!#\s]`), // one that takes back (!) depends on what stands before it
	".dockerignore": regexp.MustCompile(`^[^!#\s]`),
	"go.sum":        regexp.MustCompile(`^\S+ v\S+ h1:\S+$`),
}

func setOf(p string) *regexp.Regexp {
	if re := sets[path.Base(p)]; re != nil {
		return re
	}
	switch ext := path.Ext(p); ext {
	case ".mjs", ".ts", ".tsx", ".jsx":
		return sets[".js"]
	default:
		return sets[ext]
	}
}

// lineSet joins lines of which order means nothing, such as imports: each that a
// side added is there, and none that a side removed.
func lineSet(c *Conflict, at place) (Way, string, string, bool) {
	re := setOf(at.path)
	base, yours, theirs := diff.Lines(c.Base), diff.Lines(c.Yours), diff.Lines(c.Theirs)
	all := slices.Concat(base, yours, theirs)
	if re == nil || len(all) == 0 || slices.ContainsFunc(all, func(l string) bool {
		return !strings.HasSuffix(l, "\n") || !re.MatchString(strings.TrimRight(l, "\r\n"))
	}) {
		return "", "", "", false
	}
	out := slices.DeleteFunc(slices.Clone(yours), func(l string) bool { return slices.Contains(base, l) && !slices.Contains(theirs, l) })
	sorted := slices.IsSorted(yours) && slices.IsSorted(theirs)
	for _, l := range theirs {
		if !slices.Contains(base, l) && !slices.Contains(out, l) {
			out = append(out, l)
		}
	}
	if sorted {
		slices.Sort(out)
	}
	return Weave, strings.Join(out, ""), "the order of these lines means nothing: all that were added, none that was removed", true
}

// reindented joins an edit with a change of nothing but white space: the edit is
// indented as the other side indents its surroundings.
func reindented(c *Conflict, _ place) (Way, string, string, bool) {
	base, yours, theirs := diff.Lines(c.Base), diff.Lines(c.Yours), diff.Lines(c.Theirs)
	text, ok := "", false
	reason := "you changed nothing but white space here; their edit is indented alike"
	switch mine, other := onlyBlanks(base, yours), onlyBlanks(base, theirs); {
	case mine == other:
	case mine:
		text, ok = indentLike(base, yours, theirs)
	default:
		reason = "they changed nothing but white space here; your edit is indented alike"
		text, ok = indentLike(base, theirs, yours)
	}
	return Weave, text, reason, ok
}

func words(line string) string { return strings.Join(strings.Fields(line), " ") }

func onlyBlanks(base, side []string) bool {
	return len(base) > 0 && slices.EqualFunc(base, side, func(a, b string) bool { return words(a) == words(b) })
}

func indentOf(line string) string { return line[:len(line)-len(strings.TrimLeft(line, " \t"))] }

// indentLike gives edited with the white space that spaced has where base had
// other: lines that are as in the base are spaced's, and new ones are indented as
// the nearest of those.
func indentLike(base, spaced, edited []string) (string, bool) {
	plain := func(lines []string) []string {
		out := make([]string, len(lines))
		for i, l := range lines {
			out[i] = words(l)
		}
		return out
	}
	var out strings.Builder
	at := 0
	for _, e := range append(diff.Histogram(plain(base), plain(edited)), diff.Edit{A0: len(base), A1: len(base)}) {
		out.WriteString(strings.Join(spaced[at:e.A0], ""))
		at = e.A1
		for _, l := range edited[e.B0:e.B1] {
			indent, found := "", words(l) == ""
			if !found {
				indent, found = newIndent(base, spaced, e, indentOf(l))
			}
			if !found {
				return "", false
			}
			out.WriteString(indent + strings.TrimLeft(l, " \t"))
		}
	}
	return out.String(), true
}

// newIndent gives what an indent next to an edit of the base has become: as with
// the nearest line of the base of the same indent, or else the nearest of less,
// and the rest as it was.
func newIndent(base, spaced []string, e diff.Edit, indent string) (string, bool) {
	var near []int // lines of the base, the nearest first
	for k := e.A0; k < e.A1; k++ {
		near = append(near, k)
	}
	for d := range base {
		near = append(near, e.A0-1-d, e.A1+d)
	}
	less, found := "", false
	for _, k := range near {
		if k < 0 || k >= len(base) || words(base[k]) == "" {
			continue
		}
		was := indentOf(base[k])
		if was == indent {
			return indentOf(spaced[k]), true
		}
		if !found && strings.HasPrefix(indent, was) {
			less, found = indentOf(spaced[k])+indent[len(was):], true
		}
	}
	return less, found
}

// jsonMembers joins members that both added to a JSON object or list, and sees to
// the commas.
func jsonMembers(c *Conflict, at place) (Way, string, string, bool) {
	if path.Ext(at.path) != ".json" {
		return "", "", "", false
	}
	bare := func(text string) []string {
		lines := diff.Lines(text)
		for i, l := range lines {
			lines[i] = strings.TrimSuffix(strings.TrimRight(l, " \t\r\n"), ",") + "\n"
		}
		return lines
	}
	t := merge.Merge3(bare(c.Base), bare(c.Yours), bare(c.Theirs))
	fits := true
	joined := t.Join(func(_ int, r merge.Region) string {
		fits = fits && r.Base.Empty()
		return strings.Join(t.Theirs[r.Theirs.Lo:r.Theirs.Hi], "") + strings.Join(t.Yours[r.Yours.Lo:r.Yours.Hi], "")
	})
	if !fits {
		return "", "", "", false
	}
	lines := diff.Lines(joined)
	opens := func(l string) bool {
		l = strings.TrimSpace(l)
		return strings.HasSuffix(l, "{") || strings.HasSuffix(l, "[")
	}
	closes := func(l string) bool {
		l = strings.TrimSpace(l)
		return strings.HasPrefix(l, "}") || strings.HasPrefix(l, "]")
	}
	next := at.after
	for i, l := range slices.Backward(lines) {
		if strings.TrimSpace(l) != "" && !opens(l) && next != "" && !closes(next) {
			lines[i] = strings.TrimSuffix(l, "\n") + ",\n"
		}
		next = l
	}
	if twice(lines) {
		return "", "", "", false
	}
	return Weave, strings.Join(lines, ""), "both added members; the commas are set anew", true
}

var member = regexp.MustCompile(`^(\s*)("(?:[^"\\]|\\.)*")\s*:`)

// twice reports whether lines of one depth name a member twice.
func twice(lines []string) bool {
	seen := map[string]bool{}
	for _, l := range lines {
		if m := member.FindStringSubmatch(l); m != nil {
			var name string
			if json.Unmarshal([]byte(m[2]), &name) != nil || seen[m[1]+name] {
				return true
			}
			seen[m[1]+name] = true
		}
	}
	return false
}
