package patch

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net/mail"
	"slices"
	"strings"
	"time"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/rx"

	"golang.org/x/text/encoding/htmlindex"
)

// Mail is a commit that came as a mail.
type Mail struct {
	Author  object.Signature
	Message string
	Patch   string
}

// Reading is how a mail is read, by the options of git am.
type Reading struct {
	KeepSubject bool   // what stands in brackets before the subject is kept,
	KeepOthers  bool   // or only what is not about patches
	Scissors    bool   // what stands over a line that says to cut there is no part of the message
	MessageID   bool   // that of the mail is noted at the end
	SignOff     string // a line that is added at the end; empty for none
}

// ReadMail reads a mail that holds a patch.
func ReadMail(raw string, how Reading) (*Mail, error) {
	if strings.HasPrefix(raw, "From ") { // the line that parts the mails of a box
		_, raw, _ = strings.Cut(raw, "\n")
	}
	m, err := mail.ReadMessage(strings.NewReader(raw))
	if err != nil {
		return nil, fmt.Errorf("the mail cannot be read: %w", err)
	}
	body, charset, err := text(m.Header.Get("Content-Type"), m.Header.Get("Content-Transfer-Encoding"), m.Body)
	if err != nil {
		return nil, err
	}
	head := map[string]string{}
	for _, name := range []string{"From", "Subject", "Date"} {
		head[name] = decoded(m.Header.Get(name))
	}
	words, patch := part(body)
	words = inBody(inCharset(words, charset), head)
	if how.Scissors {
		words = cut(words)
	}
	out := &Mail{Patch: patch}
	if out.Author, err = author(head); err != nil {
		return nil, err
	}
	out.Message = strip(how.subject(head["Subject"]) + "\n\n" + words)
	var trailers []string
	if id := m.Header.Get("Message-Id"); how.MessageID && id != "" {
		trailers = append(trailers, "Message-Id: "+id)
	}
	if how.SignOff != "" {
		trailers = append(trailers, how.SignOff)
	}
	for _, t := range trailers {
		out.Message = WithTrailer(out.Message, t)
	}
	return out, nil
}

// text decodes a body, of several parts all those that are text.
func text(kind, coding string, r io.Reader) (body, charset string, err error) {
	media, params, err := mime.ParseMediaType(kind)
	if err != nil {
		media, params = "text/plain", nil
	}
	if strings.HasPrefix(media, "multipart/") && params["boundary"] != "" {
		parts := multipart.NewReader(r, params["boundary"])
		for {
			p, err := parts.NextRawPart()
			if err == io.EOF {
				return body, charset, nil
			}
			if err != nil {
				return "", "", fmt.Errorf("the parts of the mail cannot be read: %w", err)
			}
			one, of, err := text(p.Header.Get("Content-Type"), p.Header.Get("Content-Transfer-Encoding"), p)
			if err != nil {
				return "", "", err
			}
			if one != "" && !strings.HasSuffix(one, "\n") {
				one += "\n"
			}
			if body += one; charset == "" {
				charset = of
			}
		}
	}
	if !strings.HasPrefix(media, "text/") {
		return "", "", nil
	}
	switch strings.ToLower(coding) {
	case "quoted-printable":
		r = quotedprintable.NewReader(r)
	case "base64":
		r = base64.NewDecoder(base64.StdEncoding, r)
	}
	data, err := io.ReadAll(r)
	if err != nil {
		return "", "", fmt.Errorf("the body of the mail cannot be decoded: %w", err)
	}
	return string(data), params["charset"], nil
}

// inCharset is a text in UTF-8; one whose charset is not known stays as it is.
func inCharset(s, charset string) string {
	if charset == "" {
		return s
	}
	enc, err := htmlindex.Get(charset)
	if err != nil {
		return s
	}
	out, err := enc.NewDecoder().String(s)
	if err != nil {
		return s
	}
	return out
}

// decoded is a header in UTF-8.
func decoded(s string) string {
	d := mime.WordDecoder{CharsetReader: func(charset string, r io.Reader) (io.Reader, error) {
		data, err := io.ReadAll(r)
		return bytes.NewReader([]byte(inCharset(string(data), charset))), err
	}}
	out, err := d.DecodeHeader(s)
	if err != nil {
		return s
	}
	return out
}

// begins reports whether a line begins the patch.
func begins(line string) bool {
	rest, ok := strings.CutPrefix(line, "---")
	return strings.HasPrefix(line, "diff -") || strings.HasPrefix(line, "Index: ") ||
		ok && (strings.TrimSpace(rest) == "" || len(rest) > 1 && rest[0] == ' ' && rest[1] != ' ')
}

