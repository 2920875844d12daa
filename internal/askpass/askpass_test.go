package askpass

import (
	"bytes"
	"context"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAPromptIsPassedOn(t *testing.T) {
	t.Setenv("GIT_ASKPASS", "")
	t.Setenv("SSH_ASKPASS", "")
	s, err := Serve(t.Context(), func(_ context.Context, prompt string) (string, bool) {
		return "answer to\n" + prompt, prompt != "no?"
	})
	require.NoError(t, err)
	assert.False(t, Asked(name))
	for _, kv := range s.Env {
		name, value, _ := strings.Cut(kv, "=")
		t.Setenv(name, value)
	}
	assert.True(t, Asked("/tmp/x/"+name))
	assert.False(t, Asked("/usr/bin/dorvik"), "a hook may run the program")
	info, err := os.Stat(s.dir)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o700), info.Mode().Perm())
	var out bytes.Buffer
	assert.Equal(t, 0, Ask("Password for 'http://x':", &out))
	assert.Equal(t, "answer to\nPassword for 'http://x':\n", out.String())
	out.Reset()
	assert.Equal(t, 1, Ask("no?", &out), "nothing was answered")
	assert.Empty(t, out.String())
	s.Close()
	assert.Equal(t, 1, Ask("again?", &out), "nobody serves")
	assert.NoDirExists(t, s.dir)
}

func TestAProgramOfOnesOwnAsks(t *testing.T) {
	t.Setenv("GIT_ASKPASS", "/bin/mine")
	s, err := Serve(t.Context(), nil)
	require.NoError(t, err)
	assert.Empty(t, s.Env)
	s.Close()
}
