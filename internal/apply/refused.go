package apply

import (
	"errors"
	"fmt"
	"strings"

	"dorvik.dev/dorvik/internal/git"
)

// refusedPaths are the files that git says it would overwrite, if that is why it failed.
func refusedPaths(err error) (paths []string) {
	var ge *git.Error
	if !errors.As(err, &ge) {
		return nil
	}
	for line := range strings.SplitSeq(ge.Words, "\n") {
		if !strings.Contains(line, "overwritten") && !strings.Contains(line, "uptodate") &&
			!strings.Contains(line, "would lose") {
			continue
		}
		if _, rest, ok := strings.Cut(line, "'"); ok {
			if path, _, ok := strings.Cut(rest, "'"); ok {
				paths = append(paths, path)
			}
		}
	}
	return paths
}

// CutError says that a change could be neither made nor taken back.
type CutError struct {
	Doing, Back error
	Branch      string
}

func (e *CutError) Error() string {
	return fmt.Sprintf("changing %s failed (%v), and so did taking it back (%v). Your commits are all there; fix "+
		"the cause and start dorvik again: it will complete the change",
		e.Branch, e.Doing, e.Back)
}

func (e *CutError) Unwrap() []error { return []error{e.Doing, e.Back} }
