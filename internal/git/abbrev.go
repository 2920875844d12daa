package git

import (
	"context"
	"strconv"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
)

// Alone reports whether the first n digits of each id identify no other object of the repository and no other of the
// ids. The objects need not exist.
func (r *Objects) Alone(ctx context.Context, ids []object.ID, n int) (bool, error) {
	of := map[string]object.ID{}
	var in strings.Builder
	for _, id := range ids {
		short := id.Prefix(n)
		if other, ok := of[short]; ok && other != id {
			return false, nil
		}
		of[short] = id
		in.WriteString(short + "\n")
	}
	out, _, err := r.runIn(ctx, call{doing: "looking which ids are alike", stdin: strings.NewReader(in.String()),
		args: []string{"cat-file", "--batch-check=%(objectname)"}})
	if err != nil {
		return false, err
	}
	answers := strings.Split(string(out), "\n")
	for i, id := range ids {
		if i >= len(answers) {
			break
		}
		answer, rest, _ := strings.Cut(answers[i], " ")
		if rest == "ambiguous" || rest == "" && answer != id.String() {
			return false, nil
		}
	}
	return true, nil
}

// Abbrev returns the number of digits that core.abbrev asks for, or 0 if git decides.
func (r *Configuration) Abbrev(ctx context.Context) int {
	switch v, _ := r.Config(ctx, "core.abbrev"); v {
	case "", "auto":
		return 0
	case "no", "false", "off":
		return 2 * r.Format.Size()
	default:
		n, _ := strconv.Atoi(v)
		return n
	}
}
