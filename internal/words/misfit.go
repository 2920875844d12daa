package words

import (
	"fmt"
	"strings"

	"dorvik.dev/dorvik/internal/core/misfit"
)

// Misfit returns a sentence, without its full stop, about why two edits do not work together. changed is who made the
// first edit and used who made the other: names, or "you".
func Misfit(m misfit.Misfit, changed, used string) string {
	return strings.ToUpper(changed[:1]) + changed[1:] + " " + did(m) + "; " + uses(m, used)
}

// did describes what happened to the changed thing.
func did(m misfit.Misfit) string {
	gone := m.Changed.Gone && m.Used.Gone
	switch m.Kind {
	case misfit.Renamed:
		return fmt.Sprintf("renamed %s to %s", m.Name, m.Now)
	case misfit.Moved:
		return fmt.Sprintf("moved %s to %s", m.Name, m.Now)
	case misfit.Signature:
		return "changed the signature or type of " + m.Name
	case misfit.Duplicate:
		return "added " + m.Name
	case misfit.Key:
		if m.Now != "" {
			return fmt.Sprintf("renamed the key %s to %s", m.Name, m.Now)
		}
		return "removed the key " + m.Name
	case misfit.Import:
		if !gone {
			return "removed the import of " + m.Name
		}
	case misfit.Implements:
		return "added " + m.Name + " to an interface"
	}
	if gone || m.Used.Gone {
		return "removed a use of " + m.Name
	}
	return "removed " + m.Name
}

// uses describes what the other side does with it.
func uses(m misfit.Misfit, who string) string {
	whose := If(who == "you", "your", who+"'s")
	switch {
	case m.Kind == misfit.Duplicate:
		return who + " added another " + m.Name
	case m.Used.Gone:
		return who + " removed the other, so nothing uses it"
	case m.Kind == misfit.Implements:
		return whose + " type does not have it"
	case m.Kind == misfit.Signature:
		return whose + " code uses it as before"
	case m.Kind == misfit.Key:
		return whose + " code still reads " + m.Name
	}
	return whose + " code still uses " + m.Name
}
