package diagnose

import (
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"
)

// TestWhatToolsSay reads what many tools print, as it was printed.
func TestWhatToolsSay(t *testing.T) {
	files := map[string][]string{}
	for _, f := range []string{"src/app.ts", "src/main.rs", "tests/test_fares.py", "fares.py", "src/Fare.java",
		"a/Fare.kt",
		"CMakeLists.txt", "Makefile", "web/app.js", "src/FareTest.java", "Foo.java", "src/Fare.cs", "src/FareTest.cs",
		"lib/fare.dart", "test/fare_test.dart", "lib/fare.ex", "test/fare_test.exs", "src/fare.php", "tests/FareTest.php",
		"src/Fare.scala", "spec/fare_spec.rb", "test/fare_test.rb", "fare.rb", "Tests/FareTests.swift"} {
		files[path.Base(f)] = append(files[path.Base(f)], f)
	}
	for _, c := range []struct {
		name, output string
		want         []Place
	}{
		{"tsc into a file", "src/app.ts(3,5): error TS2304: Cannot find name 'depth'.",
			[]Place{{"src/app.ts", 3, 5, "TS2304: Cannot find name 'depth'."}}},
		{"tsc on a terminal, in colour", "\x1b[96msrc/app.ts\x1b[0m:\x1b[93m3\x1b[0m:\x1b[93m5\x1b[0m - " +
			"\x1b[91merror\x1b[0m" +
			"\x1b[90m TS2304: \x1b[0mCannot find name 'depth'.\n\n3     depth();\n      ~~~~~",
			[]Place{{"src/app.ts", 3, 5, "TS2304: Cannot find name 'depth'."}}},
		{"eslint", "/tmp/check/web/app.js\n  3:5  error  'depth' is not defined  no-undef\n  4:1  warning  x  " +
			"y\n\n✖ 1 problem",
			[]Place{{"web/app.js", 3, 5, "'depth' is not defined"}}},
		{"rustc", "error[E0425]: cannot find function `depth_at` in this scope\n --> src/main.rs:4:5\n  |\n4 |     " +
			"depth_at(3);\n",
			[]Place{{"src/main.rs", 4, 5, "cannot find function `depth_at` in this scope"}}},
		{"cargo test", "thread 'tests::fare' panicked at src/main.rs:12:9:\nassertion `left == right` failed\n  " +
			"left: 1",
			[]Place{{"src/main.rs", 12, 9, "assertion `left == right` failed"}}},
		{"maven", "[ERROR] /tmp/check/src/Fare.java:[10,5] cannot find symbol\n[ERROR] -> [Help 1]",
			[]Place{{"src/Fare.java", 10, 5, "cannot find symbol"}}},
		{"gradle and kotlin", "e: file:///tmp/check/a/Fare.kt:7:12 Unresolved reference: depthAt",
			[]Place{{"a/Fare.kt", 7, 12, "Unresolved reference: depthAt"}}},
		{"junit", "java.lang.AssertionError: expected:<1> but was:<2>\n\tat " +
			"org.junit.Assert.fail(Assert.java:89)\n\tat " +
			"FareTest.two(FareTest.java:14)", []Place{{"src/FareTest.java", 14, 0,
			"java.lang.AssertionError: expected:<1> but was:<2>"}}},
		{"pytest", "    def test_two():\n>       assert fare(2) == 6\nE       assert 5 == 6\nE        +  where 5 = " +
			"fare(2)\n\n" +
			"tests/test_fares.py:4: AssertionError", []Place{{"tests/test_fares.py", 4, 0, "assert 5 == 6"}}},
		{"a traceback that ends in a library", "Traceback (most recent call last):\n  File " +
			"\"/tmp/check/fares.py\", line 3, in " +
			"<module>\n    json.loads(\"{\")\n  File \"/usr/lib/python3/json/__init__.py\", line 346, in loads\n" +
			"json.decoder.JSONDecodeError: Expecting value",
			[]Place{{"fares.py", 3, 0, "json.decoder.JSONDecodeError: Expecting value"}}},
		{"cmake", "CMake Error at CMakeLists.txt:3 (add_executable):\n  Cannot find source file:\n\n    src/none.c\n",
			[]Place{{"CMakeLists.txt", 3, 0, "Cannot find source file:"}}},
		{"make", "Makefile:4: *** missing separator.  Stop.", []Place{{"Makefile", 4, 0, "missing separator"}}},
		{"the same said twice, and progress written over", "10%\r100%\rsrc/main.rs:4:5: error: " +
			"bad\nsrc/main.rs:4:5: error: bad",
			[]Place{{"src/main.rs", 4, 5, "bad"}}},
		{"dotnet build", "/tmp/check/src/Fare.cs(10,5): error CS0103: The name 'depth' does not exist in the current " +
			"context [/tmp/check/Skerry.csproj]",
			[]Place{{"src/Fare.cs", 10, 5, "CS0103: The name 'depth' does not exist in the current context"}}},
		{"dotnet build, a warning", "/tmp/check/src/Fare.cs(10,5): warning CS0168: never used [/tmp/check/a.csproj]",
			nil},
		{"dotnet test", "  Failed Skerry.FareTest.Two [12 ms]\n  Error Message:\n   Assert.Equal() Failure: Values " +
			"differ\nExpected: 6\nActual:   5\n  Stack Trace:\n     at Xunit.Assert.Equal() in /_/Assert.cs:line 3\n" +
			"     at Skerry.FareTest.Two() in /tmp/check/src/FareTest.cs:line 14",
			[]Place{{"src/FareTest.cs", 14, 0, "Assert.Equal() Failure: Values differ"}}},
		{"swift test", "/tmp/check/Tests/FareTests.swift:9: error: FareTests.testTwo : XCTAssertEqual failed: (\"5\")",
			[]Place{{"Tests/FareTests.swift", 9, 0, "FareTests.testTwo : XCTAssertEqual failed: (\"5\")"}}},
		{"dart analyze", "  error - lib/fare.dart:3:5 - Undefined name 'depth'. - undefined_identifier",
			[]Place{{"lib/fare.dart", 3, 5, "Undefined name 'depth'."}}},
		{"flutter analyze", "  error • Undefined name 'depth' • lib/fare.dart:3:5 • undefined_identifier",
			[]Place{{"lib/fare.dart", 3, 5, "Undefined name 'depth'"}}},
		{"dart test", "  Expected: <6>\n    Actual: <5>\n\n  package:matcher          expect\n" +
			"  test/fare_test.dart 6:5  main.<fn>", []Place{{"test/fare_test.dart", 6, 5, "Expected: <6>"}}},
		{"mix compile", "    error: undefined variable \"depth\"\n    │\n  3 │     depth\n    │     ^^^^^\n    │\n" +
			"    └─ lib/fare.ex:3:5: Skerry.Fare.fare/1", []Place{{"lib/fare.ex", 3, 5,
			"undefined variable \"depth\""}}},
		{"mix test",
			"  1) test two (FareTest)\n     test/fare_test.exs:5\n     Assertion with == failed\n     code:  " +
				"assert fare(2) == 6\n     left:  5\n     right: 6\n     stacktrace:\n       test/fare_test.exs:6: (test)",
			[]Place{{"test/fare_test.exs", 6, 0, "Assertion with == failed"}}},
		{"php", "PHP Parse error:  syntax error, unexpected token \";\" in /tmp/check/src/fare.php on line 3",
			[]Place{{"src/fare.php", 3, 0, "syntax error, unexpected token \";\""}}},
		{"php, thrown", "PHP Fatal error:  Uncaught Error: Call to undefined function depth() in " +
			"/tmp/check/src/fare.php:3\nStack trace:\n#0 {main}\n  thrown in /tmp/check/src/fare.php on line 3",
			[]Place{{"src/fare.php", 3, 0, "Uncaught Error: Call to undefined function depth()"}}},
		{"phpunit",
			"1) FareTest::testTwo\nFailed asserting that 5 matches expected 6.\n\n/tmp/check/tests/FareTest.php:14",
			[]Place{{"tests/FareTest.php", 14, 0, "Failed asserting that 5 matches expected 6."}}},
		{"scala 2", "[error] /tmp/check/src/Fare.scala:3:5: not found: value depth",
			[]Place{{"src/Fare.scala", 3, 5, "not found: value depth"}}},
		{"scala 3",
			"[error] -- [E006] Not Found Error: /tmp/check/src/Fare.scala:3:4 ---------\n[error] 3 |    depth\n" +
				"[error]   |    ^^^^^\n[error]   |    Not found: depth",
			[]Place{{"src/Fare.scala", 3, 4, "Not Found Error"}}},
		{"rspec",
			"  1) Fare two\n     Failure/Error: expect(fare(2)).to eq(6)\n\n       expected: 6\n            got: 5\n\n" +
				"     # ./spec/fare_spec.rb:5:in 'block (2 levels) in <top (required)>'",
			[]Place{{"spec/fare_spec.rb", 5, 0, "expect(fare(2)).to eq(6)"}}},
		{"minitest", "  1) Failure:\nFareTest#test_two [test/fare_test.rb:6]:\nExpected: 6\n  Actual: 5",
			[]Place{{"test/fare_test.rb", 6, 0, "Expected: 6"}}},
		{"ruby",
			"fare.rb:3:in 'Object#fare': undefined local variable or method 'depth' for main (NameError)\n\tfrom " +
				"fare.rb:6:in '<main>'",
			[]Place{{"fare.rb", 3, 0, "undefined local variable or method 'depth' for main (NameError)"}}},
		{"webpack", "ERROR in ./src/app.ts 3:0-25\nModule not found: Error: Can't resolve './tide' in '/tmp/check/src'",
			[]Place{{"src/app.ts", 3, 0, "Module not found: Error: Can't resolve './tide' in '/tmp/check/src'"}}},
		{"esbuild", "✘ [ERROR] Could not resolve \"./tide\"\n\n    src/app.ts:3:17:\n      3 │ import x from './tide'",
			[]Place{{"src/app.ts", 3, 17, "Could not resolve \"./tide\""}}},
		{"a place in the last line but one", "web/app.js:3\nError: x", []Place{{"web/app.js", 3, 0, "Error: x"}}},
		{"none", "thread of thought\nerror: could not compile\nE  \n  3:5  error  no file\nCMake Error: no\n", nil},
	} {
		got := Places(strings.Split(c.output, "\n"), "/tmp/check", func(base string) []string { return files[base] })
		assert.Equal(t, c.want, got, c.name)
	}
}

