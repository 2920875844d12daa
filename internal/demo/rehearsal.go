package demo

import (
	"fmt"
	"slices"
)

// Part is the side from which the demo is played.
type Part string

// The parts.
const (
	AsRuna Part = "refused"  // your push was refused: others pushed before you
	AsIlka Part = "teammate" // the other side of it: Runa pushed first, and yours is refused
	// the first, with more commits by more people: some that join do not work together, one of them amid the road
	AsLonger Part = "longer"
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
	Again Part // begin again when the screen is left, as this; empty to end
}

// Other is the other side of a part.
func (p Part) Other() Part {
	if p == AsIlka {
		return AsRuna
	}
	return AsIlka
}
