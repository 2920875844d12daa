package recovery

import (
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// Refused describes a failed push and the next step. joined is true if a join can be undone.
func (d *Pushed) Refused(joined bool) (head, text, next string) {
	ref := d.Refusal
	head, text = "The push was refused.", words.Sentence(ref.Error())
	safe, undo := "Your commits are safe here.", ""
	if joined {
		safe, undo = "Your joined branch is safe here.", "; or undo the join with u"
	}
	again := "push again with enter"
	switch ref.Kind {
	case vcs.LocalHook:
		head = "The push was stopped here."
	case vcs.Gone:
		head, again = "Nothing was pushed.", "press enter again to make it there anew"
	case vcs.Unreachable, vcs.Missing, vcs.HostKey:
		head = "The push did not get through."
	}
	next = safe + " " + ref.Next() + ", then " + again + undo + "."
	if d.Unsure {
		next = "The remote does not answer, so it is not known whether the push arrived all the same. " + next
	}
	return head, text, next
}
