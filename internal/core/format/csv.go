package format

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
)

// row is one record of a CSV text.
type row struct {
	line, end int // the record's first line, and the offset after its end
	values    []string
	at        []int // the cells' offsets
}

// csvRows parses the records. ok is false if the text is malformed.
func csvRows(lines []string, text string) (rows []row, ok bool) {
	r := csv.NewReader(strings.NewReader(text))
	r.Comma = csvComma(text)
	starts := []int{0} // offsets at which lines begin
	for _, l := range lines {
		starts = append(starts, starts[len(starts)-1]+len(l))
	}
	for {
		values, err := r.Read()
		if err != nil {
			return rows, errors.Is(err, io.EOF)
		}
		first, _ := r.FieldPos(0)
		w := row{line: first - 1, end: int(r.InputOffset()), values: values}
		for i := range values {
			line, column := r.FieldPos(i)
			w.at = append(w.at, starts[line-1]+column-1)
		}
		rows = append(rows, w)
	}
}

// distinct reports whether each row has a different value in a column.
func distinct(rows []row, column int) bool {
	seen := map[string]bool{"": true}
	for _, w := range rows {
		if column >= len(w.values) || seen[w.values[column]] {
			return false
		}
		seen[w.values[column]] = true
	}
	return true
}

// csvMarks finds the rows. Their key is the first column whose values differ in all three texts. The first row names
// the columns.
func csvMarks(s *source) map[int]mark {
	text := s.text(0, len(s.lines))
	rows, ok := csvRows(s.lines, text)
	if !ok || len(rows) == 0 {
		return nil
	}
	var all [][]row
	for _, other := range []*source{s.all.Base, s.all.Yours, s.all.Theirs} {
		version, ok := csvRows(other.lines, other.text(0, len(other.lines)))
		if !ok {
			return nil
		}
		all = append(all, version)
	}
	key := 0
	for slices.ContainsFunc(all, func(version []row) bool { return len(version) > 0 && !distinct(version[1:], key) }) {
		if key++; key == len(rows[0].values) {
			return nil
		}
	}
	marks := map[int]mark{rows[0].line: {parent: nowhere}}
	for _, w := range rows[1:] {
		end := w.end
		for end > w.at[0] && strings.ContainsRune("\r\n", rune(text[end-1])) {
			end--
		}
		cells := &group{sep: string(csvComma(text)), tail: text[end:w.end]}
		for i, name := range rows[0].values {
			to := end
			if i+1 < len(w.at) {
				to = w.at[i+1] - 1
			}
			cells.entries = append(cells.entries, entry{key: name, text: text[w.at[i]:to]})
		}
		marks[w.line] = mark{parent: rows[0].values[key], key: w.values[key], cells: cells}
	}
	return marks
}

func csvProblem(text string) string {
	r := csv.NewReader(strings.NewReader(text))
	r.Comma = csvComma(text)
	for {
		_, err := r.Read()
		var parse *csv.ParseError
		switch {
		case errors.Is(err, io.EOF):
			return ""
		case errors.As(err, &parse):
			return fmt.Sprintf("line %d: %v", parse.Line, parse.Err)
		case err != nil:
			return err.Error()
		}
	}
}

// csvComma returns the separator: the tab, semicolon or comma that is most frequent in the first line.
func csvComma(text string) rune {
	head, _, _ := strings.Cut(text, "\n")
	most := ','
	for _, c := range ";\t" {
		if strings.Count(head, string(c)) > strings.Count(head, string(most)) {
			most = c
		}
	}
	return most
}
