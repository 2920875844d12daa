package recovery

import (
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// Pushed is the outcome of a push.
type Pushed struct {
	Tip      object.ID
	Holds    object.ID    // the remote's tip afterwards, as reported
	Refusal  *vcs.Refusal // nil if it was accepted
	Said     []string     // messages of the local hook and the server
	Tries    int          // how often it was tried
	Unsure   bool         // the push failed, and it is unknown whether the remote has the tip anyway
	To       vcs.Line     // where it went
	Was      object.ID    // for an exchange: the tip that was replaced
	Follows  string       // the new upstream; empty if it did not change
	WentBack bool         // the join was undone, to be repeated with the new commits
}

// Refused describes a failed push and the next step. joined is true if a join can be undone.
func (d *Pushed) Refused(joined bool) (head, text, next string) {
	ref := d.Refusal
	head, text = ref.Head(), words.Sentence(ref.Error())
	safe, undo := "Your commits are safe here.", ""
	if joined {
		safe, undo = "Your joined branch is safe here.", "; or undo the join with u"
	}
	next = safe + " " + ref.Next() + words.If(strings.HasPrefix(ref.Again(), "then "), ", ",
		"; ") + ref.Again() + undo + "."
	if d.Unsure {
		next = "The remote does not answer, so it is not known whether the push arrived all the same. " + next
	}
	return head, text, next
}
