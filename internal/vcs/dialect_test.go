package vcs

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestSentencesInTheWordsOfASystem: where a line is one row of revisions, nothing is pushed, and no branch changes.
func TestSentencesInTheWordsOfASystem(t *testing.T) {
	for said, inSubversion := range map[string]string{
		"A push would be rejected.":                       "A check-in would be rejected.",
		"1 of 2 commits that ask":                         "1 of 2 revisions that ask",
		"Push it; then it is pushed.":                     "Check it in; then it is checked in.",
		"your branch and working tree are as they were":   "your files are as they were",
		"Your branch and files are at the joined result.": "Your files are at the joined result.",
		"Uncommitted work was committed on main":          "Uncommitted work was committed on main",
		"join on your branch, push later":                 "join in your files, check in later",
		"with their next pull":                            "with their next update",
		"without touching your branch or files":           "without touching your files",
	} {
		assert.Equal(t, inSubversion, InSubversion.Say(said))
		assert.Equal(t, said, InGit.Say(said))
		assert.Equal(t, said, InMercurial.Say(said))
	}
}
