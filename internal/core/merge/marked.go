package merge

import (
	"strings"
)

// Marks is the form of conflict markers in a text.
type Marks struct {
	Labels Three[string] // labels of base, yours and theirs
	Size   int           // signs in a mark; git writes 7
	Base   bool          // the base is written, too
}

// Marked returns the joined text with both sides of each contested region between markers, as git and diff3 write
// them. Each marker is a line with the line end of its text.
func (t Text) Marked(m Marks) string {
	end := "\n"
	if len(t.Yours) > 0 && strings.HasSuffix(t.Yours[0], "\r\n") {
		end = "\r\n"
	}
	mark := func(b *strings.Builder, sign, label string) {
		b.WriteString(strings.TrimRight(strings.Repeat(sign, m.Size)+" "+label, " ") + end)
	}
	put := func(b *strings.Builder, lines []string) {
		b.WriteString(strings.Join(lines, ""))
		if n := len(lines); n > 0 && !strings.HasSuffix(lines[n-1], "\n") {
			b.WriteString(end)
		}
	}
	return t.Join(func(_ int, r Hunk) string {
		var b strings.Builder
		mark(&b, "<", m.Labels.Yours)
		put(&b, t.Yours[r.Yours.Lo:r.Yours.Hi])
		if m.Base {
			mark(&b, "|", m.Labels.Base)
			put(&b, t.Base[r.Base.Lo:r.Base.Hi])
		}
		mark(&b, "=", "")
		put(&b, t.Theirs[r.Theirs.Lo:r.Theirs.Hi])
		mark(&b, ">", m.Labels.Theirs)
		return b.String()
	})
}