// TestRealTools has the tools that are there fail on small projects, and finds the places. What is missing is said; where
// DORVIK_TOOLS is "all", none may be.
func TestRealTools(t *testing.T) {
	const pom = `<project xmlns="http://maven.apache.org/POM/4.0.0"><modelVersion>4.0.0</modelVersion>
<groupId>skerry</groupId><artifactId>skerry</artifactId><version>1</version><properties>
<maven.compiler.source>11</maven.compiler.source><maven.compiler.target>11</maven.compiler.target></properties></project>`
	const tide = "-- src/main/java/Tide.java --\nclass Tide {\n  int f() { return depth; }\n}\n"
	const cmake = "-- CMakeLists.txt --\ncmake_minimum_required(VERSION 3.10)\nproject(skerry C)\nenable_testing()\n" +
		"add_executable(tide tide.c)\nadd_test(NAME tide COMMAND tide)\n"
	const built = "cmake -S . -B build && cmake --build build && ctest --test-dir build --output-on-failure"
	for _, c := range []struct {
		tool, files, line string
		path              string
		at                int
		says              string
	}{
		{"go", "-- tide.go --\npackage x\n\nfunc f() int { return depth() }\n", "GO111MODULE=off go vet tide.go",
			"tide.go", 3,
			"undefined: depth"},
		{"gcc", "-- tide.c --\nint f(void) {\n\treturn depth;\n}\n", "gcc -fdiagnostics-color=always -c tide.c",
			"tide.c", 2,
			"undeclared"},
		{"python3", "-- tide.py --\ndef f():\n    return depth\n\n\nf()\n", "python3 tide.py", "tide.py", 2,
			"NameError"},
		{"python3", "-- tide.py --\ndef f(:\n", "python3 -m py_compile tide.py", "tide.py", 1, "SyntaxError"},
		{"node", "-- tide.js --\nconst a = 1;\ndepth(a);\n", "node tide.js", "tide.js", 2,
			"ReferenceError: depth is not defined"},
		{"node", "-- tide.js --\nconst a = 1;\nconst l = require('left');\n", "node tide.js", "tide.js", 2,
			"Error: Cannot find module 'left'"},
		{"rustc", "-- tide.rs --\nfn main() {\n    depth();\n}\n", "rustc tide.rs", "tide.rs", 2,
			"cannot find function `depth`"},
		{"javac", "-- Tide.java --\nclass Tide {\n  int f() { return depth; }\n}\n", "javac Tide.java", "Tide.java", 2,
			"cannot find symbol"},
		{"make", "-- Makefile --\nall:\n    echo\n", "make", "Makefile", 2, "missing separator"},
		{"pytest", "-- fares.py --\ndef fare(n):\n    return n + 3\n-- test_fares.py --\nfrom fares import fare\n\n\n" +
			"def test_two():\n    assert fare(2) == 6\n", "pytest -q", "test_fares.py", 5, "assert 5 == 6"},
		{"pytest", "-- fares.py --\n-- test_fares.py --\nfrom fares import fare\n", "pytest -q", "test_fares.py", 1,
			"ImportError: cannot import name 'fare' from 'fares'"},
		{"ctest", cmake + "-- tide.c --\n#include <assert.h>\nint main(void) {\n\tassert(1 == 2);\n}\n", built,
			"tide.c", 3,
			"Assertion `1 == 2' failed."},
		{"cmake", cmake, built, "CMakeLists.txt", 4, "Cannot find source file"},
		{"tsc", "-- tsconfig.json " +
			"--\n{\"compilerOptions\":{\"noEmit\":true,\"types\":[]},\"files\":[\"a.ts\"]}\n-- a.ts --\n" +
			"const a = 1;\nconst b: number = depth(a);\n", "tsc", "a.ts", 2, "TS2304: Cannot find name 'depth'."},
		{"tsc", "-- tsconfig.json " +
			"--\n{\"compilerOptions\":{\"noEmit\":true,\"types\":[]},\"files\":[\"a.ts\"]}\n-- a.ts --\n" +
			"const b: number = depth();\n", "tsc --pretty", "a.ts", 1, "TS2304: Cannot find name 'depth'."},
		{"eslint", "-- eslint.config.mjs --\nexport default [{rules: {\"no-undef\": \"error\"}}];\n-- a.js " +
			"--\nconst a = 1;\n" +
			"depth(a);\n", "eslint .", "a.js", 2, "'depth' is not defined"},
		{"gradle", "-- build.gradle --\nplugins { id 'java' }\n" + tide, "gradle --offline --no-daemon build",
			"src/main/java/Tide.java", 2, "cannot find symbol"},
		{"mvn", "-- pom.xml --\n" + pom + "\n" + tide, "mvn -q -B -o -Dmaven.repo.local=/usr/share/maven-repo compile",
			"src/main/java/Tide.java", 2, "cannot find symbol"},
	} {
		t.Run(c.tool+" "+c.path, func(t *testing.T) {
			_, err := exec.LookPath(c.tool)
			if err == nil && c.tool == "mvn" { // which compiles by what the system packages beside it
				_, err = os.Stat("/usr/share/maven-repo/org/junit/junit-bom")
			}
			if err != nil {
				require.NotEqual(t, "all", os.Getenv("DORVIK_TOOLS"), "%s is missing: make tools installs it", c.tool)
				t.Skip(c.tool + " is not installed here (make tools does it); what it prints is read in " +
					"TestWhatToolsSay")
			}
			t.Parallel()
			dir := t.TempDir()
			files := map[string][]string{}
			for _, f := range txtar.Parse([]byte(c.files)).Files {
				at := filepath.Join(dir, filepath.FromSlash(f.Name))
				require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
				require.NoError(t, os.WriteFile(at, f.Data, 0o644))
				files[path.Base(f.Name)] = append(files[path.Base(f.Name)], f.Name)
			}
			cmd := exec.Command("sh", "-c", c.line)
			cmd.Dir = dir
			out, err := cmd.CombinedOutput()
			require.Error(t, err, "it was to fail")
			got := Places(strings.Split(string(out), "\n"), dir, func(base string) []string { return files[base] })
			require.NotEmpty(t, got, "%s", out)
			assert.Equal(t, []any{c.path, c.at}, []any{got[0].Path, got[0].Line}, "%s", out)
			assert.Contains(t, got[0].Text, c.says)
		})
	}
}
