package format

import (
	"fmt"
	"regexp"
	"strings"

	"dorvik.dev/dorvik/internal/core/rx"
)

// instructions are the words that begin a line of a Dockerfile.
const instructions = " ADD ARG CMD COPY ENTRYPOINT ENV EXPOSE FROM HEALTHCHECK LABEL MAINTAINER ONBUILD RUN SHELL " +
	"STOPSIGNAL USER VOLUME WORKDIR "

// otherEscape matches the directive by which another sign than \ lets a line go on.
var otherEscape = rx.New(`(?i)^#\s*escape\s*=\s*[^\\\s]`)

// instructionsProblem returns the first line of a Dockerfile that no instruction begins, an instruction before the
// first FROM, or a last line that does not end.
func instructionsProblem(text string) string {
	if otherEscape.MatchString(text) {
		return ""
	}
	n, from, until := 0, false, ""
	goesOn := false
	for line := range strings.Lines(text) {
		n++
		body := strings.TrimSpace(line)
		switch {
		case until != "":
			if body == until {
				until = ""
			}
			continue
		case body == "" || strings.HasPrefix(body, "#"):
			continue
		case !goesOn:
			word := firstWord(body)
			switch name := strings.ToUpper(word); {
			case !strings.Contains(instructions, " "+name+" "):
				return fmt.Sprintf("line %d: %s is no instruction", n, word)
			case name == "FROM":
				from = true
			case !from && name != "ARG":
				return fmt.Sprintf("line %d: %s stands before FROM", n, word)
			}
		}
		if goesOn = strings.HasSuffix(body, `\`); goesOn {
			continue
		}
		if m := document.FindStringSubmatch(body); m != nil && endsDocument(text, m[1]) {
			until = m[1]
		}
	}
	if goesOn {
		return fmt.Sprintf("line %d: it goes on, and nothing follows", n)
	}
	return ""
}

// endsDocument reports whether a word stands alone in a line of a text.
func endsDocument(text, word string) bool {
	return regexp.MustCompile(`(?m)^\s*` + regexp.QuoteMeta(word) + `\s*$`).MatchString(text)
}
