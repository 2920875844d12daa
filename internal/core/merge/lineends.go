package merge

// ends is the kind of a text's line ends.
type ends uint8

const (
	noEnds   ends = iota // no complete line
	unixEnds             // lines end in a line feed
	dosEnds              // lines end in a carriage return and a line feed
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

// withEnds returns lines with line ends of the other kind.
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

// sameEnds gives all three texts the new line ends if one side changed them all, or both did alike, and returns who
// did. Otherwise every line would be contested.
func sameEnds(lines *Three[[]string]) Origin {
	b, y, t := endsOf(lines.Base), endsOf(lines.Yours), endsOf(lines.Theirs)
	pure := func(e ends) bool { return e == unixEnds || e == dosEnds }
	switch {
	case !pure(b) || !pure(y) || !pure(t):
	case y != b && t == b:
		lines.Base, lines.Theirs = withEnds(lines.Base, y), withEnds(lines.Theirs, y)
		return FromYours
	case t != b && y == b:
		lines.Base, lines.Yours = withEnds(lines.Base, t), withEnds(lines.Yours, t)
		return FromTheirs
	case y == t && y != b:
		lines.Base = withEnds(lines.Base, y)
		return FromBoth
	}
	return FromBase
}
