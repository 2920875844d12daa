package ledger

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAgreementsDoNotGrow: a file that has grown too long is cut to its latest lines.
func TestAgreementsDoNotGrow(t *testing.T) {
	t.Parallel()
	a := &Agreements{file: filepath.Join(t.TempDir(), "agreed"), in: "/r", mark: filepath.Join(t.TempDir(), "mark")}
	line := `{"in":"/old","mark":"m","to":"` + strings.Repeat("x", longestAgreement) + `"}` + "\n"
	require.NoError(t, os.WriteFile(a.file, []byte(strings.Repeat(line, largestAgreed/len(line)+1)), 0o600))
	long := strings.Repeat("y", longestAgreement+1)
	require.NoError(t, a.Add(long, time.Unix(0, 0)))
	all, err := readAgreements(a.file)
	require.NoError(t, err)
	require.Equal(t, latestAgreed+1, len(all))
	assert.Equal(t, "/r", all[latestAgreed].In)
	assert.True(t, (&Agreements{list: all}).Has(long))
	assert.False(t, (&Agreements{list: all}).Has(long+"y"))
}

// FuzzAgreements: whatever the file of agreements holds, it is read in memory in proportion, and only whole lines of
// Dorvik's own say anything.
func FuzzAgreements(f *testing.F) {
	f.Add([]byte(`{"in":"/r","mark":"m","to":"check make"}` + "\n"))
	f.Add([]byte("{\n\x00\n" + strings.Repeat("x", longestLine+1) + "\n" + `{"in":"/r","mark":"m","to":"x","on":"zz"}`))
	file := filepath.Join(f.TempDir(), "agreed")
	f.Fuzz(func(t *testing.T, data []byte) {
		require.NoError(t, os.WriteFile(file, data, 0o600))
		all, err := readAgreements(file)
		require.NoError(t, err)
		assert.LessOrEqual(t, len(all), strings.Count(string(data), "\n")+1)
		a := &Agreements{file: file, list: all}
		for _, one := range all {
			assert.LessOrEqual(t, len(one.To), longestLine)
			assert.True(t, a.Has(one.To) || len(one.To) > longestAgreement)
			assert.LessOrEqual(t, len(a.On(one.To)), mostTrees)
		}
	})
}
