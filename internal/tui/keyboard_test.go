package tui

import (
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAPasteThatNeverEnds is ended by a pause, however its marks are cut; one that goes on, or ends, is left alone.
func TestAPasteThatNeverEnds(t *testing.T) {
	const begin, end = "\x1b[200~", "\x1b[201~"
	for _, c := range []struct{ came, read string }{ // reads are apart by |, by a pause where that is doubled
		{"a|b||c", "a|b|c"},
		{begin + "text" + end + "||q", begin + "text" + end + "|q"},
		{begin + "text||q|x", begin + "text|" + end + "q|x"},
		{begin + "te|xt|" + end + "||q", begin + "te|xt|" + end + "|q"},
		{"\x1b[20|0~text||q", "\x1b[20|0~text|" + end + "q"},
		{begin + "text\x1b[2||01~|q", begin + "text\x1b[2|01~|q"},
		{begin + "text||" + end + "q", begin + "text|" + end + "q"},
		{begin + "a" + end + begin + "b||q", begin + "a" + end + begin + "b|" + end + "q"},
	} {
		in, out, err := os.Pipe()
		require.NoError(t, err)
		now := time.Unix(0, 0)
		k := &keyboard{File: in, now: func() time.Time { return now }}
		var read []string
		for _, part := range strings.Split(c.came, "|") {
			if part == "" {
				now = now.Add(2 * time.Second)
				continue
			}
			_, err := out.WriteString(part)
			require.NoError(t, err)
			b := make([]byte, 100)
			n, err := k.Read(b)
			require.NoError(t, err)
			read = append(read, string(b[:n]))
		}
		assert.Equal(t, c.read, strings.Join(read, "|"), "%q", c.came)
		in.Close()
		out.Close()
	}
}
