package format

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
)

// xmlEntries parses elements.
func xmlEntries(s *source, lo, hi int) (excerpt, bool) {
	return s.shifted(lo, hi, func(text string) (*group, bool) {
		x := &xmlScanner{text, xml.NewDecoder(strings.NewReader(text))}
		x.dec.CharsetReader = func(_ string, r io.Reader) (io.Reader, error) { return r, nil }
		g, mixed, _, ok := x.group("", "")
		return g, ok && !mixed
	})
}

type xmlScanner struct {
	text string
	dec  *xml.Decoder
}

// group parses elements up to the end of the enclosing one or, if name is empty, of the text. mixed reports text
// between them. known lists which of xmlNames exist and their contents.
func (x *xmlScanner) group(name, head string) (g *group, mixed bool, known string, ok bool) {
	g = &group{head: head}
	from := int(x.dec.InputOffset()) // text before the next element begins here
	for {
		at := int(x.dec.InputOffset())
		token, err := x.dec.RawToken()
		to := int(x.dec.InputOffset())
		if errors.Is(err, io.EOF) {
			g.tail = x.text[from:]
			return g, mixed, known, name == ""
		}
		if err != nil {
			return nil, false, "", false
		}
		switch token := token.(type) {
		case xml.CharData:
			mixed = mixed || strings.TrimSpace(string(token)) != ""
		case xml.EndElement:
			g.tail = x.text[from:to]
			return g, mixed, known, name == token.Name.Local
		case xml.StartElement:
			in, leaf, is, ok := x.group(token.Name.Local, x.text[from:to])
			if !ok {
				return nil, false, "", false
			}
			end := int(x.dec.InputOffset())
			e := entry{key: token.Name.Local + x.text[at:end], bare: true, name: token.Name.Local,
				text: x.text[from:end], inside: in}
			if leaf || len(in.entries) == 0 {
				e.inside = nil
			}
			for _, name := range knownBy {
				for _, a := range token.Attr {
					if e.bare && a.Name.Local == name {
						e.key, e.bare = token.Name.Local+" "+name+"="+a.Value, false
					}
				}
			}
			if e.bare && is != "" {
				e.key, e.bare = token.Name.Local+is, false
			}
			if slices.Contains(xmlNames, token.Name.Local) && leaf {
				known += " " + token.Name.Local + "=" + x.text[to:end]
			}
			g.entries = append(g.entries, e)
			from = end
		}
	}
}

// xmlNames lists the children that identify an element.
var xmlNames = append([]string{"groupId", "artifactId", "classifier"}, knownBy...)

func xmlProblem(text string) string {
	dec := xml.NewDecoder(strings.NewReader(text))
	dec.CharsetReader = func(_ string, r io.Reader) (io.Reader, error) { return r, nil }
	for {
		_, err := dec.Token()
		var syntax *xml.SyntaxError
		switch {
		case errors.Is(err, io.EOF):
			return ""
		case errors.As(err, &syntax):
			return fmt.Sprintf("line %d: %s", syntax.Line, syntax.Msg)
		case err != nil:
			return err.Error()
		}
	}
}
