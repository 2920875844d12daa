package format

import (
	"errors"
	"io"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"
)

// yamlMarks finds the keys and list items of block mappings and sequences.
func yamlMarks(s *source) map[int]mark {
	s.comments = true
	marks, plain := map[int]mark{}, true
	put := func(n *yaml.Node, m mark, dash string) string {
		if n.Line > len(s.lines) {
			plain = false // the parser also counts other line ends
		} else if _, ok := marks[n.Line-1]; !ok {
			marks[n.Line-1] = m
			l := s.lines[n.Line-1]
			plain = plain && strings.HasPrefix(l[len(indentOf(l)):], dash) &&
				(dash != "" || len(indentOf(l)) == n.Column-1)
		}
		return m.path()
	}
	var walk func(n *yaml.Node, of string)
	walk = func(n *yaml.Node, of string) {
		if n.Style&yaml.FlowStyle != 0 {
			return
		}
		switch n.Kind {
		case yaml.DocumentNode:
			for _, c := range n.Content {
				walk(c, of)
			}
		case yaml.MappingNode:
			for i := 0; i+1 < len(n.Content); i += 2 {
				k, v := n.Content[i], n.Content[i+1]
				walk(v, put(k, mark{parent: of, key: k.Value}, ""))
			}
		case yaml.SequenceNode:
			for _, c := range n.Content {
				walk(c, put(c, yamlItem(c, of), "- "))
			}
		}
	}
	dec := yaml.NewDecoder(strings.NewReader(s.text(0, len(s.lines))))
	for n := 0; ; n++ {
		var doc yaml.Node
		if err := dec.Decode(&doc); errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			return nil
		}
		walk(&doc, strconv.Itoa(n))
	}
	if !plain {
		return nil // keys or items are not where their lines begin
	}
	for i, l := range s.lines {
		if strings.HasPrefix(l, "---") || strings.HasPrefix(l, "...") {
			marks[i] = mark{parent: nowhere}
		}
	}
	return marks
}

// yamlItem returns the mark of an item of a sequence. A key of its own identifies it, if it has one.
func yamlItem(c *yaml.Node, of string) mark {
	m := mark{parent: of, key: yamlText(c), bare: true}
	for i := 0; c.Kind == yaml.MappingNode && i+1 < len(c.Content); i += 2 {
		if k := c.Content[i]; m.bare && slices.Contains(knownBy, k.Value) {
			m.key, m.bare = k.Value+"="+c.Content[i+1].Value, false
		}
	}
	return m
}

// yamlText returns the values of a node, in order.
func yamlText(n *yaml.Node) string {
	text := n.Value
	for _, c := range n.Content {
		text += "\x00" + yamlText(c)
	}
	return text
}

func yamlProblem(text string) string {
	dec := yaml.NewDecoder(strings.NewReader(text))
	for {
		var v any
		err := dec.Decode(&v)
		var types *yaml.TypeError
		switch {
		case errors.Is(err, io.EOF):
			return ""
		case errors.As(err, &types) && len(types.Errors) > 0:
			return types.Errors[0]
		case err != nil:
			return strings.TrimPrefix(err.Error(), "yaml: ")
		}
	}
}
