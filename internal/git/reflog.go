package git

import (
	"context"
	"os"
	"strconv"
	"strings"
	"time"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// Reflog returns the entries of a ref's reflog ("HEAD" or a full name), oldest first, or none if it cannot be read. It
// skips malformed lines.
func (r *Refs) Reflog(ctx context.Context, ref string) (moves []vcs.RefMove) {
	// No plumbing command prints a reflog's messages; the file is documented in
	// gitrepository-layout.
	path, err := r.Inside(ctx, "logs/"+ref)
	if err != nil {
		return nil
	}
	data, err := os.ReadFile(path)
	if err != nil {
		return nil
	}
	for line := range strings.Lines(string(data)) {
		head, why, _ := strings.Cut(strings.TrimSuffix(line, "\n"), "\t")
		f := strings.Fields(head) // old, new, the name and mail of who did it, seconds, zone
		if len(f) < 4 {
			continue
		}
		to, err := object.ParseID(f[1])
		if err != nil {
			continue
		}
		m := vcs.RefMove{To: to, Why: why}
		if seconds, err := strconv.ParseInt(f[len(f)-2], 10, 64); err == nil {
			m.When = time.Unix(seconds, 0)
		}
		moves = append(moves, m)
	}
	return moves
}
