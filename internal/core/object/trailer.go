package object

import (
	"slices"
	"strings"
)

// written lists the beginnings of the trailers that git writes.
var written = []string{"Signed-off-by: ", "(cherry picked from commit "}

// WithTrailer adds a trailer, such as a sign-off, to a message: below its trailers, or as a new paragraph. A message
// that ends with that trailer stays as it is. As in git-interpret-trailers, the last paragraph counts as trailers if
// all of its lines are trailers, or a quarter of them with one that git writes.
func WithTrailer(message, line string) string {
	message = strings.TrimRight(message, "\n")
	paragraphs := strings.Split(message, "\n\n")
	last := strings.Split(paragraphs[len(paragraphs)-1], "\n")
	if last[len(last)-1] == line {
		return message + "\n"
	}
	var trailers, others int
	ours := false
	for _, l := range last {
		byGit := slices.ContainsFunc(written, func(w string) bool { return strings.HasPrefix(l, w) })
		ours = ours || byGit
		switch {
		case byGit, isTrailer(l):
			trailers++
		case trailers > 0 && strings.HasPrefix(l, " "): // a continuation line of the trailer before
		default:
			others++
		}
	}
	if len(paragraphs) == 1 || others > 0 && (!ours || 3*trailers < others) || trailers == 0 {
		message += "\n"
	}
	return message + "\n" + line + "\n"
}

// isTrailer reports whether a line is a token, a colon, a space and a value.
func isTrailer(l string) bool {
	token, value, ok := strings.Cut(l, ": ")
	letter := func(r rune) bool { return r >= 'A' && r <= 'Z' || r >= 'a' && r <= 'z' }
	odd := func(r rune) bool { return !letter(r) && r != '-' && (r < '0' || r > '9') }
	return ok && value != "" && token != "" && letter(rune(token[0])) && !strings.ContainsFunc(token, odd)
}
