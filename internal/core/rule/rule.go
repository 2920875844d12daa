// Package rule learns what a server asks of commits, from the words by which it refused some, so that the next push can
// be looked through before it goes.
//
// A rule is learned only if the words say it and at least one refused commit breaks it. It is a guess: the server
// decides.
package rule

import (
	"math"
	"regexp"
	"strconv"
	"strings"

	"dorvik.dev/dorvik/internal/core/rx"
)

// Kind is what a rule is about.
type Kind string

// The kinds.
const (
	Size    Kind = "size"     // no file is larger
	Pattern Kind = "pattern"  // the message matches a regular expression
	Task    Kind = "task"     // the message names a task
	SignOff Kind = "sign-off" // the message has a line “Signed-off-by:”
	Author  Kind = "author"   // the author's e-mail address ends so
)

// Rule is what a server asks.
type Rule struct {
	Kind  Kind   `json:"kind"`
	Bytes int64  `json:"bytes,omitempty"` // for Size: the largest file that is not refused
	Text  string `json:"text,omitempty"`  // for Pattern the expression, for Author the end of the address
	// Each reports that every commit has to keep it. Otherwise it may be enough that one does.
	Each bool `json:"each,omitempty"`
}

// Commit is what rules are about.
type Commit struct {
	Message string
	Email   string           // of the author
	Merge   bool             // servers often exempt merges from rules about messages
	Files   map[string]int64 // files that it adds or changes, with their sizes in bytes
	Task    bool             // the message names a task
}

// Learn returns the rules that the words of a refusal say and that the refused commits break. An example in the words
// that names a task is found by names.
func Learn(words []string, refused []Commit, names func(text string) bool) (rules []Rule) {
	said := strings.Join(words, "\n")
	for _, r := range []Rule{readLimit(said, refused), readPattern(said), {Kind: SignOff}, readAuthor(said),
		{Kind: Task}} {
		switch {
		case r.Kind == "":
			continue
		case r.Kind == SignOff && !speaksOfSignOff.MatchString(said):
			continue
		case r.Kind == Task && !names(said) && !speaksOfTask.MatchString(said):
			continue
		}
		failing := r.failing(refused)
		if len(failing) == 0 {
			continue
		}
		r.Each = r.Kind == Size || len(failing) < len(refused)
		rules = append(rules, r)
		if r.Kind == Pattern {
			break // what else is said explains the expression
		}
	}
	return rules
}

var (
	speaksOfSignOff = rx.New(`(?i)\bsign(?:ed)?[- ]?off`)
	speaksOfTask    = rx.New(`(?i)\b(task|ticket|issue|work item|story)\b`)
	signedOff       = rx.New(`(?im)^signed-off-by:\s*\S`)
	// expression finds a regular expression: between quotes or slashes, or from ^ to the end of the line.
	expression = rx.New("(?im)\\b(?:match\\w*|pattern|regex\\w*|expression|format)\\b[^'\"`/^\\n]{0,40}" +
		"(?:'([^'\\n]+)'|\"([^\"\\n]+)\"|`([^`\\n]+)`|/([^/\\n]+)/|(\\^[^\\n]+))")
	address = rx.New(`(?:^|[\s'"(*])(@[A-Za-z0-9-]+(?:\.[A-Za-z0-9-]+)+)`)
	amount  = rx.New(`(?i)\b([0-9]+(?:[.,][0-9]+)?)\s*(bytes?|[kmgt](?:i?b|ib?)?)\b`)
)

// readPattern reads a regular expression.
func readPattern(said string) (r Rule) {
	m := expression.FindStringSubmatch(said)
	for _, text := range m[min(1, len(m)):] {
		if text = strings.TrimSpace(text); text == "" {
			continue
		}
		if _, err := compiled(text); err == nil {
			return Rule{Kind: Pattern, Text: text}
		}
	}
	return r
}

