package main

import (
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestTheArchiveIsOfTheLibrary: it holds what the library has in the version that go.mod names.
func TestTheArchiveIsOfTheLibrary(t *testing.T) {
	out, err := exec.Command("go", "list", "-m", "-f", "{{.Dir}}", "github.com/alecthomas/chroma/v2").Output()
	require.NoError(t, err)
	want, err := Pack(strings.TrimSpace(string(out)))
	require.NoError(t, err)
	got, err := os.ReadFile("../../internal/core/lexing/lexers.zip")
	require.NoError(t, err)
	assert.True(t, string(want) == string(got), "go generate ./internal/core/lexing packs it anew")
}
