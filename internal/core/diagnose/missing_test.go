package diagnose

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestWhatIsNotInstalled reads how tools say that something is not there, as it was printed.
func TestWhatIsNotInstalled(t *testing.T) {
	for output, want := range map[string][]Missing{
		"sh: 1: tsc: not found":                                                               {{Program, "tsc"}},
		"sh: line 1: eslint: command not found":                                               {{Program, "eslint"}},
		"./run.sh: line 12: jq: command not found":                                            {{Program, "jq"}},
		"zsh:1: command not found: rg":                                                        {{Program, "rg"}},
		"bundler: command not found: rspec":                                                   {{Program, "rspec"}},
		"bash: cmake: command not found":                                                      {{Program, "cmake"}},
		"make: protoc: No such file or directory":                                             {{Program, "protoc"}},
		"make[2]: gcc: No such file or directory":                                             {{Program, "gcc"}},
		"/usr/bin/env: ‘node’: No such file or directory":                                     {{Program, "node"}},
		"env: 'python': No such file or directory":                                            {{Program, "python"}},
		`tide.go:3: running "stringer": exec: "stringer": executable file not found in $PATH`: {{Program, "stringer"}},
		"Error: spawn convert ENOENT":                                                         {{Program, "convert"}},
		"error: no such command: `nextest`":                                                   {{Program, "nextest"}},
		"/usr/bin/python3: No module named pytest":                                            {{Program, "pytest"}},
		"tide.c:1:10: fatal error: zlib.h: No such file or directory":                         {{Library, "zlib.h"}},
		"tide.c:1:10: fatal error: 'zlib.h' file not found":                                   {{Library, "zlib.h"}},
		"/usr/bin/ld: cannot find -lz: No such file or directory":                             {{Library, "z"}},
		"No package 'libpng' found":                                                           {{Library, "libpng"}},
		"  Could NOT find OpenSSL, try to set the path":                                       {{Library, "OpenSSL"}},
		`  Could not find a package configuration file provided by "Qt6" with`:                {{Library, "Qt6"}},
		"Can't locate JSON/XS.pm in @INC (you may need to install": {{Library,
			"JSON/XS.pm"}},
		"ModuleNotFoundError: No module named 'yaml.reader'":  {{PythonModule, "yaml"}},
		"E   ModuleNotFoundError: No module named 'requests'": {{PythonModule, "requests"}},
		"Error: Cannot find module 'express/lib/router'":      {{NodePackage, "express"}},
		"src/a.ts(1,20): error TS2307: Cannot find module '@tide/pier/x' or its corresponding type declarations.": {
			{NodePackage, "@tide/pier"}},
		"Error [ERR_MODULE_NOT_FOUND]: Cannot find package 'chart.js' imported from /tmp/check/a.mjs": {{NodePackage,
			"chart.js"}},
		"Module not found: Error: Can't resolve 'react' in '/tmp/check/src'": {{NodePackage,
			"react"}},
		"<internal>:127:in 'require': cannot load such file -- nokogiri/xml (LoadError)": {{RubyLibrary,
			"nokogiri"}},
		"Could not find rake-13.2.1 in any of the sources":     {{RubyLibrary, "rake"}},
		"Could not find gem 'puma' in locally installed gems.": {{RubyLibrary, "puma"}},
		// About the code:
		"Error: Cannot find module './tide'":                               nil,
		"Error: Cannot find module '../lib/tide.js'":                       nil,
		"error TS2307: Cannot find module '@/tide' or its corresponding":   nil,
		"Error: Cannot find module '/tmp/check/tide.js'":                   nil,
		"sh: 1: ./build.sh: not found":                                     nil,
		"make: *** No rule to make target 'tide'.  Stop.":                  nil,
		"undefined: tide\ntide.go:3:1: tide not found\nnot found: command": nil,
	} {
		assert.Equal(t, want, NotFound(strings.Split(output, "\n")), output)
	}
	assert.Equal(t, []Missing{{Program, "a"}, {NodePackage, "b"}},
		NotFound([]string{"sh: 1: a: not found", "\x1b[31mCannot find module 'b'\x1b[0m", "sh: 9: a: not found"}))
}

// TestRealToolsSayWhatIsNotInstalled has the tools that are there miss something.
func TestRealToolsSayWhatIsNotInstalled(t *testing.T) {
	for line, want := range map[string]Missing{
		"no-such-tide": {Program, "no-such-tide"},
		"printf 'all:\\n\\tno-such-tide x\\n' | make -f -": {Program, "no-such-tide"},
		"printf 'all:\\n\\tno-such-tide;\\n' | make -f -":  {Program, "no-such-tide"},
		"env no-such-tide":                                       {Program, "no-such-tide"},
		"python3 -m no_such_tide":                                {Program, "no_such_tide"},
		"python3 -c 'import no_such_tide.pier'":                  {PythonModule, "no_such_tide"},
		"node -e 'require(\"no-such-tide/pier\")'":               {NodePackage, "no-such-tide"},
		"ruby -e 'require \"no_such_tide/pier\"'":                {RubyLibrary, "no_such_tide"},
		"echo '#include <no_such_tide.h>' | gcc -xc -c -":        {Library, "no_such_tide.h"},
		"echo 'int main;' | gcc -xc -o /dev/null - -lnosuchtide": {Library, "nosuchtide"},
		"perl -e 'use No::Such::Tide;'":                          {Library, "No/Such/Tide.pm"},
		"bash -c no-such-tide":                                   {Program, "no-such-tide"},
	} {
		t.Run(line, func(t *testing.T) {
			for _, word := range []string{"make", "python3", "node", "ruby", "gcc", "perl", "bash"} {
				if _, err := exec.LookPath(word); err != nil && strings.Contains(line, word) {
					t.Skip("no " + word)
				}
			}
			cmd := exec.Command("sh", "-c", line)
			cmd.Env = append(cmd.Environ(), "LC_ALL=C")
			out, err := cmd.CombinedOutput()
			assert.Error(t, err)
			assert.Equal(t, []Missing{want}, NotFound(strings.Split(string(out), "\n")), string(out))
		})
	}
}
