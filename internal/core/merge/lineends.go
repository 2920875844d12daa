package merge

// ends is how the lines of a text end.
type ends uint8

const (
	noEnds   ends = iota // it has no whole line
	unixEnds             // with a line feed
	dosEnds              // with a carriage return and a line feed
	mixedEnds
)

func endsOf(lines []string) (e ends) {
	for _, l := range lines {
		this := unixEnds
		switch n := len(l); {
		case l[n-1] != '\n':
			continue
		case n > 1 && l[n-2] == '\r':
			this = dosEnds
		}
		if e != noEnds && e != this {
			return mixedEnds
		}
		e = this
	}
	return e
}

// withEnds gives lines of the one pure kind the other's ends.
func withEnds(lines []string, e ends) []string {
	out := make([]string, len(lines))
	for i, l := range lines {
		n := len(l)
		switch {
		case l[n-1] != '\n':
			out[i] = l
		case e == dosEnds:
			out[i] = l[:n-1] + "\r\n"
		default:
			out[i] = l[:n-2] + "\n"
		}
	}
	return out
}

// sameEnds lets all three texts have the new line ends where one side changed them
// all, or both did alike, and tells who did: else every line would be contested.
func sameEnds(lines *[3][]string) Origin {
	b, y, t := endsOf(lines[0]), endsOf(lines[1]), endsOf(lines[2])
	pure := func(e ends) bool { return e == unixEnds || e == dosEnds }
	switch {
	case !pure(b) || !pure(y) || !pure(t):
	case y != b && t == b:
		lines[0], lines[2] = withEnds(lines[0], y), withEnds(lines[2], y)
		return FromYours
	case t != b && y == b:
		lines[0], lines[1] = withEnds(lines[0], t), withEnds(lines[1], t)
		return FromTheirs
	case y == t && y != b:
		lines[0] = withEnds(lines[0], y)
		return FromBoth
	}
	return FromBase
}
