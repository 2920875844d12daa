package history_test

import (
	"context"
	"fmt"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
)

// commit makes a commit on others.
func commit(o *object.Overlay, subject, text string, parents ...object.ID) object.ID {
	blob := object.Entry{Mode: object.ModeFile, ID: o.Put(object.KindBlob, []byte(text))}
	tree, _ := o.Edit(context.Background(), object.ID{}, map[string]object.Entry{"pier.txt": blob})
	who := object.Signature{Name: "Runa Holt", Email: "runa@skerry.example", When: int64(len(parents)), Zone: "+0000"}
	return o.PutCommit(&object.Commit{Tree: tree, Parents: parents, AuthorLine: who.String(), Committer: who,
		Message: subject + "\n"})
}

// Two lines of commits part at their common ancestor.
func ExampleDiverge() {
	o := object.NewOverlay(object.SHA1, nil)
	base := commit(o, "Winter timetable", "Brae\n")
	yours := commit(o, "Add Ness", "Brae\nNess\n", base)
	theirs := commit(o, "Add Eid", "Brae\nEid\n", base)
	d, _ := history.Diverge(context.Background(), o, yours, theirs)
	fmt.Println(len(d.Bases), d.Bases[0] == base, d.Yours[0].Subject(), "|", d.Theirs[0].Subject())
	// Output: 1 true Add Ness | Add Eid
}

// An annotator finds the commit that brought some lines.
func ExampleAnnotator_Editor() {
	o := object.NewOverlay(object.SHA1, nil)
	base := commit(o, "Winter timetable", "Brae\n")
	first := commit(o, "Add Ness", "Brae\nNess\n", base)
	second := commit(o, "Add Eid", "Brae\nEid\nNess\n", first)
	d, _ := history.Diverge(context.Background(), o, second, base)
	by, ok, _ := history.NewAnnotator(o, d.Yours).Editor(context.Background(), "pier.txt", []string{"Ness\n"})
	fmt.Println(ok, by.Subject())
	// Output: true Add Ness
}
