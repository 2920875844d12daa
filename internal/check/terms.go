package check

import (
	"path"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/rx"
)

// defining are the files that say what a program does which is started by a name of its own.
var defining = map[string][]string{
	"make": {"GNUmakefile", "makefile", "Makefile"}, "gmake": {"GNUmakefile", "makefile", "Makefile"},
	"npm": {"package.json"}, "npx": {"package.json"}, "yarn": {"package.json"}, "pnpm": {"package.json"},
	"node": {"package.json"}, "cmake": {"CMakeLists.txt", "CMakePresets.json"}, "ctest": {"CMakeLists.txt"},
	"cargo": {"Cargo.toml", "build.rs", ".cargo/config.toml"}, "mvn": {"pom.xml"},
	"gradle": {"build.gradle", "build.gradle.kts", "settings.gradle"}, "tox": {"tox.ini"}, "nox": {"noxfile.py"},
	"pytest": {"conftest.py", "pytest.ini", "pyproject.toml", "setup.cfg"},
	"python": {"conftest.py", "setup.py"}, "python3": {"conftest.py", "setup.py"}, "just": {"justfile", "Justfile"},
	"rake": {"Rakefile"}, "bundle": {"Gemfile", "Rakefile"}, "meson": {"meson.build"}, "bazel": {"BUILD", "WORKSPACE"},
	"go": {"go.mod"},
}

// included is a line by which a makefile, or a file of CMake, takes another in.
var included = rx.New(`(?m)^\s*-?include\s*\(?\s*([\w./-]+)`)

// interpreters run the file that they are given.
var interpreters = map[string]bool{"sh": true, "bash": true, "dash": true, "zsh": true, "python": true, "python3": true,
	"node": true, "ruby": true, "perl": true, "php": true, "lua": true, ".": true, "source": true, "exec": true,
	"env": true, "go": true, "time": true, "xargs": true, "nice": true}

// commands cuts a line for the shell into what it runs, each in words, without what it sets before.
func commands(line string) (out [][]string) {
	for _, part := range strings.FieldsFunc(line, func(r rune) bool { return strings.ContainsRune(";&|()\n", r) }) {
		words := strings.FieldsFunc(part, func(r rune) bool { return strings.ContainsRune(" \t<>'\"!{}", r) })
		for len(words) > 0 && strings.Contains(words[0], "=") {
			words = words[1:]
		}
		if len(words) > 0 {
			out = append(out, words)
		}
	}
	return out
}

// DefinedBy lists the files of a project that say what a command line does: those that it runs, those that the
// programs it starts go by, and those that these take in. It is sorted.
func DefinedBy(line string, files ProjectFiles) []string {
	var out []string
	var add func(name string)
	add = func(name string) {
		name = path.Clean(name)
		text, ok := files(name)
		if !ok || slices.Contains(out, name) || strings.HasPrefix(name, "..") || path.IsAbs(name) {
			return
		}
		out = append(out, name)
		for _, m := range included.FindAllStringSubmatch(text, -1) {
			add(m[1])
			add(path.Join(path.Dir(name), m[1]))
		}
	}
	for _, words := range commands(line) {
		for _, name := range defining[path.Base(words[0])] {
			add(name)
		}
		if len(words) > 1 && words[0] == "go" && words[1] == "generate" {
			for _, name := range generating(files) {
				add(name)
			}
		}
		add(words[0])
		for i, w := range words[1:] {
			before := words[i]
			named := before == "-f" || before == "--file" || before == "-c"
			if named || interpreters[path.Base(words[0])] && !strings.HasPrefix(w, "-") {
				add(w)
			}
		}
	}
	slices.Sort(out)
	return out
}

var directive = rx.New(`(?m)^//go:generate\s+(.+)$`)

// generating lists the files of a package of Go that say what go generate runs, and what that goes by.
func generating(files ProjectFiles) (out []string) {
	list, _ := files("./")
	for name := range strings.Lines(list) {
		name = strings.TrimSpace(name)
		if path.Ext(name) != ".go" {
			continue
		}
		text, _ := files(name)
		for _, m := range directive.FindAllStringSubmatch(text, -1) {
			out = append(append(out, name), DefinedBy(m[1], func(n string) (string, bool) {
				if n == "./" {
					return "", false // no directive asks for others
				}
				return files(n)
			})...)
		}
	}
	return out
}

// secret are names of variables whose content a check need not have.
var secret = rx.New(`(?i)(TOKEN|SECRET|PASSW|CREDENTIAL|API_?KEY|PRIVATE_?KEY|ACCESS_KEY|AUTH_SOCK|` +
	`AGENT_INFO|` +
	`AGENT_PID|SSH_CONNECTION|NETRC|COOKIE|SESSION_KEY)`)

// Environment is what a check runs in: what was given, without what tells of secrets and of agents, and marked as
// nobody's terminal. Of those that are kept, by their names, nothing is taken away.
func Environment(given []string, keep []string) []string {
	out := []string{"CI=true"}
	for _, kv := range given {
		name, _, _ := strings.Cut(kv, "=")
		if name == "CI" || secret.MatchString(name) && !slices.Contains(keep, name) {
			continue
		}
		out = append(out, kv)
	}
	return out
}
