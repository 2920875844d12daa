package main

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestDocsAreThoseOfTheProgram: make docs mends this.
func TestDocsAreThoseOfTheProgram(t *testing.T) {
	t.Chdir("../..")
	readme, err := os.ReadFile("README.md")
	require.NoError(t, err)
	for _, of := range tables {
		text, err := of.put(string(readme))
		require.NoError(t, err)
		assert.Equal(t, text, string(readme), "the %s of README.md are not those of the program: make docs", of.name)
	}
	page, err := manual()
	require.NoError(t, err)
	kept, err := os.ReadFile("docs/dorvik.1")
	require.NoError(t, err)
	assert.Equal(t, string(page), string(kept), "docs/dorvik.1 is not of this program: make docs")
	assert.Contains(t, string(page), "KEYS OF THE FULL SCREEN")
}
