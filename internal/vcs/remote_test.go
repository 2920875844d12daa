package vcs

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWithoutSecrets(t *testing.T) {
	for in, want := range map[string]string{
		"origin":                                  "origin",
		"https://skerry.example/r.git":            "https://skerry.example/r.git",
		"https://runa:pw@skerry.example/r.git":    "https://skerry.example/r.git",
		"https://token@skerry.example/r.git":      "https://skerry.example/r.git",
		"https://a:p@ss@skerry.example/r":         "https://skerry.example/r",
		"git://runa:pw@skerry.example:1/r":        "git://skerry.example:1/r",
		"https://skerry.example/r?private=token":  "https://skerry.example/r",
		"https://skerry.example/r#token":          "https://skerry.example/r",
		"runa@skerry.example:r.git":               "runa@skerry.example:r.git",
		"fatal: 'https://u:p@h/r?t=1' not found.": "fatal: 'https://h/r' not found.",
		"To https://u:p@h/r\nand ssh://k@h2/x":    "To https://h/r\nand ssh://h2/x",
	} {
		assert.Equal(t, want, WithoutSecrets(in))
	}
}
