package replay_test

import (
	"context"
	"fmt"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/replay"
)

// A commit whose change the other line has already is not made again.
func ExampleRebase() {
	o := object.NewOverlay(object.SHA1, nil)
	commit := func(subject, pier, fares string, parents ...object.ID) object.ID {
		set := map[string]object.Entry{}
		for path, text := range map[string]string{"pier.txt": pier, "fares.txt": fares} {
			set[path] = object.Entry{Mode: object.ModeFile, ID: o.Put(object.KindBlob, []byte(text))}
		}
		tree, _ := o.Edit(context.Background(), object.ID{}, set)
		who := object.Signature{Name: "Runa Holt", Email: "runa@skerry.example", When: 1, Zone: "+0000"}
		return o.PutCommit(&object.Commit{Tree: tree, Parents: parents, AuthorLine: who.String(), Committer: who,
			Message: subject + "\n"})
	}
	base := commit("Winter timetable", "yelow\n", "1\n")
	typo := commit("Fix typo", "yellow\n", "1\n", base)
	yours := commit("Raise fares", "yellow\n", "2\n", typo)
	theirs := commit("Fix typo in pier notice", "yellow\n", "1\n", base)
	ctx := context.Background()
	d, _ := history.Diverge(ctx, o, yours, theirs)
	nothing := func(*merge.Result) (merge.Decided, bool, error) { return merge.Decided{}, true, nil }
	steps, _ := replay.Rebase(ctx, merge.NewEngine(o), replay.NewChanges(o), d.Yours, d.Theirs, theirs, nil, nothing,
		nil)
	for i := range steps {
		fmt.Println(steps[i].Commit.Subject(), "-", steps[i].Outcome)
	}
	// Output:
	// Fix typo - already-there
	// Raise fares - clean
}

// A commit of another line is picked, and one that joins lines only against a parent that is said.
func ExamplePick() {
	o := object.NewOverlay(object.SHA1, nil)
	commit := func(subject, pier, fares string, parents ...object.ID) history.Node {
		set := map[string]object.Entry{}
		for path, text := range map[string]string{"pier.txt": pier, "fares.txt": fares} {
			set[path] = object.Entry{Mode: object.ModeFile, ID: o.Put(object.KindBlob, []byte(text))}
		}
		tree, _ := o.Edit(context.Background(), object.ID{}, set)
		who := object.Signature{Name: "Mato Veld", Email: "mato@skerry.example", When: 1, Zone: "+0000"}
		c := &object.Commit{Tree: tree, Parents: parents, AuthorLine: who.String(), Committer: who,
			Message: subject + "\n"}
		return history.Node{ID: o.PutCommit(c), Commit: c}
	}
	base := commit("Winter timetable", "yelow\n", "1\n")
	typo := commit("Fix typo", "yellow\n", "1\n", base.ID)
	fares := commit("Raise fares", "yelow\n", "2\n", base.ID)
	joined := commit("Join both", "yellow\n", "2\n", fares.ID, typo.ID)
	nothing := func(*merge.Result) (merge.Decided, bool, error) { return merge.Decided{}, true, nil }
	pick := func(c history.Node, parent int) {
		steps, err := replay.Pick(context.Background(), merge.NewEngine(o), replay.NewChanges(o), []history.Node{c},
			nil, parent,
			fares.ID, nothing, nil)
		if err != nil {
			fmt.Println(err)
			return
		}
		tree, _ := steps[0].Tree(context.Background())
		at, _ := o.Find(context.Background(), tree, "pier.txt")
		text, _ := o.Blob(context.Background(), at.ID)
		fmt.Println(steps[0].Outcome, len(steps[0].Joins()), string(text[:6]))
	}
	pick(typo, 0)
	pick(joined, 1)
	pick(joined, 0)
	pick(joined, 3)
	// Output:
	// clean 1 yellow
	// clean 1 yellow
	// the commit 38cdd9551db1 “Join both” joins lines, so it is not one change that could be brought over; pick the commits it joined, or say against which of its parents its change is meant
	// the commit 38cdd9551db1 “Join both” has no parent 3: it has 2
}
