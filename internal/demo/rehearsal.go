package demo

import (
	"fmt"
	"slices"
)

// Part is the side from which the demo is played.
type Part string

// The parts.
const (
	AsRuna Part = "refused"  // your push was rejected: others pushed first
	AsIlka Part = "teammate" // the other side: Runa pushed first, and your push is rejected
	// the first story with more commits and people; some joined edits do not work together, one in the middle of the
	// rebase
	AsLonger Part = "longer"
	// at a stand-in host, with proposals; it is not one of Parts, because --host selects it
	AsHosted Part = "hosted"
)

// Parts lists the parts.
var Parts = []Part{AsRuna, AsIlka, AsLonger}

// ParsePart reads the name of a part.
func ParsePart(name string) (Part, error) {
	if p := Part(name); slices.Contains(Parts, p) {
		return p, nil
	}
	return "", fmt.Errorf("there is no scene %q: there are refused, teammate and longer", name)
}

// Rehearsal is a running demo. The player can start it again.
type Rehearsal struct {
	Scene *Scene
	Part  Part
	Again Part // the part to begin when the screen is left; empty to end
}

// Other is the other side of a part.
func (p Part) Other() Part {
	if p == AsIlka {
		return AsRuna
	}
	return AsIlka
}
