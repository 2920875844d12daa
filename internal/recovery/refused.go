package recovery

import (
	"dorvik.dev/dorvik/internal/git"
	"dorvik.dev/dorvik/internal/words"
)

// Refused says in sentences what became of a push that did not go through, and what to do.
// joined is true where what was to be pushed is a joined result that can be undone.
func (d *Pushed) Refused(joined bool) (head, text, next string) {
	ref := d.Refusal
	head, text = "The push was refused.", words.Sentence(ref.Error())
	safe, undo := "Your commits are safe here.", ""
	if joined {
		safe, undo = "Your joined branch is safe here.", "; or undo the join with u"
	}
	switch ref.Kind {
	case git.ServerRule:
		next = safe + " Do what the server asks for, then push again with enter" + undo + "."
	case git.LocalHook:
		head = "The push was stopped here."
		next = safe + " Mend what the hook found, then push again with enter" + undo + "."
	case git.Gone:
		head = "Nothing was pushed."
		next = safe + " To make it there anew, press enter again" + undo + "."
	case git.NoAccess:
		next = safe + " Push again with enter once you are let in" + undo + "."
	case git.Unreachable:
		head = "The push did not get through."
		next = safe + " Push again with enter when the remote can be reached."
	default:
		next = safe + " Push again with enter" + undo + "."
	}
	if d.Unsure {
		next = "The remote does not answer, so it is not known whether the push arrived all the same. " + next
	}
	return head, text, next
}
