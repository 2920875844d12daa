package merge

// Side is one of the two sides of a join.
type Side string

const (
	Yours  Side = "yours"
	Theirs Side = "theirs"
)

// Other is the other side.
func (s Side) Other() Side {
	if s == Yours {
		return Theirs
	}
	return Yours
}
