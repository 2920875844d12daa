package merge_test

import (
	"context"
	"fmt"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
)

// Two edits of one text join where they do not touch; where they do, it is for somebody to say.
func ExampleMerge3() {
	base := diff.Lines("Brae\nEid\nLunna\nNess\n")
	yours := diff.Lines("Brae, pier\nEid\nLunna\nNess\n")
	theirs := diff.Lines("Brae\nEid\nLunna\nNess, slip\n")
	fmt.Print(merge.Merge3(base, yours, theirs).Join(nil))

	theirs = diff.Lines("Brae, slip\nEid\nLunna\nNess\n")
	t := merge.Merge3(base, yours, theirs)
	fmt.Println(t.Conflicts(), "conflict")
	fmt.Print(t.Join(func(_ int, h merge.Hunk) string {
		return strings.Join(t.Theirs[h.Theirs.Lo:h.Theirs.Hi], "")
	}))
	// Output:
	// Brae, pier
	// Eid
	// Lunna
	// Ness, slip
	// 1 conflict
	// Brae, slip
	// Eid
	// Lunna
	// Ness
}

// A file that one side renamed and the other edited joins under its new name.
func ExampleEngine_Trees() {
	o := object.NewOverlay(object.SHA1, nil)
	tree := func(path, text string) object.ID {
		blob := object.Entry{Mode: object.ModeFile, ID: o.Put(object.KindBlob, []byte(text))}
		id, _ := o.Edit(context.Background(), object.ID{}, map[string]object.Entry{path: blob})
		return id
	}
	const text = "Brae, pier and slip\nEid, pier\nLunna, slip\nNess, slip\n"
	r, _ := merge.NewEngine(o).Trees(context.Background(), tree("quay.txt", text),
		tree("quay.txt", strings.Replace(text, "Eid", "Eid (cars only)", 1)), tree("pier.txt", text))
	joined, _ := r.Tree(context.Background(), merge.Decided{})
	at, _ := o.Find(context.Background(), joined, "pier.txt")
	data, _ := o.Blob(context.Background(), at.ID)
	fmt.Print(len(r.Conflicts), " conflicts\n", string(data))
	// Output:
	// 0 conflicts
	// Brae, pier and slip
	// Eid (cars only), pier
	// Lunna, slip
	// Ness, slip
}