// compiled compiles an expression as servers match messages: line by line.
func compiled(text string) (*regexp.Regexp, error) { return regexp.Compile("(?m)" + text) }

// readAuthor reads the end of an address.
func readAuthor(said string) (r Rule) {
	if m := address.FindStringSubmatch(said); m != nil {
		return Rule{Kind: Author, Text: m[1]}
	}
	return r
}

// readLimit reads the largest size that is allowed: of the sizes in the words the largest that a refused file is
// beyond. The words often name the size of the file, too, so what is nearly that is passed over.
func readLimit(said string, refused []Commit) (r Rule) {
	var largest int64
	for _, c := range refused {
		for _, size := range c.Files {
			largest = max(largest, size)
		}
	}
	for _, m := range amount.FindAllStringSubmatch(said, -1) {
		n, err := strconv.ParseFloat(strings.Replace(m[1], ",", ".", 1), 64)
		if err != nil {
			continue
		}
		bytes := int64(n * unit(m[2]))
		if bytes > 0 && float64(bytes) < 0.95*float64(largest) && bytes > r.Bytes {
			r = Rule{Kind: Size, Bytes: bytes}
		}
	}
	return r
}

// unit returns the bytes of a unit. Servers mean powers of 1024 by any of its names.
func unit(name string) float64 {
	switch strings.ToLower(name)[0] {
	case 'k':
		return 1 << 10
	case 'm':
		return 1 << 20
	case 'g':
		return 1 << 30
	case 't':
		return 1 << 40
	}
	return 1
}

// Broken returns the indices of the commits that break the rule.
func (r Rule) Broken(commits []Commit) []int {
	failing := r.failing(commits)
	if !r.Each && len(failing) < len(commits) {
		return nil
	}
	return failing
}

// failing returns the indices of the commits that do not keep the rule.
func (r Rule) failing(commits []Commit) (at []int) {
	keeps := r.keeps()
	for i, c := range commits {
		if !keeps(c) {
			at = append(at, i)
		}
	}
	return at
}

// keeps returns whether a commit keeps the rule.
func (r Rule) keeps() func(c Commit) bool {
	switch r.Kind {
	case Size:
		return func(c Commit) bool { return r.Beyond(c) == "" }
	case Pattern:
		if expr, err := compiled(r.Text); err == nil {
			return func(c Commit) bool { return c.Merge || expr.MatchString(c.Message) }
		}
	case Task:
		return func(c Commit) bool { return c.Merge || c.Task }
	case SignOff:
		return func(c Commit) bool { return c.Merge || signedOff.MatchString(c.Message) }
	case Author:
		return func(c Commit) bool { return strings.HasSuffix(strings.ToLower(c.Email), strings.ToLower(r.Text)) }
	}
	return func(Commit) bool { return true }
}

// Beyond returns the largest file of a commit that is larger than the rule allows, or an empty string.
func (r Rule) Beyond(c Commit) (path string) {
	if r.Kind != Size {
		return ""
	}
	most := r.Bytes
	for name, size := range c.Files {
		if size > most || size == most && path != "" && name < path {
			path, most = name, size
		}
	}
	return path
}

// String describes what the server asks, without a full stop.
func (r Rule) String() string {
	switch r.Kind {
	case Size:
		return "no file over " + bytes(r.Bytes)
	case Pattern:
		return "messages that match " + r.Text
	case Task:
		return "a task in the message"
	case SignOff:
		return "a line Signed-off-by in the message"
	case Author:
		return "an author's address that ends with " + r.Text
	}
	return "something that is not known here"
}

// bytes writes a size with a unit, up to a tenth of it.
func bytes(n int64) string {
	units, size := []string{"bytes", "kB", "MB", "GB", "TB"}, float64(n)
	for ; size >= 1<<10 && len(units) > 1; units = units[1:] {
		size /= 1 << 10
	}
	return strconv.FormatFloat(math.Round(size*10)/10, 'f', -1, 64) + " " + units[0]
}
