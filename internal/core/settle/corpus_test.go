package settle

import (
	"fmt"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/lang"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"
)

// corpusCase is one conflict of the corpus, with the outcomes that a careful person would accept; none
// where such a person would ask.
type corpusCase struct {
	name, file          string
	base, yours, theirs string
	wants               []string
}

// readCorpus reads cases: sections are NAME/PART/FILE, where a part is base, yours, theirs, want
// (and want1, want2…), or ask.
func readCorpus(t *testing.T, name string) (out []*corpusCase) {
	data, err := os.ReadFile(filepath.Join("testdata", "corpus", name))
	require.NoError(t, err)
	for _, s := range txtar.Parse(data).Files {
		f := strings.SplitN(s.Name, "/", 3)
		require.Len(t, f, 3, s.Name)
		if n := len(out); n == 0 || out[n-1].name != f[0] {
			out = append(out, &corpusCase{name: f[0], file: f[2]})
		}
		c, text := out[len(out)-1], string(s.Data)
		switch part := f[1]; {
		case part == "base":
			c.base = text
		case part == "yours":
			c.yours = text
		case part == "theirs":
			c.theirs = text
		case strings.HasPrefix(part, "want"):
			c.wants = append(c.wants, text)
		default:
			require.Equal(t, "ask", part, s.Name)
		}
	}
	return out
}

// readShort reads cases of the short form, whose first paragraph describes it.
func readShort(t *testing.T, name string) (out []*corpusCase) {
	data, err := os.ReadFile(filepath.Join("testdata", "corpus", name))
	require.NoError(t, err)
	blocks := strings.Split(strings.TrimSpace(string(data)), "\n\n")
	for _, block := range blocks[1:] {
		head, rest, _ := strings.Cut(block, "\n")
		title, file, ok := strings.Cut(head, " ")
		require.True(t, ok, block)
		c := &corpusCase{name: title, file: file}
		wants := map[byte]bool{}
		for _, l := range strings.Split(rest, "\n") {
			if l[0] >= '1' && l[0] <= '9' {
				wants[l[0]] = true
			}
		}
		with := func(sign byte) (text string) {
			for _, l := range strings.Split(rest, "\n") {
				if l[0] == sign || l[0] == '=' {
					text += l[1:] + "\n"
				}
			}
			return text
		}
		c.base, c.yours, c.theirs = with('-'), with('<'), with('>')
		for sign := byte('1'); wants[sign]; sign++ {
			c.wants = append(c.wants, c.want(rest, sign))
		}
		out = append(out, c)
	}
	return out
}

// want returns an outcome: its lines stand where the sides' lines stand, before or after those of all.
func (c *corpusCase) want(rest string, sign byte) (text string) {
	placed := false
	var own string
	for _, l := range strings.Split(rest, "\n") {
		if l[0] == sign {
			own += l[1:] + "\n"
		}
	}
	for _, l := range strings.Split(rest, "\n") {
		switch {
		case l[0] == '=':
			text += l[1:] + "\n"
		case !placed:
			text, placed = text+own, true
		}
	}
	return text
}

// corpusVerdict is of a case: what is suggested, and whether that, and any of the first three ways, is right.
type corpusVerdict struct {
	suggested   string // the whole text; empty where a place has no suggestion
	right, soon bool
}

func (c *corpusCase) verdict(t *testing.T) corpusVerdict {
	text := merge.Merge3(diff.Lines(c.base), diff.Lines(c.yours), diff.Lines(c.theirs))
	if text.Conflicts() == 0 {
		joined := text.Join(nil)
		return corpusVerdict{joined, slices.Contains(c.wants, joined), true}
	}
	f := Open(&merge.Conflict{Path: path.Base(c.file), Kind: merge.Content, Subject: &merge.Lines{Text: &text,
		Mode: object.ModeFile}})
	var v corpusVerdict
	all := true
	for _, q := range f.Questions {
		all = all && q.Suggested != ""
	}
	if all {
		v.suggested = f.Join(f.placeholder)
		v.right = slices.Contains(c.wants, v.suggested)
	}
	if len(f.Questions) == 1 {
		texts := map[string]Way{}
		for i, o := range f.Questions[0].Ways {
			if o.Moved == nil {
				assert.Empty(t, texts[o.Text], "%s: %s gives the same text", c.name, o.Way)
				texts[o.Text] = o.Way
			}
			if i < 3 && slices.Contains(c.wants, f.Join(func(*Question) Option { return o })) {
				v.soon = true
			}
		}
	} else {
		v.soon = v.right
	}
	return v
}

// TestCorpus holds the share of conflicts for which what is suggested is right, and wrong.
func TestCorpus(t *testing.T) {
	classes := map[string][4]int{} // by language: with an answer, right, among the first three, wrong
	for _, c := range []struct {
		name               string
		right, soon, wrong float64 // of those with an answer; of all
	}{{"rules.txtar", 0.8, 0.95, 0.03}, {"after.txtar", 0.8, 0.95, 0.03}, {"unseen.txtar", 0.8, 0.95,
		0.03}, {"fresh.txtar", 0.8, 0.95, 0.03}, {"latest.txtar", 0.8, 0.95, 0.03}, {"trust.txt", 0.88, 0.96, 0.02},
		{"trust-unseen.txt", 0.88, 0.96, 0.02}, {"later.txt", 0.88, 0.96, 0.04}, {"offered.txt", 0, 0.96, 0.02},
		{"woven.txt", 0.88, 0.96, 0.02}, {"everyday.txt", 0.88, 0.96, 0.02},
		{"harbour.txt", 0.88, 0.96, 0.02}, {"slipway.txt", 0.88, 0.96, 0.02},
		{"quay.txt", 0.88, 0.96, 0.02}, {"tide.txt", 0.88, 0.96, 0.02},
		{"current.txt", 0.88, 0.96, 0.02}, {"buoy.txt", 0.88, 0.96, 0.02}, {"ebb.txt", 0.88, 0.96, 0.02},
		{"spring.txt", 0.88, 0.96, 0.02}, {"scenes.txt", 0.88, 0.92, 0}} {
		right, soon, wrong, answers := 0, 0, 0, 0
		read := readCorpus
		if strings.HasSuffix(c.name, ".txt") {
			read = readShort
		}
		all := read(t, c.name)
		for _, one := range all {
			v := one.verdict(t)
			class := lang.Of(path.Base(one.file)).Name
			n := classes[class]
			if len(one.wants) > 0 {
				answers++
			}
			switch {
			case v.right:
				right++
			case v.suggested != "":
				wrong++
				t.Logf("%s: wrong:\n%s", one.name, v.suggested)
			case len(one.wants) > 0:
				t.Logf("%s: nothing is suggested", one.name)
			}
			if v.soon {
				soon++
			}
			for i, yes := range []bool{len(one.wants) > 0, v.right, v.soon, !v.right && v.suggested != ""} {
				if yes {
					n[i]++
				}
			}
			classes[class] = n
		}
		says := fmt.Sprintf("%s: of %d with an answer right %d, among the first three %d; of %d wrong %d", c.name,
			answers,
			right, soon, len(all), wrong)
		t.Log(says)
		assert.GreaterOrEqual(t, float64(right), c.right*float64(answers), says)
		assert.GreaterOrEqual(t, float64(soon), c.soon*float64(answers), says)
		assert.LessOrEqual(t, float64(wrong), c.wrong*float64(len(all)), says)
	}
	for _, class := range slices.Sorted(maps.Keys(classes)) {
		n := classes[class]
		t.Logf("   %-20s right %d of %d , first three %d, wrong %d", class, n[1], n[0], n[2], n[3])
	}
}