// part parts a body into what is said and the patch.
func part(body string) (words, patch string) {
	at := 0
	for line := range strings.Lines(body) {
		if begins(line) {
			break
		}
		at += len(line)
	}
	return body[:at], body[at:]
}

// inBody takes the headers that stand at the beginning of a body, before anything else is said.
func inBody(words string, head map[string]string) string {
	rest := strings.TrimLeft(words, " \t\r\n")
	found := false
	for {
		line, more, _ := strings.Cut(rest, "\n")
		name, value, ok := strings.Cut(line, ": ")
		if _, known := head[name]; !ok || !known {
			break
		}
		head[name], rest, found = decoded(strings.TrimSpace(value)), more, true
	}
	if !found {
		return words
	}
	return rest
}

var scissors = rx.New(`^[-\s]*(>8|8<|>%|%<)[-\s]*$|^[-\s]*-[-\s]*(>8|8<|>%|%<)`)

// cut takes what stands over the last line that says to cut there.
func cut(words string) string {
	out := words
	at := 0
	for line := range strings.Lines(words) {
		at += len(line)
		if strings.Contains(line, "-") && scissors.MatchString(strings.TrimRight(line, "\r\n")) {
			out = words[at:]
		}
	}
	return out
}

// subject is what a subject says, without what was put before it on the way.
func (how Reading) subject(s string) string {
	if how.KeepSubject {
		return strings.TrimSpace(s)
	}
	var kept string
	for {
		s = strings.TrimLeft(s, " \t:")
		switch {
		case len(s) > 2 && strings.EqualFold(s[:3], "re:"):
			s = s[3:]
			continue
		case strings.HasPrefix(s, "["):
			if in, rest, ok := strings.Cut(s, "]"); ok {
				if how.KeepOthers && !strings.Contains(in, "PATCH") {
					kept += in + "] "
				}
				s = rest
				continue
			}
		}
		return kept + strings.Join(strings.Fields(s), " ")
	}
}

// author is who wrote the patch, and when.
func author(head map[string]string) (object.Signature, error) {
	var out object.Signature
	if a, err := mail.ParseAddress(head["From"]); err == nil {
		out.Name, out.Email = a.Name, a.Address
	} else {
		out = object.ParseSignature(head["From"])
		out.Name = strings.Trim(out.Name, `"`)
	}
	if out.Email == "" {
		return out, fmt.Errorf("the mail does not say who wrote the patch")
	}
	if out.Name == "" {
		out.Name = out.Email
	}
	when, err := mail.ParseDate(head["Date"])
	if err != nil {
		for _, form := range []string{"Mon Jan 2 15:04:05 2006 -0700", time.RFC3339, "2006-01-02 15:04:05 -0700"} {
			if when, err = time.Parse(form, head["Date"]); err == nil {
				break
			}
		}
	}
	if err != nil {
		return out, fmt.Errorf("the mail does not say when the patch was written")
	}
	out.When, out.Zone = when.Unix(), when.Format("-0700")
	return out, nil
}

// strip has a message end its lines without blanks, and hold no more than one empty line in a row.
func strip(s string) string {
	var out []string
	for line := range strings.SplitSeq(s, "\n") {
		if line = strings.TrimRight(line, " \t\r\f\v"); line == "" && (len(out) == 0 || out[len(out)-1] == "") {
			continue
		}
		out = append(out, line)
	}
	return strings.TrimRight(strings.Join(out, "\n"), "\n") + "\n"
}

var trailer = rx.New(`^[A-Za-z][A-Za-z0-9-]*: .`)

// written are the beginnings of trailers that git itself writes.
var written = []string{"Signed-off-by: ", "(cherry picked from commit "}

// WithTrailer adds a trailer, such as a sign-off, to a message: below the trailers it has, else as a paragraph of its
// own. A message whose last line is that trailer stays as it is. The last paragraph counts as trailers by the rule of
// git-interpret-trailers: all of its lines are, or a quarter of them with one that git writes.
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
		case byGit, trailer.MatchString(l):
			trailers++
		case trailers > 0 && strings.HasPrefix(l, " "): // goes on with the one before
		default:
			others++
		}
	}
	if len(paragraphs) == 1 || others > 0 && (!ours || 3*trailers < others) || trailers == 0 {
		message += "\n"
	}
	return message + "\n" + line + "\n"
}
