package merge

// Side is one of the two sides of a join.
type Side string

// The sides.
const (
	Yours  Side = "yours"
	Theirs Side = "theirs"
)

// Other returns the other side.
func (s Side) Other() Side {
	if s == Yours {
		return Theirs
	}
	return Yours
}

// ofBase is the base among three versions. It is no side.
const ofBase Side = "base"

// Three holds one value for the base and for each side.
type Three[T any] struct{ Base, Yours, Theirs T }

// Of returns the value of a side, or of the base for any other name.
func (t *Three[T]) Of(s Side) *T {
	switch s {
	case Yours:
		return &t.Yours
	case Theirs:
		return &t.Theirs
	}
	return &t.Base
}

// MapThree applies a function to each of three values.
func MapThree[A, B any](of Three[A], f func(A) (B, error)) (out Three[B], err error) {
	if out.Base, err = f(of.Base); err != nil {
		return out, err
	}
	if out.Yours, err = f(of.Yours); err != nil {
		return out, err
	}
	out.Theirs, err = f(of.Theirs)
	return out, err
}
