package vcs

import (
	"fmt"
	"strings"
)

// Dialect is how the users of a system say things: the commands that a sentence names as the next step.
type Dialect struct {
	Name      string // of the system, in a sentence
	AddRemote string // names a remote
	LetGo     string // has secret commits pushed; empty without such
	Verify    string // checks what is stored
	settings  string // sets a key, whose section and name it is made with
	own       string // sets a key for all repositories
	source    string // where the value of a key was read
	switching string // goes to a branch
	// FreeRefs says that branches are refs: they move without a commit, and remotes can have refs of any name. Putting
	// a branch forward, proposals and shared decisions need that.
	FreeRefs bool
	// Index says that work is staged before it is committed. Without, a commit takes all tracked files.
	Index bool
	// KeepsShared says that commits that others have are never replaced.
	KeepsShared bool
	// LateIDs says that a new commit gets its id only when it is stored.
	LateIDs bool
	// Linear says that a line is one row of commits: what is yours goes on top, and a merge of yours with theirs is no
	// commit.
	Linear bool
}

// The dialects. Rows are written without field names, so a row that lacks a field does not compile.
var (
	InGit = Dialect{"git", "“git remote add origin ADDRESS”", "", "“git fsck”", "“git config dorvik.%s”",
		"“git config --global dorvik.%s”", "git config dorvik.%s", "“git switch %s”", true, true, false, false, false}
	InMercurial = Dialect{"Mercurial", "“default = ADDRESS” in the section [paths] of .hg/hgrc",
		"“hg phase --draft -r .”", "“hg verify”",
		"“%s = …” in the section [dorvik] of .hg/hgrc", "“%s = …” in the section [dorvik] of your .hgrc",
		"[dorvik] %s in hgrc", "“hg update %s”", false, false, true, true, false}
	InSubversion = Dialect{"Subversion", "“svn relocate ADDRESS”", "", "“svnadmin verify” at the repository",
		"“%s = …” in the section [dorvik] of .svn/dorvik/config",
		"“%s = …” in the section [dorvik] of ~/.subversion/config", "[dorvik] %s in .svn/dorvik/config",
		"“svn switch %s”", false, false, true, true, true}
)

// sends has the words of a system in which a push is a check-in, and what it makes a revision, and in which a join
// changes files and no branch. Longer ones come first.
var sends = strings.NewReplacer("branch and working tree", "files", "branch and files", "files", "branch or files",
	"files", "next pull", "next update", "on your branch",
	"in your files", "committed", "committed", "push it", "check it in", "Push it", "Check it in", "a push",
	"a check-in", "A push", "A check-in",
	"the push", "the check-in", "The push", "The check-in", "pushes", "checks in", "pushed", "checked in", "Pushed",
	"Checked in", "push", "check in", "Push", "Check in", "commits", "revisions", "commit", "revision")

// Say puts a sentence about commits, pushes and what a join changes into the words of the system. What is put into the
// sentence from outside, such as a name, must come later.
func (d Dialect) Say(sentence string) string {
	if !d.Linear {
		return sentence
	}
	return sends.Replace(sentence)
}

// OnTop names the way that puts yours on top of theirs.
func (d Dialect) OnTop() string {
	if d.Linear {
		return "update"
	}
	return "rebase"
}

// Set names what sets a key of Dorvik, given without its section.
func (d Dialect) Set(key string) string { return fmt.Sprintf(d.settings, key) }

// SetEverywhere names what sets a key of Dorvik for all repositories.
func (d Dialect) SetEverywhere(key string) string { return fmt.Sprintf(d.own, key) }

// Source names where the value of a key of Dorvik comes from.
func (d Dialect) Source(key string) string { return fmt.Sprintf(d.source, key) }

// SwitchTo names the command that goes to a branch.
func (d Dialect) SwitchTo(branch string) string { return fmt.Sprintf(d.switching, branch) }
