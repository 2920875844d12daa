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
		if m.What != "" {
			return fmt.Sprintf("changed %s: %s", m.Name, m.What)
		}
		return "changed the signature or type of " + m.Name
	case misfit.Duplicate:
		if m.What != "" {
			return fmt.Sprintf("used the %s %s", m.What, m.Name)
		}
		return "added " + m.Name
	case misfit.Key:
		if m.Now != "" {
			return fmt.Sprintf("renamed the %s %s to %s", m.What, m.Name, m.Now)
		}
		return fmt.Sprintf("removed the %s %s", m.What, m.Name)
	case misfit.Import:
		if !gone {
			return "removed the import of " + m.Name
		}
	case misfit.Implements:
		return "added " + m.Name + If(m.What == misfit.AllListed, " to a list of values", " to an interface")
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
	case m.Kind == misfit.Duplicate && m.What != "":
		return who + " used it for something else"
	case m.Kind == misfit.Duplicate:
		return who + " added another " + m.Name
	case m.Used.Gone:
		return who + " removed the other, so nothing uses it"
	case m.Kind == misfit.Implements && m.What == misfit.AllListed:
		return whose + " code lists all the others"
	case m.Kind == misfit.Implements:
		return whose + " type does not have it"
	case m.Kind == misfit.Signature:
		return whose + " code uses it as before"
	}
	return whose + " code still uses " + m.Name
}
