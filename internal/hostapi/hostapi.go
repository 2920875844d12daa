// Package hostapi is what a host says of its repositories in JSON, by HTTP and by a ref. docs/proposals.md describes
// it, so that other hosts can offer the same. It also has the settings of the stand-in host.
package hostapi

import (
	"fmt"
	"slices"
	"time"
)

// Repository is what a host shows of a repository.
type Repository struct {
	Version  int      `json:"version"`
	Name     string   `json:"name"`
	Page     string   `json:"page"` // address of its page
	Branches []Branch `json:"branches"`
	Rules    Rules    `json:"rules"`
}

// Branch is a branch of a repository.
type Branch struct {
	Name      string `json:"name"`
	Tip       string `json:"tip"` // full id
	Protected bool   `json:"protected"`
	Check     Check  `json:"check"`
}

// Rules are what the host asks of a push.
type Rules struct {
	Maintainers []string `json:"maintainers"`     // users who may push to protected branches
	Protected   []string `json:"protected"`       // branches
	Check       string   `json:"check,omitempty"` // command that must pass on a protected branch
	// Message is a POSIX extended expression that the first line of a commit message must match.
	Message   string `json:"message,omitempty"`
	MostBytes int64  `json:"most_bytes,omitempty"`
}

// State tells what became of a proposal.
type State string

// The states.
const (
	Waiting   State = "waiting"
	Accepted  State = "accepted"
	Withdrawn State = "withdrawn"
)

// Proposal is a branch put forward to be joined into another.
type Proposal struct {
	Number   int       `json:"number"`
	Title    string    `json:"title"`
	Text     string    `json:"text,omitempty"`
	From     string    `json:"from"`           // branch
	Fork     string    `json:"fork,omitempty"` // repository of the branch, if it is another one
	Into     string    `json:"into"`           // branch
	By       string    `json:"by"`             // name of a person
	Opened   time.Time `json:"opened"`
	State    State     `json:"state"`
	Tip      string    `json:"tip"`
	Ref      string    `json:"ref"` // name of the ref that shows its commits
	Check    Check     `json:"check"`
	AcceptAt string    `json:"accepted_at,omitempty"` // tip of the branch that first had it
}

// List is a list of proposals.
type List struct {
	Version   int        `json:"version"`
	Proposals []Proposal `json:"proposals"`
}

// Lock is a file that one person has taken to change alone.
type Lock struct {
	Path  string    `json:"path"`
	Owner string    `json:"owner"` // name of a person
	Since time.Time `json:"since"`
	Why   string    `json:"why,omitempty"`
}

// Locks is a list of locks.
type Locks struct {
	Version int    `json:"version"`
	Locks   []Lock `json:"locks"`
}

// Check is what the host's check says of a commit.
type Check struct {
	State  CheckState `json:"state,omitempty"` // empty if none ran
	Output string     `json:"output,omitempty"`
}

// CheckState is the state of a check.
type CheckState string

// The states of a check.
const (
	Running CheckState = "running"
	Passed  CheckState = "passed"
	Failed  CheckState = "failed"
)

// StateRef is the ref by which a host shows its state to git: a commit whose tree has the file StateFile, a Shown.
const (
	StateRef  = "refs/host/state"
	StateFile = "state.json"
)

// Shown is the state of a repository: what the host shows of it, and its proposals.
type Shown struct {
	Repository
	Proposals []Proposal `json:"proposals"`
}

// RefOf returns the ref that shows the commits of a proposal.
func RefOf(number int, into string) string { return fmt.Sprintf("refs/proposals/%d/%s", number, into) }

// Person is an account of the stand-in host.
type Person struct {
	User     string `json:"user"`
	Name     string `json:"name"`
	Email    string `json:"email"`
	Password string `json:"password"`
}

// Settings describe a stand-in host. They are in the file SettingsFile of its folder.
type Settings struct {
	People       []Person             `json:"people"`
	Repositories []RepositorySettings `json:"repositories"`
}

// SettingsFile is in the host's folder, and ProposalsFile, a list of Proposal, in that of a repository.
const (
	SettingsFile  = "host.json"
	ProposalsFile = "proposals.json"
)

// RepositorySettings describe a repository. Its objects are in the folder NAME.git of the host's.
type RepositorySettings struct {
	Name  string `json:"name"`
	Of    string `json:"of,omitempty"` // the repository that it is a fork of
	Owner string `json:"owner,omitempty"`
	Rules Rules  `json:"rules"`
}

// May reports whether a user is a maintainer of the repository, or owns it.
func (r *RepositorySettings) May(user string) bool {
	return user != "" && (slices.Contains(r.Rules.Maintainers, user) || r.Owner == user)
}
