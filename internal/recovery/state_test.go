package recovery

import (
	"reflect"
	"testing"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/core/settle"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAllOfTheStateIsKept: no part of the state is forgotten between two runs.
func TestAllOfTheStateIsKept(t *testing.T) {
	id := object.SHA1.Sum(object.KindBlob, nil)
	st := State{Branch: "main", Yours: id, Theirs: id, Route: Merge, Stage: Push, Picks: []object.ID{id}, PickParent: 1,
		Decisions: settle.Decisions{List: []settle.Decision{{Key: "k", Way: settle.Yours}},
			Undone: []settle.Decision{{Key: "l", Way: settle.Base}}},
		Mends: []Mend{{Path: "f", Before: "a", After: "b"}}, Wishes: replay.Wishes{id: {Leave: true}}, TakeOver: Finish,
		Runs: []string{"make"}, Carry: true, Read: map[string]object.ID{"f": id}, PutAside: map[settle.Key]string{"k": "later"},
		Accepted: &Waypoint{Name: "1"}, Checked: &Checked{Command: "true"}, Agreed: []string{"make"}, LastCheck: 1}
	v := reflect.ValueOf(st)
	for i := range v.NumField() {
		require.False(t, v.Field(i).IsZero(), "this test knows nothing of %s", v.Type().Field(i).Name)
	}
	dir := t.TempDir()
	s, _, err := openStore(dir)
	require.NoError(t, err)
	require.NoError(t, s.save(&st))
	s.close()
	s, _, err = openStore(dir)
	require.NoError(t, err)
	defer s.close()
	got, err := s.load()
	require.NoError(t, err)
	assert.Equal(t, st, got)
}
