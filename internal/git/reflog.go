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

// Reflog returns the moves of a ref ("HEAD", or a full name) that its reflog has, the oldest first; none where there
// is no such file or it cannot be read. Lines of another form are passed over.
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
