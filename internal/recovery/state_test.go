package recovery

import (
	"reflect"
	"strings"
	"testing"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/core/settle"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAllOfTheStateIsKept: no part of the state is forgotten between two runs.
func TestAllOfTheStateIsKept(t *testing.T) {
	t.Parallel()
	id := object.SHA1.Sum(object.KindBlob, nil)
	st := State{Branch: "main", Yours: id, Theirs: id, Route: Merge, Stage: Push, Picks: []object.ID{id}, PickParent: 1,
		Decisions: settle.Decisions{List: []settle.Decision{{Key: "k", Way: settle.Yours}},
			Undone: []settle.Decision{{Key: "l", Way: settle.Base}}},
		Mends: []Mend{{Path: "f", Before: "a", After: "b"}}, Made: []Made{{Path: "g", Text: "c"}},
		Wishes: replay.Wishes{id: {Leave: true}}, TakeOver: Finish,
		Runs: []string{"make"}, Carry: true, Read: map[string]object.ID{"f": id},
		PutAside: map[settle.Key]string{"k": "later"},
		Accepted: &Waypoint{Name: "1"}, Checked: &Checked{Command: "true"}, LastCheck: 1}
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

// TestSeveralCommitsOfOneEdit: the newest is named, and how many more there are.
func TestSeveralCommitsOfOneEdit(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	tm.other.Commit("first", "f", strings.Replace(base, "two", "TWO", 1))
	tm.other.Commit("beside it", "g", "other\n")
	tm.other.Commit("second", "f", strings.NewReplacer("two", "TWO", "three", "THREE").Replace(base))
	tm.other.Git("push", "-q")
	tm.mine.Commit("mine", "f", strings.NewReplacer("two", "2", "three", "3").Replace(base))
	s := tm.session()
	p, err := s.Locate(t.Context(), true)
	require.NoError(t, err)
	j, err := s.Join(t.Context(), p, Merge, &settle.Decisions{}, Amends{}, nil)
	require.NoError(t, err)
	all, err := s.Attribute(p, j, &settle.Decisions{})
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.Equal(t, "second", all[0].Theirs.Subject())
	assert.Equal(t, [2]int{0, 1}, all[0].More)
}
