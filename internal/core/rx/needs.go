package rx

import (
	"regexp/syntax"
	"strings"
)

// needs returns texts of which every match contains at least one; nil if that cannot be said. It lets most lines be
// passed over without running the expression, which takes some fifty times as long.
func needs(expr string) []string {
	tree, err := syntax.Parse(expr, syntax.Perl)
	if err != nil {
		return nil
	}
	return needed(tree)
}

func needed(e *syntax.Regexp) []string {
	switch e.Op {
	case syntax.OpLiteral:
		if e.Flags&syntax.FoldCase == 0 {
			return []string{string(e.Rune)}
		}
	case syntax.OpCapture, syntax.OpPlus:
		return needed(e.Sub[0])
	case syntax.OpRepeat:
		if e.Min > 0 {
			return needed(e.Sub[0])
		}
	case syntax.OpConcat: // the part whose shortest text is the longest
		var best []string
		for _, sub := range e.Sub {
			if list := needed(sub); shortest(list) > shortest(best) {
				best = list
			}
		}
		return best
	case syntax.OpAlternate:
		var all []string
		for _, sub := range e.Sub {
			list := needed(sub)
			if list == nil {
				return nil
			}
			all = append(all, list...)
		}
		return all
	}
	return nil
}

func shortest(list []string) int {
	if len(list) == 0 {
		return 0
	}
	least := len(list[0])
	for _, s := range list {
		least = min(least, len(s))
	}
	return least
}

// lacks reports whether a text contains none of the texts that a match needs.
func lacks(text string, needs []string) bool {
	for _, s := range needs {
		if strings.Contains(text, s) {
			return false
		}
	}
	return len(needs) > 0
}
