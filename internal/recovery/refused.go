package recovery

import (
	"dorvik.dev/dorvik/internal/words"
)

// Refused describes a failed push and the next step. joined is true if a join can be undone.
func (d *Pushed) Refused(joined bool) (head, text, next string) {
	ref := d.Refusal
	head, text = ref.Head(), words.Sentence(ref.Error())
	safe, undo := "Your commits are safe here.", ""
	if joined {
		safe, undo = "Your joined branch is safe here.", "; or undo the join with u"
	}
	next = safe + " " + ref.Next() + ", then " + ref.Again() + undo + "."
	if d.Unsure {
		next = "The remote does not answer, so it is not known whether the push arrived all the same. " + next
	}
	return head, text, next
}
