package odb

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/core/object"
)

// TestWhatIsWrittenIsRead writes packs, reads them back, and gathers them into one.
func TestWhatIsWrittenIsRead(t *testing.T) {
	dir := t.TempDir()
	s, err := Open(dir, object.SHA1)
	require.NoError(t, err)
	own := object.RawID([]byte("an id that is no hash"[:20]))
	want := map[object.ID]string{own: "a commit by another name\n"}
	for pack := range 5 {
		w, err := NewWriter(dir)
		require.NoError(t, err)
		for k := range 40 {
			text := strings.Repeat(fmt.Sprintf("pack %d, text %d\n", pack, k), 1+k*k)
			id := object.SHA1.Sum(object.KindBlob, []byte(text))
			want[id] = text
			require.NoError(t, w.Put(id, object.KindBlob, []byte(text)))
			require.NoError(t, w.Put(id, object.KindBlob, []byte("once only")))
			kind, data, err := w.Read(t.Context(), id)
			require.NoError(t, err)
			assert.Equal(t, object.KindBlob, kind)
			assert.Equal(t, text, string(data), "before it is closed")
		}
		require.NoError(t, w.Put(own, object.KindBlob, []byte(want[own])))
		require.NoError(t, w.Close())
	}
	count := func() int {
		packs, err := filepath.Glob(filepath.Join(dir, "pack", "*"))
		require.NoError(t, err)
		return len(packs)
	}
	all := func() {
		for id, text := range want {
			_, data, err := s.Read(id)
			require.NoError(t, err)
			assert.Equal(t, text, string(data))
		}
	}
	all()
	assert.Equal(t, 2*5, count())
	require.NoError(t, Gather(t.Context(), dir, 5))
	assert.Equal(t, 2*5, count(), "there are not too many")
	require.NoError(t, Gather(t.Context(), dir, 4))
	assert.Equal(t, 2, count())
	all()
	s, err = Open(dir, object.SHA1)
	require.NoError(t, err)
	all()
	_, _, err = s.Read(object.SHA1.Sum(object.KindBlob, []byte("never written")))
	require.ErrorIs(t, err, object.ErrMissing)
}
