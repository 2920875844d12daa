package settle

import (
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/lang"
	"dorvik.dev/dorvik/internal/core/merge"
)

// table is lines that are rows of cells.
type table struct {
	sep  string
	rows [][]string // the cells of each row
	ends []string   // what follows the last cell: the line end and, in Markdown, the last bar
}

// tableOf reads rows of a Markdown or CSV table. ok is false if a line is no row, or rows differ in their number of
// cells.
func tableOf(l *lang.Language, lines []string) (t table, ok bool) {
	t.sep = ","
	if l == lang.Markdown {
		t.sep = "|"
	}
	for _, line := range lines {
		text := strings.TrimRight(line, "\r\n")
		if t.sep == "|" {
			text = strings.TrimRight(text, " ")
			cut, last := strings.CutSuffix(text, "|")
			if !last || !strings.HasPrefix(text, "|") || cut == "" || strings.Contains(text, `\|`) {
				return t, false
			}
			text = cut
		} else if strings.Contains(text, `"`) || text == "" {
			return t, false
		}
		cells := strings.Split(text, t.sep)
		if len(t.rows) > 0 && len(cells) != len(t.rows[0]) {
			return t, false
		}
		t.rows, t.ends = append(t.rows, cells), append(t.ends, line[len(text):])
	}
	return t, len(t.rows) > 0
}

func (t table) lines() (out []string) {
	for i, r := range t.rows {
		out = append(out, strings.Join(r, t.sep)+t.ends[i])
	}
	return out
}

// inTable joins rows cell by cell, or a new column of one side with new rows of the other.
func inTable(c *Question, at place) (Option, bool) {
	l := lang.Of(at.path)
	if l != lang.Markdown && l != lang.CSV {
		return Option{}, false
	}
	base, ok := tableOf(l, diff.Lines(c.Base))
	yours, also := tableOf(l, diff.Lines(c.Yours))
	theirs, too := tableOf(l, diff.Lines(c.Theirs))
	if !ok || !also || !too {
		return Option{}, false
	}
	wide, narrow := yours, theirs
	switch width := len(base.rows[0]); {
	case len(yours.rows[0]) == width && len(theirs.rows[0]) == width:
		return joinCells(base, yours, theirs)
	case len(yours.rows[0]) == width:
		wide, narrow = theirs, yours
	case len(theirs.rows[0]) != width:
		return Option{}, false
	}
	return joinColumn(base, wide, narrow)
}

// joinCells joins rows that all three have, one to one.
func joinCells(base, yours, theirs table) (Option, bool) {
	if len(base.rows) != len(yours.rows) || len(base.rows) != len(theirs.rows) {
		return Option{}, false
	}
	out := table{base.sep, slices.Clone(base.rows), yours.ends}
	for i, row := range base.rows {
		out.rows[i] = slices.Clone(row)
		for k, cell := range row {
			switch y, t := yours.rows[i][k], theirs.rows[i][k]; {
			case y == t || t == cell:
				out.rows[i][k] = y
			case y == cell:
				out.rows[i][k] = t
			default:
				return Option{}, false
			}
		}
	}
	return Option{Way: Weave, Text: strings.Join(out.lines(), ""), Reason: "joined cell by cell"}, true
}

// rowKey returns what tells a row from others: the first cell with text, of some columns.
func rowKey(row []string, columns []int) string {
	for _, k := range columns {
		if key := strings.TrimSpace(row[k]); key != "" {
			return key
		}
	}
	return ""
}

// otherRows reports whether a table lacks a row of the base, and whether it has a new one.
func otherRows(base, t table, columns []int) (gone, fresh bool) {
	keys := func(t table) map[string]bool {
		out := map[string]bool{}
		for _, row := range t.rows {
			out[rowKey(row, columns)] = true
		}
		return out
	}
	had, has := keys(base), keys(t)
	lacks := func(a, b map[string]bool) bool {
		for key := range a {
			if !b[key] {
				return true
			}
		}
		return false
	}
	return lacks(had, has), lacks(has, had)
}

// joinColumn gives the rows of one side the columns that the other added: their values where it has the row, else
// nothing.
func joinColumn(base, wide, narrow table) (Option, bool) {
	var kept []int // the base's columns, in the wide table
	for k, name := range wide.rows[0] {
		if len(kept) < len(base.rows[0]) && strings.TrimSpace(name) == strings.TrimSpace(base.rows[0][len(kept)]) {
			kept = append(kept, k)
		}
	}
	if len(kept) != len(base.rows[0]) {
		return Option{}, false
	}
	blank := ""
	if wide.sep == "|" {
		blank = " "
	}
	all := make([]int, len(base.rows[0])) // the base's columns, in a narrow table
	for k := range all {
		all[k] = k
	}
	values := map[string][]string{}
	for _, row := range wide.rows {
		key := rowKey(row, kept)
		if values[key] != nil {
			return Option{}, false
		}
		values[key] = row
	}
	gone, fresh := otherRows(base, narrow, all)
	if gone && fresh {
		return Option{}, false // a row may have another key now, and which one its values belong to is not known
	}
	widened := func(t table) table {
		out := table{t.sep, nil, t.ends}
		for _, row := range t.rows {
			like := slices.Repeat([]string{blank + blank}, len(wide.rows[0]))
			if r := values[rowKey(row, all)]; r != nil {
				copy(like, r)
			}
			for i, k := range kept {
				like[k] = row[i]
			}
			out.rows = append(out.rows, like)
		}
		return out
	}
	text := merge.Merge3(widened(base).lines(), wide.lines(), widened(narrow).lines())
	if text.Conflicts() > 0 {
		return Option{}, false
	}
	o := Option{Way: Weave, Text: text.Join(nil), Reason: "the new column, in the other side's rows too"}
	if fresh {
		o.doubt = "the rows that the other side added have no value for the new column"
	}
	return o, true
}
