package proposal

import (
	"fmt"
	"regexp"
	"strings"
)

// Pattern tells which refs of a remote are proposals. It is a full ref name with placeholders: {name} stands for the
// proposal's name, without a slash, and {into}, which can be left out, for the branch that it is to be joined into.
type Pattern struct {
	text   string
	prefix string // the text before the first placeholder
	match  *regexp.Regexp
}

// Usual is the pattern that is tried where the configuration names none.
const Usual = "refs/proposals/{name}/{into}"

// ParsePattern reads a pattern. An asterisk can stand for {name}.
func ParsePattern(text string) (Pattern, error) {
	said := text
	if !strings.Contains(text, "{name}") {
		text = strings.Replace(text, "*", "{name}", 1)
	}
	before, after, named := strings.Cut(text, "{name}")
	wrong := func(why string) (Pattern, error) {
		return Pattern{}, fmt.Errorf("dorvik.proposals is %q, and %s; write it like %s", said, why, Usual)
	}
	switch plain := strings.NewReplacer("{name}", "", "{into}", "").Replace(text); {
	case !named:
		return wrong("has no {name}")
	case strings.ContainsAny(plain, "{}*?[ ~^:\\") || strings.Count(text, "{name}") > 1 || strings.Count(text,
		"{into}") > 1:
		return wrong("holds something besides one {name} and one {into} that cannot be in a ref")
	case !strings.HasPrefix(before, "refs/") || strings.Contains(before, "{into}"):
		return wrong("does not begin with refs/ and a folder")
	case strings.HasPrefix(before, "refs/heads/") || strings.HasPrefix(before, "refs/tags/"):
		return wrong("names branches or tags, which are no proposals")
	}
	form := regexp.QuoteMeta(before) + "(?P<name>[^/]+)" +
		strings.Replace(regexp.QuoteMeta(after), regexp.QuoteMeta("{into}"), "(?P<into>.+)", 1)
	return Pattern{text, before, regexp.MustCompile("^" + form + "$")}, nil
}

// Match returns the name of the proposal that a ref shows, and the branch that it is to be joined into, which is empty
// if the pattern does not tell. ok is false if the ref is no proposal.
func (p Pattern) Match(ref string) (name, into string, ok bool) {
	m := p.match.FindStringSubmatch(ref)
	if m == nil {
		return "", "", false
	}
	if i := p.match.SubexpIndex("into"); i >= 0 {
		into = m[i]
	}
	return m[p.match.SubexpIndex("name")], into, true
}

func (p Pattern) String() string { return p.text }
