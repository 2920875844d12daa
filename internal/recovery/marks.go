package recovery

import (
	"strings"

	"dorvik/internal/core/merge"
	"dorvik/internal/core/object"
)

// Marks lists the files among those a join changed in which conflict markers
// stand: lines of seven or more <, = or > in the usual order. read is the number of
// files read.
func (w *Workspace) Marks(from, to object.ID) (found []string, read int, err error) {
	changes, err := w.Store.Changes(from, to)
	if err != nil {
		return nil, 0, err
	}
	for _, c := range changes {
		if !c.New.Mode.IsRegular() {
			continue
		}
		data, err := w.Store.Blob(c.New.ID)
		if err != nil {
			return nil, read, err
		}
		if !merge.IsText(data) {
			continue
		}
		read++
		if hasMarks(string(data)) {
			found = append(found, c.Path)
		}
	}
	return found, read, nil
}

func hasMarks(text string) bool {
	next := 0
	signs := []string{"<<<<<<< ", "=======", ">>>>>>> "}
	for line := range strings.SplitSeq(text, "\n") {
		line = strings.TrimSuffix(line, "\r")
		if strings.HasPrefix(line, signs[next]) && (next != 1 || line == signs[1]) {
			if next++; next == len(signs) {
				return true
			}
		}
	}
	return false
}
