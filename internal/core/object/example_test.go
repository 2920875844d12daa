package object_test

import (
	"context"
	"fmt"

	"dorvik.dev/dorvik/internal/core/object"
)

// A tree is changed in memory: only the directories of the changed paths are made anew.
func ExampleOverlay_Edit() {
	o := object.NewOverlay(object.SHA1, nil)
	file := func(text string) object.Entry {
		return object.Entry{Mode: object.ModeFile, ID: o.Put(object.KindBlob, []byte(text))}
	}
	tree, _ := o.Edit(context.Background(), object.ID{}, map[string]object.Entry{"fares/fares.go": file("1\n"),
		"routes.json": file("{}\n")})
	tree, _ = o.Edit(context.Background(), tree, map[string]object.Entry{"fares/fares.go": {},
		"fares/bands.csv": file("near,60\n")})
	_ = o.Walk(context.Background(), func(name string, at []object.Entry) error {
		fmt.Println(name, at[0].Mode.Describe())
		return nil
	}, tree)
	at, _ := o.Find(context.Background(), tree, "fares/bands.csv")
	text, _ := o.Blob(context.Background(), at.ID)
	fmt.Print(string(text))
	// Output:
	// fares a directory
	// routes.json a file
	// near,60
}
