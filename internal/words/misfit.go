package words

import (
	"fmt"
	"strings"

	"dorvik.dev/dorvik/internal/core/misfit"
)

// Misfit says in a sentence, without its full stop, why two edits do not fit. changed is who made the first, used who
// made the other: names, or "you".
func Misfit(m misfit.Misfit, changed, used string) string {
	return strings.ToUpper(changed[:1]) + changed[1:] + " " + did(m) + ", and " + uses(m, used)
}

// did is what became of the thing.
func did(m misfit.Misfit) string {
	switch m.Kind {
	case misfit.Renamed:
		return fmt.Sprintf("renamed %s to %s", m.Name, m.Now)
	case misfit.Moved:
		return fmt.Sprintf("moved %s to %s", m.Name, m.Now)
	case misfit.Signature:
		return "changed what " + m.Name + " takes, gives or is"
	case misfit.Duplicate:
		return "added " + m.Name
	case misfit.Key:
		if m.Now != "" {
			return fmt.Sprintf("renamed the key %s to %s", m.Name, m.Now)
		}
		return "took the key " + m.Name + " out"
	case misfit.Import:
		if m.Changed.Gone && m.Used.Gone {
			return "stopped using " + m.Name + " here"
		}
		return "stopped importing " + m.Name
	case misfit.Implements:
		return "had " + m.Name + " be asked for, too"
	}
	if m.Used.Gone {
		return "stopped using " + m.Name + " here"
	}
	return "took " + m.Name + " out"
}

// uses is what the other side did with it.
func uses(m misfit.Misfit, who string) string {
	switch {
	case m.Kind == misfit.Duplicate:
		return who + " added another"
	case m.Used.Gone:
		return who + " did so there: nothing uses it any more"
	case m.Kind == misfit.Implements:
		return who + " wrote something without it"
	case m.Kind == misfit.Key:
		return If(who == "you", "you read it as it was", who+" reads it as it was")
	}
	return If(who == "you", "you use it as it was", who+" uses it as it was")
}
