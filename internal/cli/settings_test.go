package cli

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAllSettingsAreListed: the table has each setting that the code reads, and no other.
func TestAllSettingsAreListed(t *testing.T) {
	read := regexp.MustCompile(`"dorvik\.([a-zA-Z]+)"`)
	used := map[string]bool{}
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		text, err := os.ReadFile(path)
		for _, m := range read.FindAllStringSubmatch(string(text), -1) {
			used[m[1]] = true
		}
		return err
	})
	require.NoError(t, err)
	var listed []string
	for _, s := range Settings {
		listed = append(listed, s.Key)
		assert.True(t, used[s.Key], "%s is not used", s.Key)
		delete(used, s.Key)
	}
	assert.True(t, slices.IsSorted(listed))
	assert.Empty(t, used, "these are not listed")
}

// TestHelpGoesToStandardOutput, with the topics, the version and the completions.
func TestHelpGoesToStandardOutput(t *testing.T) {
	for _, c := range []struct {
		args []string
		has  string
	}{
		{[]string{"--help"}, "  3  conflicts are left to settle"},
		{[]string{"help", "look"}, "--watch"},
		{[]string{"look", "--help"}, "--watch"},
		{[]string{"help", "settings"}, "  checkTime  "},
		{[]string{"--version"}, "dorvik "},
		{[]string{"version"}, "dorvik "},
		{[]string{"completion", "bash"}, "bash completion"},
		{[]string{"completion", "zsh"}, "#compdef dorvik"},
		{[]string{"completion", "fish"}, "fish completion"},
		{[]string{"completion", "powershell"}, "powershell completion"},
	} {
		code, out, errs := dorvik(c.args...)
		assert.Zero(t, code, c.args)
		assert.Empty(t, errs, c.args)
		assert.Contains(t, out, c.has, c.args)
	}
	code, out, errs := dorvik("lok")
	assert.Equal(t, exitUsage, code)
	assert.Empty(t, out)
	assert.Contains(t, errs, `Did you mean "look"?`)
}
