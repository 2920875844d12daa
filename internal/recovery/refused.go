package recovery

import (
	"fmt"
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
	Tags     []string     // tags that the remote has now
	NoTags   []string     // tags that it did not take
	Kept     []string     // tags that belong to what went, and were not pushed
	Phase    vcs.Phase    // of the tip; empty in a system without
	Follows  string       // the new upstream; empty if it did not change
	WentBack bool         // the join was undone, to be repeated with the new commits
}

// PhaseSentence describes what the push made of what went, or is empty.
func (d *Pushed) PhaseSentence() string { return d.Phase.After(d.To.Remote) }

// TagsSentence describes what became of the tags, or is empty.
func (d *Pushed) TagsSentence() (text string) {
	if n := len(d.Tags); n > 0 {
		text = fmt.Sprintf("%s %s went, too.", words.Is(n, "The tag", "The tags"), words.List(d.Tags))
	}
	if n := len(d.NoTags); n > 0 {
		text += fmt.Sprintf(" %s did not take %s %s: it has another of that name, or refuses it.", d.To.Remote,
			words.Is(n, "the tag", "the tags"), words.List(d.NoTags))
	}
	return strings.TrimSpace(text)
}

// Refused describes a failed push and the next step. joined is true if a join can be undone.
func (d *Pushed) Refused(joined bool) (head, text, next string) {
	ref := d.Refusal
	head, text = ref.Head(), words.Sentence(ref.Error())
	safe, undo := "Your commits are safe here.", ""
	if joined && ref.Went == 0 {
		safe, undo = "Your joined branch is safe here.", "; or undo the join with u"
	}
	next = safe + " " + ref.Next() + words.If(strings.HasPrefix(ref.Again(), "then "), ", ",
		"; ") + ref.Again() + undo + "."
	if d.Unsure {
		next = "The remote does not answer, so it is not known whether the push arrived all the same. " + next
	}
	return head, text, next
}
