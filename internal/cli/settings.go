package cli

import (
	"fmt"
	"strings"

	"dorvik.dev/dorvik/internal/words"
	"github.com/spf13/cobra"
)

// Setting is a setting of Dorvik.
type Setting struct {
	Key  string
	Says string // what it sets, on one line of the help
	More string // what else there is to know, for the README and the manual; may be empty
}

// Text returns all that is said of the setting.
func (s Setting) Text() string {
	return s.Says + words.If(s.More == "", "", "; "+s.More)
}

// Settings is the table of all of them. The help, the manual and the README are made from it, and a test holds that
// each is used and none is missing.
var Settings = []Setting{
	{"builds", "folder for the checkouts in which the joined code is checked", "in your cache directory unless set"},
	{"check", "command that checks the joined code; several are steps, in their order",
		"unless set, Dorvik finds one from the project's files"},
	{"checkEach", "true checks each replayed commit, too", ""},
	{"checkEnv", "variables of yours that the check gets; several times for several",
		"besides those that builds need; from your own settings only"},
	{"checkMemory", "most memory of each process of a check, in megabytes", "no limit unless set"},
	{"checkTime", "most time of a check, in minutes or as 90s; above it the check fails", "no limit unless set"},
	{"fetchEvery", "asks the remote at intervals, in minutes or as 90s, while the screen is open",
		"not at all unless set"},
	{"generate", "command that makes a generated file anew, run in its folder",
		"Dorvik asks before it runs; lock files and go generate need none"},
	{"keepWaypoints", "days for which waypoints are kept; without it for ever", ""},
	{"locks", "true asks the remote for locks, though no file is to be locked", ""},
	{"note", "command that gets a note to a colleague on its standard input",
		"from your own settings only; without it notes go to the clipboard"},
	{"proposals", "pattern of the refs that are proposals, with {name} and {into}", ""},
	{"proposalsAt", "remote that has the proposals", ""},
	{"reference", "regular expression for signs of tasks; its first group is the sign", ""},
	{"referenceWanted", "true makes no push whose messages name no task", ""},
	{"route", "way that is suggested: rebase, merge or auto",
		"it comes before git's branch.NAME.rebase and pull.rebase"},
	{"run", "command that tries the joined program out",
		"beside the screen, such as a server; from your own settings only; unless set it is your shell"},
	{"shareDecisions", "true shares decisions with colleagues, by a ref of the remote",
		"theirs about the same conflicts are offered, and never suggested"},
	{"taskForm", "how a message names a task, such as “Task: {task}”", ""},
	{"tasks", "list of tasks: a file, or a command after an exclamation mark", ""},
	{"username", "in Subversion, the name to log in with", ""},
	{"viewer", "program that shows a picture or a file", "from your own settings only; xdg-open or open unless set"},
}

// settingsHelp lists them, as a topic of the help.
func settingsHelp() *cobra.Command {
	wide := 0
	for _, s := range Settings {
		wide = max(wide, len(s.Key))
	}
	var b strings.Builder
	b.WriteString("In git these are settings “dorvik.NAME” (git config). In Mercurial and Subversion they\n" +
		"are NAME in the section [dorvik] of .hg/hgrc or your .hgrc, and of .svn/dorvik/config or\n" +
		"~/.subversion/config.\n\n")
	for _, s := range Settings {
		fmt.Fprintf(&b, "  %-*s  %s\n", wide, s.Key, s.Says)
	}
	b.WriteString("\nA command that a repository brings runs only after you agreed to it. NAME.agreed is such an\n" +
		"agreement: to the merge driver of that name.")
	return &cobra.Command{Use: "settings", Short: "The settings of Dorvik", Long: b.String()}
}

// exits is what each exit code says.
var exits = []struct {
	code int
	says string
}{
	{exitDone, "done, or nothing to do"},
	{exitFailed, "failed"},
	{exitUsage, "wrong usage"},
	{exitConflicts, "conflicts are left to settle"},
	{exitCheck, "the check failed"},
	{exitRefused, "the push was refused"},
	{exitMoved, "the repository moved meanwhile, or is in use"},
}

// exitCodes lists the exit codes.
func exitCodes() string {
	var b strings.Builder
	b.WriteString("Exit codes:\n")
	for _, x := range exits {
		fmt.Fprintf(&b, "  %d  %s\n", x.code, x.says)
	}
	return strings.TrimSuffix(b.String(), "\n")
}
