package diff_test

import (
	"fmt"
	"hash/maphash"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
)

// Edits tell which lines of the one text became which of the other.
func ExampleHistogram() {
	a := diff.Lines("Brae\nEid\nLunna\n")
	b := diff.Lines("Brae\nFladda\nEid\nNess\n")
	for _, e := range diff.Histogram(a, b) {
		fmt.Printf("%q became %q\n", strings.Join(a[e.A0:e.A1], ""), strings.Join(b[e.B0:e.B1], ""))
	}
	// Output:
	// "" became "Fladda\n"
	// "Lunna\n" became "Ness\n"
}

// Bags tell how much of two contents is the same, wherever it stands.
func ExampleBag_Similarity() {
	seed := maphash.MakeSeed()
	bag := func(s string) *diff.Bag { return diff.NewBag(seed, []byte(s), len(s)) }
	fmt.Println(bag("one\ntwo\nsix\n").Similarity(bag("six\ntwo\none\n"), 0.5))
	fmt.Println(bag("1234567\n").Similarity(bag("1234567\n7654321\n"), 0.5))
	fmt.Println(bag("1\n").Similarity(bag("1234567\n7654321\n"), 0.5))
	// Output:
	// 1
	// 0.5
	// 0
}
