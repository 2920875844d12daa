package diagnose

import (
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/rx"
)

// Kind tells what was missing, and so how one gets it.
type Kind int

const (
	Program      Kind = iota // a command that the shell or a build tool could not start
	Library                  // a header, library or package of the system
	PythonModule             // a module for Python
	NodePackage              // a package for Node.js
	RubyLibrary              // a library for Ruby
	PHPPackage               // what Composer installs
)

// Missing is something that a failed run did not find. Whether the project was to have it is not known from the output.
type Missing struct {
	Kind Kind
	Name string // as it is installed: without the modules inside a package
}

// misses lists how tools say that something is not there; the first group is its name. The first that fits a line
// counts.
var misses = []struct {
	kind Kind
	says *rx.Expr
}{
	{Program, rx.New(`^[^:]+: (?:line )?\d+: ([^\s:]+): (?:command )?not found$`)}, // sh, dash, bash
	{Program, rx.New(`^(?:\S+: )?command not found: (\S+)$`)},                      // zsh, bundler
	{Program, rx.New(`^\S+: ([^\s:]+): command not found$`)},                       // bash without a line
	{Program, rx.New(`^(?:g?make(?:\[\d+\])?|xargs|nohup|time): ([^\s:*]+): No such file or directory$`)},
	{Program, rx.New(`^(?:/usr/bin/)?env: ['‘]?([^\s'’:]+)['’]?: No such file or directory$`)},
	{Program, rx.New(`exec: "([^"]+)": executable file not found in \$PATH`)}, // Go
	{Program, rx.New(`\bspawn (\S+) ENOENT\b`)},                               // Node.js
	{Program, rx.New("^error: no such (?:sub)?command: `([^`]+)`")},           // cargo
	{Program, rx.New(`^(?:\S*/)?python[\d.]*: No module named (\S+)$`)},       // python -m
	{Library, rx.New(`fatal error: ([^\s:]+): No such file or directory`)},    // gcc
	{Library, rx.New(`fatal error: '([^']+)' file not found`)},                // clang
	{Library, rx.New(`\bcannot find -l([^\s:]+)`)},                            // ld
	{Library, rx.New(`^No package '([^']+)' found`)},                          // pkg-config
	{Library, rx.New(`configuration file provided by "([^"]+)"`)},             // CMake
	{Library, rx.New(`\bCould NOT find (\w+)`)},                               // CMake
	{Library, rx.New(`^Can't locate (\S+\.pm) in @INC`)},                      // Perl
	{PythonModule, rx.New(`\bModuleNotFoundError: No module named '?([^\s']+)'?`)},
	{NodePackage, rx.New(`\bCannot find (?:module|package) '([^']+)'`)}, // Node.js, tsc, jest
	{NodePackage, rx.New(`\b(?:Can't resolve|Failed to resolve import) ['"]([^'"]+)['"]`)},
	{PHPPackage, rx.New(`\b(?:Failed opening required|[Ff]ailed to open stream:?) .*\b(vendor/autoload\.php)\b`)},
	{RubyLibrary, rx.New(`cannot load such file -- (\S+)`)},
	{RubyLibrary, rx.New(`\bCould not find (?:gem ')?([\w-]+?)(?:-\d[\w.]*)?(?:'| ).*in ` +
		`(?:any of the sources|locally installed)`)},
}

// NotFound lists what the output of a failed run says is not there, once each, in order. Paths within the project are
// left out: their absence is about the code.
func NotFound(output []string) (out []Missing) {
	for _, l := range output {
		l = plain(l)
		for _, row := range misses {
			m := row.says.FindStringSubmatch(l)
			if m == nil {
				continue
			}
			if name := installed(row.kind, m[1]); name != "" && !slices.Contains(out, Missing{row.kind, name}) {
				out = append(out, Missing{row.kind, name})
			}
			break
		}
	}
	return out
}

// installed returns the name under which a module is installed; empty if it names a file of the project.
func installed(k Kind, name string) string {
	switch k {
	case Program:
		if strings.Contains(name, "/") {
			return ""
		}
	case PythonModule:
		name, _, _ = strings.Cut(name, ".")
	case NodePackage:
		name = strings.TrimPrefix(name, "node:")
		parts := strings.SplitN(name, "/", 3)
		switch {
		case parts[0] == "", parts[0] == "@",
			strings.ContainsAny(parts[0], `.~#\`) && !strings.HasSuffix(parts[0], ".js"):
			return "" // relative, absolute, or an alias of the project
		case parts[0][0] == '@' && len(parts) > 1:
			return parts[0] + "/" + parts[1]
		}
		return parts[0]
	case RubyLibrary:
		name, _, _ = strings.Cut(strings.TrimPrefix(name, "./"), "/")
	}
	return name
}
