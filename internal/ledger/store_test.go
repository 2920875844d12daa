package ledger

import (
	"fmt"
	"reflect"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.etcd.io/bbolt"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/core/rule"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/proposal"
	"dorvik.dev/dorvik/internal/vcs"
)

// TestWhatIsKeptIsKept: the state is what was saved, and what a later version keeps is not touched.
func TestWhatIsKeptIsKept(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	var want State
	reopen := func(change func(st *State)) {
		t.Helper()
		s, notice, err := openStore(dir)
		require.NoError(t, err)
		defer s.close()
		assert.Empty(t, notice)
		st, err := s.load()
		require.NoError(t, err)
		assert.Equal(t, want, st)
		change(&want)
		require.NoError(t, s.save(&want))
	}
	reopen(func(st *State) {
		*st = State{Branch: "main", Route: plan.Rebase, Stage: Settle, Mends: []plan.Mend{{Path: "f", Before: "1",
			After: "2"}},
			Decisions: settle.Decisions{List: []settle.Decision{{Key: "a", Way: settle.Weave},
				{Key: "b", Way: settle.Yours}}}}
	})
	reopen(func(st *State) {
		st.Decisions.Decide(settle.Decision{Key: "c", Way: settle.Theirs})
		st.Accepted = &Waypoint{Name: "1"}
	})
	reopen(func(st *State) {
		st.Decisions.Undo()
		st.Decisions.Undo()
		st.Accepted.GoneBack = true
		st.Mends = nil
	})
	reopen(func(st *State) { st.Accepted = nil; st.Runs = append(st.Runs, "true") })
	reopen(func(*State) {})

	db, err := openDB(StatePath(dir), false)
	require.NoError(t, err)
	require.NoError(t, db.Update(func(tx *bbolt.Tx) error { return tx.Bucket(bucketMeta).Put(keySchema, []byte("3")) }))
	require.NoError(t, db.Close())
	_, _, err = openStore(dir)
	var newer *NewerError
	require.ErrorAs(t, err, &newer)
	assert.ErrorContains(t, err, "written by a later version")
}

// TestADamagedFileIsSalvaged: of a file that is set aside all that can be read is brought into the new one, and what
// could not be is told.
func TestADamagedFileIsSalvaged(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		damage func(tx *bbolt.Tx) error
		told   []string
		state  bool
	}{
		"the stage": {func(tx *bbolt.Tx) error { return tx.Bucket(bucketRecovery).Put([]byte("stage"), []byte("?")) },
			[]string{"It has what could be read: 2 remembered decisions, 1 waypoint, 1 entry of the logbook and 1 result of a " +
				"check.", "Lost, or a part of them: the decisions of this recovery."}, false},
		"the last waypoint": {func(tx *bbolt.Tx) error {
			return tx.Bucket(bucketWaypoints).Put([]byte("z"),
				[]byte("?"))
		},
			[]string{"It has what could be read: 1 decision of this recovery, 2 remembered decisions, 1 waypoint, 1 entry of the " +
				"logbook and 1 result of a check.", "Lost, or a part of them: waypoints."}, true},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			s, _, err := openStore(dir)
			require.NoError(t, err)
			list := []settle.Decision{{Key: "a", Way: settle.Weave}, {Key: "b", Way: settle.Yours}}
			require.NoError(t, s.save(&State{Branch: "main", Decisions: settle.Decisions{List: list[:1]}}))
			require.NoError(t, s.Remember(list, time.Now()))
			require.NoError(t, s.PutWaypoint(&Waypoint{Name: "1"}))
			require.NoError(t, s.Log(LogEntry{Waypoint: "1"}))
			require.NoError(t, s.PutRan([]byte("k"), Ran{Passed: true}))
			require.NoError(t, s.update(c.damage))
			s.close()

			s, notice, err := openStore(dir)
			require.NoError(t, err)
			defer s.close()
			for _, told := range c.told {
				assert.Contains(t, notice, told)
			}
			_, remembers := s.Recalled("b")
			assert.True(t, remembers)
			wp, err := s.Waypoint("")
			require.NoError(t, err)
			assert.Equal(t, "1", wp.Name)
			logged, err := s.logged()
			require.NoError(t, err)
			assert.Len(t, logged, 1)
			_, knows := s.RanBefore([]byte("k"))
			assert.True(t, knows)
			st, err := s.load()
			require.NoError(t, err)
			assert.Equal(t, c.state, st.Branch == "main")
		})
	}
}

// TestAllOfTheStateIsKept: no part of the state is forgotten between two runs.
func TestAllOfTheStateIsKept(t *testing.T) {
	t.Parallel()
	id := object.SHA1.Sum(object.KindBlob, nil)
	st := State{Branch: "main", Yours: id, Theirs: id, Route: plan.Merge, Stage: Push, Picks: []object.ID{id},
		PickParent: 1,
		Decisions: settle.Decisions{List: []settle.Decision{{Key: "k", Way: settle.Yours}},
			Undone: []settle.Decision{{Key: "l", Way: settle.Base}}},
		Mends: []plan.Mend{{Path: "f", Before: "a", After: "b"}}, Made: []plan.Made{{Path: "g", Text: "c"}},
		Requests: replay.Requests{id: {Leave: true}}, TakeOver: Finish,
		Runs: []string{"make"}, Carry: true, Read: map[string]object.ID{"f": id},
		PutAside: map[settle.Key]string{"k": "later"}, Line: &vcs.Line{Name: "side"}, Message: "m\n", Rework: true,
		Lasting: Lasting{Rules: map[string][]rule.Rule{"origin": {{Kind: rule.Size, Bytes: 9}}},
			Refusals: map[string]Refused{"origin/main": {Kind: vcs.Size}},
			Targets:  map[string]string{"main": "origin/side"}, Usual: map[string]vcs.Line{"main": {Name: "side"}},
			LastTask: "#7", LastCheck: 1, Row: &proposal.Row{Branch: "main", Why: "w", Before: id,
				Items:      []proposal.Item{{Name: "1", Tip: id, State: proposal.Joined, At: id}},
				Precedents: proposal.Precedents{{Path: "f", Way: settle.Sorted}}}},
		Accepted: &Waypoint{Name: "1"}, Checked: &Checked{Command: "true"}}
	for _, v := range []reflect.Value{reflect.ValueOf(st), reflect.ValueOf(st.Lasting)} {
		for i := range v.NumField() {
			require.False(t, v.Field(i).IsZero(), "this test knows nothing of %s", v.Type().Field(i).Name)
		}
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

// TestWhatIsRememberedIsBounded forgets the oldest first.
func TestWhatIsRememberedIsBounded(t *testing.T) {
	t.Parallel()
	s, _, err := openStore(t.TempDir())
	require.NoError(t, err)
	defer s.close()
	at := time.Unix(1767000000, 0)
	var many []settle.Decision
	for i := range mostRemembered {
		many = append(many, settle.Decision{Key: settle.Key(fmt.Sprint("new ", i)), Way: settle.Yours})
	}
	require.NoError(t, s.Remember([]settle.Decision{{Key: "old", Way: settle.Base}}, at))
	r, ok := s.Recalled("old")
	assert.True(t, ok)
	assert.Equal(t, settle.Base, r.Way)
	require.NoError(t, s.Remember(many, at.Add(time.Hour)))
	_, ok = s.Recalled("old")
	assert.False(t, ok)
	_, ok = s.Recalled("new 7")
	assert.True(t, ok)
}
