package settle

import (
	"encoding"
	"fmt"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/merge"
)

// Way is one kind of decision. Its text is its name in --prefer and in JSON.
type Way string

// The ways. Each has a row in the table below.
const (
	Weave       Way = "weave"
	Yours       Way = "yours"
	Theirs      Way = "theirs"
	YoursTheirs Way = "yours-theirs"
	TheirsYours Way = "theirs-yours"
	Base        Way = "base"
	Both        Way = "both" // keeps two files that want one path; one of them gets another name
	Sorted      Way = "sorted"
	Cut         Way = "cut" // the lines that one side took out are taken from what the other made
	AsBefore    Way = "as-before"
	Anew        Way = "anew"       // runs the program that generates the file
	YoursFile   Way = "yours-file" // the whole file, and what joined by itself in it too
	TheirsFile  Way = "theirs-file"
	BaseFile    Way = "base-file"
	Written     Way = "written"
	Suggested   Way = "suggested" // in a preference: the suggested way of each conflict
)

// wayRow is everything that the program says about a way. Rows are written without field names, so a row that lacks
// a field does not compile.
type wayRow struct {
	way    Way
	prefer bool // --prefer accepts it

	// the origin of the text: FromBoth if each edit is part of it, Contested if that depends
	whose merge.Origin

	label  string // on screens, after the verb "take" or alone
	taking string // what the way does, in one or two sentences
	made   string // its name when looking back at a merge, whose sides are the first and the other
}

const oneAfterTheOther = "Keeps both texts whole, one after the other. Read how they follow each other first."

// ways lists the ways in the order in which help names them.
var ways = []wayRow{
	{Weave, true, merge.FromBoth, "weave",
		"Weave keeps every word either side added and drops every word either removed.", "weave"},
	{Yours, true, merge.FromYours, "yours",
		"Takes your text. What they changed here is left out, and listed before the push.", "the first side's"},
	{Theirs, true, merge.FromTheirs, "theirs",
		"Takes their text. What you changed here is left out, and listed before the push.", "the other side's"},
	{YoursTheirs, true, merge.Contested, "yours, then theirs", oneAfterTheOther, "the first side's, then the other's"},
	{TheirsYours, true, merge.Contested, "theirs, then yours", oneAfterTheOther, "the other side's, then the first's"},
	{Base, true, merge.FromBase, "base",
		"Takes the text both of you started from; neither edit is kept.", "as it was before either"},
	{Both, true, merge.Contested, "keep both", "Both are kept, one of them under another name.",
		"both, under two names"},
	{Sorted, true, merge.Contested, "sorted", "Puts what both added in the order of the lines around.", "sorted"},
	{Cut, true, merge.Contested, "lines cut out",
		"Takes out the lines that one side took out, and keeps the other's edits around them. Edits in those lines " +
			"are left out, and listed before the push.", "without what one side took out"},
	{AsBefore, true, merge.Contested, "as before", "Settles it as the same conflict was settled before.",
		"as before"},
	{Anew, true, merge.Contested, "regenerate it",
		"The program that makes this file makes it again from the joined files, before the check. You are asked first.",
		"regenerate it"},
	{YoursFile, true, merge.FromYours, "yours, the whole file",
		"Takes the file as you have it. All that they changed in it is left out, and listed before the push.",
		"the first side's whole file"},
	{TheirsFile, true, merge.FromTheirs, "theirs, the whole file",
		"Takes the file as they have it. All that you changed in it is left out, and listed before the push.",
		"the other side's whole file"},
	{BaseFile, true, merge.FromBase, "base, the whole file",
		"Takes the file that both of you started from. All edits to it are left out.",
		"the file as it was before either"},
	{Written, false, merge.Contested, "written", "Takes the text you wrote.", "written by hand"},
	{Suggested, true, merge.Contested, "suggested", "Takes the way that is suggested for each conflict.", "suggested"},
}

// row returns the row of a way. It panics for a way that has none: ways from outside are read by ParseWay.
func (w Way) row() wayRow {
	i := slices.IndexFunc(ways, func(r wayRow) bool { return r.way == w })
	if i < 0 {
		panic(fmt.Sprintf("no way %q", string(w)))
	}
	return ways[i]
}

// Label returns the way's name on screens.
func (w Way) Label() string { return w.row().label }

// Taking returns what taking the way does to a place in a text, in one or two sentences.
func (w Way) Taking() string { return w.row().taking }

// OfFile reports whether the way takes a whole text file from one version.
func (w Way) OfFile() bool { return w == YoursFile || w == TheirsFile || w == BaseFile }

// Made returns the way's name in the account of a finished merge. Its sides are the branch it was made on, the first,
// and what was merged, the other.
func (w Way) Made() string { return w.row().made }

// Whose returns whose text a place holds with the way: FromBoth where each edit is part of it, and Contested where
// that depends on the texts.
func (w Way) Whose() merge.Origin { return w.row().whose }

// ParseWay returns the way of a name, and an error for a name that no way has.
func ParseWay(name string) (Way, error) {
	w := Way(name)
	if !slices.ContainsFunc(ways, func(r wayRow) bool { return r.way == w }) {
		return "", fmt.Errorf("there is no way %q to settle a conflict", name)
	}
	return w, nil
}

var _ encoding.TextUnmarshaler = (*Way)(nil)

// UnmarshalText implements encoding.TextUnmarshaler. The empty text is no way, as where nothing is suggested.
func (w *Way) UnmarshalText(text []byte) (err error) {
	if *w = ""; len(text) > 0 {
		*w, err = ParseWay(string(text))
	}
	return err
}

// Preferences lists the names that ParsePreference knows.
func Preferences() (names []string) {
	for _, r := range ways {
		if r.prefer {
			names = append(names, string(r.way))
		}
	}
	return names
}

// ParsePreference reads ways that are separated by commas, as --prefer takes them.
func ParsePreference(s string) (out []Way, err error) {
	for name := range strings.SplitSeq(s, ",") {
		w, err := ParseWay(strings.TrimSpace(name))
		if err == nil && !w.row().prefer {
			err = fmt.Errorf("the way %q cannot be preferred", name)
		}
		if err != nil {
			return nil, fmt.Errorf("%w; there are %s", err, strings.Join(Preferences(), ", "))
		}
		out = append(out, w)
	}
	return out, nil
}
