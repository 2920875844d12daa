package hg

import (
	"strings"

	"dorvik.dev/dorvik/internal/core/rx"
	"dorvik.dev/dorvik/internal/vcs"
)

// reasons are what hg and servers say when they refuse, in the order in which they are tried. wire_test.go has those
// that a real hg said; the words about host keys, certificates, proxies, times and disks are ssh's and Python's, and
// were not provoked.
var reasons = []struct {
	is   vcs.RefusalKind
	said *rx.Expr
}{
	{vcs.Behind, rx.New(`push creates new remote head|remote has heads .*not known locally|unsynced changes|` +
		`repository changed while (pushing|preparing)|pull and merge`)},
	{vcs.Busy, rx.New(`timed out waiting for lock|waiting for lock on|lock (on|of) .* held by|cannot lock`)},
	{vcs.LocalHook, rx.New(`^abort: (prepush|pre-push|preoutgoing|outgoing)[^ ]* hook|^abort: pre-push`)},
	{vcs.ServerRule, rx.New(`(prechangegroup|pretxnchangegroup|pretxnclose|prepushkey|pretxnclose-[a-z]+)[^ ]* ` +
		`hook (failed|exited)|transaction abort`)},
	{vcs.NoLogin, rx.New(`authorization (failed|required)|response expected|HTTP Error 401|Permission denied \(p` +
		`ublickey`)},
	{vcs.NoAccess, rx.New(`HTTP Error 403|push not authorized|not authorized|SSL required|Permission denied`)},
	{vcs.HostKey, rx.New(`REMOTE HOST IDENTIFICATION HAS CHANGED`)},
	{vcs.HostUnknown, rx.New(`Host key verification failed`)},
	{vcs.Certificate, rx.New(`certificate verify failed|unable to verify security|certificate error`)},
	{vcs.NoHost, rx.New(`Name or service not known|nodename nor servname|Temporary failure in name resolution|` +
		`No address associated|Could not resolve hostname`)},
	{vcs.TimedOut, rx.New(`timed out`)},
	{vcs.Proxy, rx.New(`(?i)proxy`)},
	{vcs.Unreachable, rx.New(`Connection refused|Network is unreachable|No route to host|connection (ended|reset)|` +
		`no suitable response from remote hg`)},
	{vcs.Store, rx.New(`No space left|Read-only file system|Disk quota exceeded`)},
	{vcs.Missing, rx.New(`repository .* (not found|does not exist)|HTTP Error 404|not a Mercurial`)},
}

// plain are reasons of hg in plain words; $1 is a changeset.
var plain = []struct {
	said  *rx.Expr
	means string
}{
	{rx.New(`^response expected$`), "it asked for a login, and nobody answered"},
	{rx.New(`^push includes orphan changeset: (\w+)!$`),
		"$1 builds on a changeset that was replaced; put it onto what " +
			"replaced that"},
	{rx.New(`^push includes obsolete changeset: (\w+)!$`), "$1 was replaced or taken back; push what replaced it"},
	{rx.New(`^push includes (?:phase|content)-divergent changeset: (\w+)!$`),
		"$1 was made again in more than one way; " +
			"keep one of them"},
}

// component is where hg repeats the part of an address that it does not understand, which may be a token.
var component = rx.New(`(unsupported URL component).*`)

// refusalOf reads why a push was refused or a remote not reached.
func refusalOf(said []string) *vcs.Refusal {
	r := &vcs.Refusal{Kind: vcs.Other}
	for _, line := range said {
		line = component.ReplaceAllString(vcs.WithoutSecrets(line), "$1")
		if why, ok := strings.CutPrefix(line, "abort: "); ok && r.Short == "" {
			r.Short = why
		}
		r.Words = append(r.Words, strings.TrimPrefix(line, "remote: "))
	}
	for _, p := range plain {
		r.Short = p.said.ReplaceAllString(r.Short, p.means)
	}
	all := strings.Join(said, "\n")
	for _, row := range reasons {
		if row.said.MatchString(all) {
			r.Kind = row.is
			return r
		}
	}
	return r
}

var lockOf = rx.New(`(?:waiting for lock on|timed out waiting for lock held by|lock (?:on|of)) ([^:\n]*)`)

// lockedHere reports that another hg works in the repository with this working folder.
func lockedHere(said []string, dir string) (path string, ok bool) {
	all := strings.Join(said, "\n")
	if !strings.Contains(all, dir+": timed out waiting for lock") {
		return "", false
	}
	if m := lockOf.FindStringSubmatch(all); m != nil {
		path = m[1]
	}
	return path, true
}
