package vcs

// Hook is a program of the repository that git runs at a step.
type Hook struct {
	Name   string
	Path   string
	InTree bool // the hook is in the working tree, where a commit can change it
}
