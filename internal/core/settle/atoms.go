package settle

import (
	"cmp"
	"path"
	"strconv"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/rx"
)

// Atoms splits a text as diff.Words does, but keeps together what is meaningful only as a whole: signed numbers,
// versions, dates, times, addresses. Weaving digits of both sides would make a value that nobody wrote. A name of one
// letter before a sign is a part of a sum.
func Atoms(s string) []string {
	words := diff.Words(s)
	out := words[:0]
	for i := 0; i < len(words); i++ {
		atom := words[i]
		for diff.IsWord(atom) && i+2 < len(words) && joins(words[i+1]) && diff.IsWord(words[i+2]) &&
			(isDigit(atom[len(atom)-1]) || isDigit(words[i+2][0]) && (len(atom) > 1 || words[i+1] == ".")) {
			atom += words[i+1] + words[i+2]
			i += 2
		}
		out = append(out, atom)
	}
	return out
}

func joins(sign string) bool {
	switch sign {
	case ".", "-", ":", "/", "+":
		return true
	}
	return false
}

func isDigit(c byte) bool { return '0' <= c && c <= '9' }

// versionLike is a version: three numbers, or two of which the first follows a v, or anything after
// what says that a version follows.
var (
	versionLike = rx.New(`^v?\d+(\.\d+){2,}([-+][\w.+-]+)?$|^v\d+(\.\d+)*$`)
	anyVersion  = rx.New(`^v?\d+(\.\d+)*([-+][\w.+-]+)?$`)
	saysVersion = rx.New(`(?i:version)|==|>=|~>|\^|@|\bFROM\b|:\s*["']?[~^]`)
	noVersion   = rx.New(`^\d{4}-\d\d|^(\d{1,3}\.){3}\d{1,3}$`) // a date or an address
)

// pinned lists the files in which numbers are versions of dependencies.
var pinned = map[string]bool{"go.mod": true, "requirements.txt": true, "Gemfile": true, "Cargo.toml": true,
	"package.json": true, "pom.xml": true, "Dockerfile": true, "pubspec.yaml": true, "composer.json": true,
	"build.gradle": true, "mix.exs": true, ".tool-versions": true, "environment.yml": true}

// higher returns the higher of two versions that are both higher than the base's. ok is false if they are no versions
// or one goes back. around is the surrounding lines.
func higher(file, around, base, yours, theirs string) (string, bool) {
	name := func(s string) (string, string) { // such as golang:1.21
		i := strings.LastIndexAny(s, ":@")
		return s[:i+1], s[i+1:]
	}
	nb, b := name(base)
	ny, y := name(yours)
	nt, t := name(theirs)
	if nb != ny || nb != nt {
		return "", false
	}
	form := versionLike
	if pinned[path.Base(file)] || saysVersion.MatchString(around) {
		form = anyVersion
	}
	if released(b) != b && (released(y) != released(b) || released(t) != released(b)) {
		return "", false // one side ends a pre-release and the other begins another
	}
	if noVersion.MatchString(b) || !form.MatchString(b) || !form.MatchString(y) || !form.MatchString(t) ||
		compareVersions(y, b) <= 0 || compareVersions(t, b) <= 0 {
		return "", false
	}
	if compareVersions(y, t) >= 0 {
		return yours, true
	}
	return theirs, true
}

// released returns a version without what says that it comes before a release.
func released(version string) string {
	version, _, _ = strings.Cut(version, "-")
	return version
}

// compareVersions compares versions as Semantic Versioning 2.0.0 does (section 11), with any count of numbers.
func compareVersions(a, b string) int {
	a, b = strings.TrimPrefix(a, "v"), strings.TrimPrefix(b, "v")
	a, _, _ = strings.Cut(a, "+")
	b, _, _ = strings.Cut(b, "+")
	numbersA, preA, hasA := strings.Cut(a, "-")
	numbersB, preB, hasB := strings.Cut(b, "-")
	if c := compareParts(numbersA, numbersB); c != 0 {
		return c
	}
	switch {
	case hasA && !hasB:
		return -1
	case hasB && !hasA:
		return 1
	}
	return compareParts(preA, preB)
}

func compareParts(a, b string) int {
	pa, pb := strings.Split(a, "."), strings.Split(b, ".")
	for i := range min(len(pa), len(pb)) {
		na, errA := strconv.ParseUint(pa[i], 10, 64)
		nb, errB := strconv.ParseUint(pb[i], 10, 64)
		c := strings.Compare(pa[i], pb[i])
		switch {
		case errA == nil && errB == nil:
			c = cmp.Compare(na, nb)
		case errA == nil:
			c = -1
		case errB == nil:
			c = 1
		}
		if c != 0 {
			return c
		}
	}
	return cmp.Compare(len(pa), len(pb))
}

// raised joins edits that meet only where both sides raised a version. It takes the higher one.
func raised(c *Question, at place) (Option, bool) {
	if c.Base == "" {
		return Option{}, false
	}
	found := ""
	text, ok := at.atoms.weave(func(base, yours, theirs []string) (string, bool) {
		if len(base) != 1 || len(yours) != 1 || len(theirs) != 1 {
			return "", false
		}
		var v string
		v, ok := higher(at.path, c.Base, base[0], yours[0], theirs[0])
		found = v
		return v, ok
	})
	if !ok || found == "" {
		return Option{}, false
	}
	o := Option{Way: Weave, Text: text, Reason: "both raised the version, and " + found + " is the higher"}
	switch text {
	case c.Yours:
		o.Way = Yours
	case c.Theirs:
		o.Way = Theirs
	}
	return o, true
}
