package svn

import (
	"strings"

	"dorvik.dev/dorvik/internal/core/rx"
	"dorvik.dev/dorvik/internal/vcs"
)

// codes are svn's codes of errors, in the order in which they are tried. wire_test.go has those that a real svn gave.
var codes = []struct {
	is    vcs.RefusalKind
	codes []string
}{
	{vcs.Behind, []string{"E155011", "E160024", "E170004", "E160028", "W160042"}},
	{vcs.Locked, []string{"W160035", "W160037", "W160038", "W160039", "W160040", "E160035", "E160036", "E160037",
		"E160038", "E160039", "E160040", "E195022"}},
	{vcs.LocalHook, nil},
	{vcs.ServerRule, []string{"E165001"}},
	{vcs.NoLogin, []string{"E170001", "E215004", "E200015"}},
	{vcs.NoAccess, []string{"E220004", "E175013", "E170002"}},
	{vcs.Certificate, []string{"E230001"}},
	{vcs.NoHost, []string{"E670002", "E670003", "E670008"}},
	{vcs.TimedOut, []string{"E000110", "E175012"}},
	{vcs.Unreachable, []string{"E000111", "E000113", "E000101", "E000104", "E210002", "E120108"}},
	{vcs.Store, []string{"E000028", "E000030"}},
	{vcs.Missing, []string{"E180001", "E160013", "E170000", "E210005", "E125002"}},
	{vcs.Unreachable, []string{"E170013", "E175002"}},
}

var realmIn = rx.New(`<([^>]*)>`)

// refusalOf reads why a check-in was refused or the repository not reached.
func refusalOf(said []string) *vcs.Refusal {
	r := &vcs.Refusal{Kind: vcs.Other}
	has := map[string]bool{}
	for _, line := range said {
		code, words, ok := coded(line)
		if !ok {
			words = line
		}
		has[code] = true
		if strings.HasSuffix(words, "(details follow):") {
			continue
		}
		if r.Short == "" {
			r.Short = words
		}
		r.Words = append(r.Words, words)
	}
	for _, row := range codes {
		for _, code := range row.codes {
			if has[code] {
				r.Kind = row.is
				return r
			}
		}
	}
	return r
}
