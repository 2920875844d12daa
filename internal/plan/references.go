package plan

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/history"
)

// usualReference matches signs of tasks such as #12 and FERRY-7.
const usualReference = `(?:^|[^\w&/])(#[0-9]+|[A-Z][A-Z0-9]+-[0-9]+)\b`

// References finds signs of tasks in messages.
type References struct {
	pattern *regexp.Regexp
	Wanted  bool // a push must name one
}

// References returns what dorvik.reference and dorvik.referenceWanted say. The first group of the expression is the
// sign, or all of it if there is no group.
func (rd *Reader) References(ctx context.Context) (*References, error) {
	if rd.Source == nil {
		return &References{pattern: regexp.MustCompile(usualReference)}, nil
	}
	said, err := rd.Source.Config(ctx, "dorvik.reference")
	if err != nil {
		return nil, err
	}
	if said == "" {
		said = usualReference
	}
	out := &References{}
	if out.pattern, err = regexp.Compile(said); err != nil {
		return nil, fmt.Errorf("dorvik.reference is no regular expression: %w", err)
	}
	out.Wanted, err = rd.Source.Flag(ctx, "dorvik.referenceWanted")
	return out, err
}

// In lists the signs in some texts, each once, in the order in which they appear.
func (r *References) In(texts ...string) (found []string) {
	for _, text := range texts {
		for _, m := range r.pattern.FindAllStringSubmatch(text, -1) {
			sign := strings.TrimSpace(m[len(m)-1])
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
