package plan

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/rx"
)

// usualReference matches signs of tasks such as #12 and FERRY-7.
var usualReference = rx.New(`(?:^|[^\w&/])(#[0-9]+|[A-Z][A-Z0-9]+-[0-9]+)\b`)

// References finds signs of tasks in messages.
type References struct {
	pattern interface {
		FindAllStringSubmatchIndex(s string, n int) [][]int
	}
	Wanted bool // a push must name one
}

// References returns what dorvik.reference and dorvik.referenceWanted say.
func (rd *Reader) References(ctx context.Context) (*References, error) {
	if rd.Source == nil {
		return referencesBy("")
	}
	said, err := rd.Source.Config(ctx, "dorvik.reference")
	if err != nil {
		return nil, err
	}
	out, err := referencesBy(said)
	if err == nil {
		out.Wanted, err = rd.Source.Flag(ctx, "dorvik.referenceWanted")
	}
	return out, err
}

// referencesBy returns References by a regular expression, or by the usual one if it is empty. The first group of the
// expression is the sign, or all of it if there is no group.
func referencesBy(expr string) (*References, error) {
	if expr == "" {
		return &References{pattern: usualReference}, nil
	}
	pattern, err := regexp.Compile(expr)
	if err != nil {
		return nil, fmt.Errorf("dorvik.reference is not a regular expression: %w", err)
	}
	return &References{pattern: pattern}, nil
}

// Places lists the first and the end byte of each sign in a text.
func (r *References) Places(text string) (found [][2]int) {
	for _, m := range r.pattern.FindAllStringSubmatchIndex(text, -1) {
		if len(m) > 2 && m[2] >= 0 {
			m = m[2:]
		}
		if m[1] > m[0] {
			found = append(found, [2]int{m[0], m[1]})
		}
	}
	return found
}

// In lists the signs in some texts, each once, in the order in which they appear.
func (r *References) In(texts ...string) (found []string) {
	for _, text := range texts {
		for _, at := range r.Places(text) {
			sign := strings.TrimSpace(text[at[0]:at[1]])
			if sign != "" && !slices.Contains(found, sign) {
				found = append(found, sign)
			}
		}
	}
	return found
}

// Of lists the signs in the messages of commits, oldest first.
func (r *References) Of(commits []history.Node) []string {
	var texts []string
	for _, n := range slices.Backward(commits) {
		texts = append(texts, n.Text())
	}
	return r.In(texts...)
}
