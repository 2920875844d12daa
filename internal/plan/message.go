package plan

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/rx"
	"dorvik.dev/dorvik/internal/core/settle"
)

// MergeSubject returns the first line of a merge commit's message: what was brought into what.
func MergeSubject(p *Position) string {
	if r := p.Resumes(); r != nil && r.Message != "" {
		subject, _, _ := strings.Cut(r.Message, "\n")
		return subject
	}
	return fmt.Sprintf("Merge %s into %s", p.Line().Name, p.Branch.Name)
}

// say sets the message of the merge commit: the written one, or the proposed one with the tasks of both sides.
func (pn *Planner) say(ctx context.Context, j *Join, p *Position, written string, decisions *settle.Decisions) error {
	if j.Route != Merge || p.SettlesOnly() {
		return nil
	}
	refs, err := pn.References(ctx)
	if err != nil {
		return err
	}
	j.Message = cmp.Or(written, j.mergeMessage(p, decisions, refs))
	return nil
}

// mostListed is the number of commits that a merge commit's message lists.
const mostListed = 20

// MergeMessage returns the message of a merge commit without conflicts: what was brought into what, and the commits
// with their authors.
func MergeMessage(p *Position) string {
	text := MergeSubject(p)
	for i, n := range p.Divergence.Theirs {
		text += "\n"
		if i == 0 {
			text += "\n"
		}
		if i == mostListed {
			text += fmt.Sprintf("- and %d more", len(p.Divergence.Theirs)-i)
			break
		}
		text += fmt.Sprintf("- %s (%s)", n.Subject(), n.Author().Name)
	}
	return text + "\n"
}

// mergeMessage returns the message of the merge commit: that of MergeMessage, then each settled conflict with its way
// and the reason, and the tasks of both sides. A message that git prepared keeps its text and its trailers.
func (j *Join) mergeMessage(p *Position, decisions *settle.Decisions, refs *References) string {
	text, trailers := strings.TrimSuffix(MergeMessage(p), "\n"), ""
	if r := p.Resumes(); r != nil && r.Message != "" {
		text, trailers = splitTrailers(r.Message)
	}
	for i, line := range j.settledLines(decisions) {
		if i == 0 {
			text += "\n\nConflicts, and how they were settled:\n"
		}
		text += "\n- " + line
	}
	if signs := refs.Of(append(slices.Clone(p.Divergence.Theirs), p.Divergence.Yours...)); len(signs) > 0 {
		trailers = strings.TrimPrefix(trailers+"\nReferences: "+strings.Join(signs, ", "), "\n")
	}
	if trailers != "" {
		text += "\n\n" + trailers
	}
	return text + "\n"
}

// settledLines describes each conflict of the merge that was settled: where, the way, and why it was offered. Conflicts
// that are described alike share a line.
func (j *Join) settledLines(decisions *settle.Decisions) (lines []string) {
	count := map[string]int{}
	for _, stop := range j.Stops {
		for _, f := range stop.Files {
			for _, q := range f.Questions {
				d, o, ok := decisions.For(q)
				if !ok || stop.Uncommitted {
					continue
				}
				line := q.Path + ": " + d.Way.Label()
				if o.Reason != "" {
					line += " (" + o.Reason + ")"
				}
				if count[line]++; count[line] == 1 {
					lines = append(lines, line)
				}
			}
		}
	}
	for i, line := range lines {
		if n := count[line]; n > 1 {
			lines[i] = fmt.Sprintf("%s, %d times", line, n)
		}
	}
	return lines
}

// trailer matches a line such as “Signed-off-by: NAME <ADDRESS>” (git interpret-trailers).
var trailer = rx.New(`^[A-Za-z0-9][A-Za-z0-9-]*: \S`)

// splitTrailers separates the last paragraph of a message if all its lines are trailers.
func splitTrailers(message string) (text, trailers string) {
	message = strings.TrimRight(message, "\n")
	i := strings.LastIndex(message, "\n\n")
	if i < 0 {
		return message, ""
	}
	for line := range strings.Lines(message[i+2:]) {
		if !trailer.MatchString(line) {
			return message, ""
		}
	}
	return message[:i], message[i+2:]
}
