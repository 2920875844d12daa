package settle

import (
	"path"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/lang"
)

// twice describes what an option that keeps both would contain twice, so that the later silently wins, or what it
// makes unreachable; or "". It judges by how lines begin, in any language.
func (q *Question) twice(o Option) string {
	if o.Moved != nil || o.Text == q.Yours || o.Text == q.Theirs || o.Text == q.Base {
		return ""
	}
	file := path.Base(q.Path)
	now := timesNamed(file, o.Text)
	for _, l := range diff.Lines(o.Text) { // in text order
		name := nameOf(file, strings.TrimSpace(l))
		if now[name] < 2 {
			continue
		}
		if timesNamed(file, q.Base)[name] < 2 && timesNamed(file, q.Yours)[name] < 2 && timesNamed(file,
			q.Theirs)[name] < 2 {
			return name + " is there twice"
		}
	}
	if lang.Of(file).Is(lang.Prose) || q.Yours == "" || q.Theirs == "" {
		return ""
	}
	if o.Way == YoursTheirs && ends(diff.Lines(q.Yours)) || o.Way == TheirsYours && ends(diff.Lines(q.Theirs)) {
		return "the first ends before the second"
	}
	return ""
}

// timesNamed counts the names of a text's outermost lines. Calls do not count, because they may be repeated.
func timesNamed(file, text string) map[string]int {
	out := map[string]int{}
	least := -1
	lines := diff.Lines(text)
	for _, l := range lines {
		if in := len(indentOf(l)); strings.TrimSpace(l) != "" && (least < 0 || in < least) {
			least = in
		}
	}
	for _, l := range lines {
		if text := strings.TrimSpace(l); text != "" && len(indentOf(l)) == least && !besideHead.MatchString(l) {
			if name := nameOf(file, text); name != "" && !strings.ContainsAny(name, "(<") {
				out[name]++
			}
		}
	}
	return out
}
