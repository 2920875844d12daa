package check

import (
	"context"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestFind(t *testing.T) {
	for _, c := range []struct {
		name  string
		files map[string]string
		want  string
	}{
		{"go", map[string]string{"go.mod": "", "Makefile": "check:\n"}, "go build ./... && go test ./..."},
		{"make check before test", map[string]string{"Makefile": "all: x\ntest:\n\tgo\ncheck: test\n"}, "make check"},
		{"make build", map[string]string{"makefile": "build : a\n"}, "make build"},
		{"make without such a target", map[string]string{"Makefile": "all:\ntest := 3\n"}, ""},
		{"npm", map[string]string{"package.json": `{"scripts":{"build":"tsc","test":"node --test"}}`},
			"npm run build && npm test"},
		{"npm without " +
			"tests",
			map[string]string{"package.json": `{"scripts":{"test":"echo \"Error: no test specified\" && exit 1"}}`},
			""},
		{"npm, broken", map[string]string{"package.json": `{`}, ""},
		{"cargo", map[string]string{"Cargo.toml": ""}, "cargo build && cargo test"},
		{"maven", map[string]string{"pom.xml": ""}, "mvn -q -B test"},
		{"gradle wrapper first", map[string]string{"gradlew": "", "build.gradle": ""}, "./gradlew build"},
		{"cmake", map[string]string{"CMakeLists.txt": ""}, "cmake -S . -B build && cmake --build build && ctest " +
			"--test-dir build --output-on-failure"},
		{"python", map[string]string{"pyproject.toml": ""}, "python3 -m compileall -q ."},
		{"python with pytest", map[string]string{"pyproject.toml": "[tool.pytest.ini_options]"},
			"python3 -m compileall -q . && python3 -m pytest -q"},
		{"plain unittest", map[string]string{"./": "a.py\ntest_a.py\n", "test_a.py": "import unittest\n"},
			"python3 -m unittest discover -s ./ -p 'test_*.py'"},
		{"plain pytest", map[string]string{"tests/": "a_test.py\n", "tests/a_test.py": "def test_a():\n"},
			"python3 -m pytest -q"},
		{"plain node", map[string]string{"./": "a.test.mjs\n"}, "node --test"},
		{"plain shell", map[string]string{"test/": "a_test.sh\n"}, "for t in test/*_test.sh; do sh \"$t\" || exit; " +
			"done"},
		{"a solution of .NET", map[string]string{"./": "Skerry.sln\n", "Skerry.sln": ""},
			"dotnet build && dotnet test"},
		{"a project of .NET", map[string]string{"./": "a.md\nSkerry.csproj\n", "Skerry.csproj": ""}, dotnet},
		{"swift", map[string]string{"Package.swift": ""}, "swift build && swift test"},
		{"dart", map[string]string{"pubspec.yaml": "name: skerry\n"}, "dart analyze && dart test"},
		{"flutter", map[string]string{"pubspec.yaml": "dependencies:\n  flutter:\n    sdk: flutter\n"},
			"flutter analyze && flutter test"},
		{"elixir", map[string]string{"mix.exs": ""}, "mix test"},
		{"scala", map[string]string{"build.sbt": ""}, "sbt test"},
		{"php", map[string]string{"composer.json": `{"scripts":{"test":"phpunit"}}`, "phpunit.xml": ""}, "composer test"},
		{"php, by phpunit", map[string]string{"composer.json": `{}`, "phpunit.xml.dist": ""}, "vendor/bin/phpunit"},
		{"ruby with a Gemfile", map[string]string{"Gemfile": "", "Rakefile": ""}, "bundle exec rake"},
		{"ruby, plain", map[string]string{".rspec": "", "Rakefile": ""}, "rspec"},
		{"tests before the container", map[string]string{"./": "a.test.mjs\n", "Dockerfile": ""}, "node --test"},
		{"a container", map[string]string{"Dockerfile": ""}, "docker build ."},
		{"a container by its open name", map[string]string{"Containerfile": ""}, "podman build ."},
		{"no tests", map[string]string{"./": "a.py\n"}, ""},
		{"nothing", map[string]string{"README.md": ""}, ""},
	} {
		got, ok := Find(func(name string) (string, bool) { text, ok := c.files[name]; return text, ok })
		assert.Equal(t, c.want, got.Line(), c.name)
		assert.Equal(t, c.want != "", ok, c.name)
		assert.Equal(t, ok, got.Source != "", c.name)
	}
}

func TestOnlyFailed(t *testing.T) {
	out := []string{"ok  \ta/b\t0.1s", "--- FAIL: TestX", "FAIL", "FAIL\ta/c\t0.2s", "FAIL\ta/d [build failed]",
		"FAIL\ta/c\t0.2s"}
	for step, want := range map[string]string{
		"go test -race ./... -short": "go test -race a/c a/d -short",
		"go test ./a":                "",
		"go test ./... | tee log":    "",
		"python3 -m pytest -q":       "python3 -m pytest -q --last-failed || [ $? = 5 ]",
		"ctest --test-dir build":     "ctest --test-dir build --rerun-failed",
		"make test":                  "",
		"":                           "",
	} {
		got, ok := OnlyFailed(step, out)
		assert.Equal(t, want, got)
		assert.Equal(t, want != "", ok, step)
	}
	_, ok := OnlyFailed("go test ./...", nil)
	assert.False(t, ok)
}

func TestMeeting(t *testing.T) {
	list := []string{"x/a||/w/a|fmt", "x/b||/w/b|x/a fmt", "x/c||/w/c|", "x/c/in||/w/c/in|", "x/a.test||/w/a|fmt x/a",
		"x/a [x/a.test]|x/a|/w/a|fmt", "x/b.test||/w/b|x/a x/c fmt", "x/c.test||/w/c|", "go: downloading"}
	for _, c := range []struct{ yours, theirs, want string }{
		{"a/a.go", "c/c.go", "x/b"},
		{"a/a.go", "a/other.go", "x/a x/b"},
		{"a/a.go", "c/testdata/deep/x.txt", "x/b"},
		{"c/c.go", "c/in/i.go", ""},
		{"a/a.go", "README.md", "x/a x/b x/c"},
		{"go.mod", "c/c.go", "x/a x/b x/c"},
		{"a/a.go", "", ""},
	} {
		got, of := Meeting(list, "/w", strings.Fields(c.yours), strings.Fields(c.theirs))
		assert.Equal(t, c.want, strings.Join(got, " "), c)
		assert.Equal(t, 3, of)
	}
}

func run(ctx context.Context, t *testing.T, line string) (Report, []string, error) {
	var out []string
	r, err := Run(ctx, t.TempDir(), line, os.Environ(), func(l string) { out = append(out, l) })
	return r, out, err
}

func TestRun(t *testing.T) {
	r, out, err := run(t.Context(), t, "echo one; echo two >&2; printf last")
	require.NoError(t, err)
	assert.True(t, r.Passed)
	assert.Equal(t, []string{"one", "two", "last"}, out)

	r, _, err = run(t.Context(), t, "exit 7")
	require.NoError(t, err)
	assert.Equal(t, Report{Exit: 7, Took: r.Took}, r)

	_, out, err = run(t.Context(), t, "head -c 100000 /dev/zero | tr '\\0' x; echo; echo end")
	require.NoError(t, err)
	assert.Equal(t, []string{strings.Repeat("x", maxLine), "end"}, out, "a line without end is cut")

	_, err = Run(t.Context(), filepath.Join(t.TempDir(), "nowhere"), "true", nil, nil)
	assert.Error(t, err)
}

func TestCancelEndsAllItStarted(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	dir := t.TempDir()
	_, err := Run(ctx, dir, "(sleep 300; touch late) & echo $! > child; echo started; wait", os.Environ(),
		func(l string) {
			if l == "started" {
				cancel()
			}
		})
	assert.ErrorIs(t, err, context.Canceled)
	pid, err := os.ReadFile(filepath.Join(dir, "child"))
	require.NoError(t, err)
	// The signal is sent; the system may take a moment to carry it out.
	assert.EventuallyWithT(t, func(t *assert.CollectT) {
		state, err := os.ReadFile("/proc/" + strings.TrimSpace(string(pid)) + "/stat")
		if err == nil { // not reaped yet, but no longer running
			assert.Contains(t, string(state), ") Z", "the child is dead")
		}
	}, 10*time.Second, 10*time.Millisecond)
}

func TestProgramsOfThePersonsOwn(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, Give(t.Context(), dir, "cat > note", "words\n"))
	data, err := os.ReadFile(filepath.Join(dir, "note"))
	require.NoError(t, err)
	assert.Equal(t, "words\n", string(data))
	assert.EqualError(t, Give(t.Context(), dir, "echo no; echo way; exit 4", ""),
		"“echo no; echo way; exit 4” ended with exit status 4: no way")
	require.NoError(t, Show(t.Context(), "test -f", filepath.Join(dir, "note"), time.Minute))
	assert.ErrorContains(t, Show(t.Context(), "test -d", filepath.Join(dir, "note"), time.Minute), "exit status 1")
	require.NoError(t, Show(t.Context(), "sleep 5; :", "x", time.Millisecond), "it goes on showing it")
	assert.Equal(t, []string{"sh", "-c", `vi -R "$@"`, "vi -R", "a b"}, Editor("vi -R", "a b").Args)
}

func TestEnvironment(t *testing.T) {
	got, left := Environment([]string{"PATH=/bin", "GH_TOKEN=x", "SSH_AUTH_SOCK=y", "CI=0", "MY_SECRET=z", "TOKENS=q",
		"HOME=/h", "LC_ALL=C", "GOPROXY=https://ada:pw@pier.example", "https_proxy=http://tok@pier.example",
		"http_proxy=http://pier.example", "PGSERVICE=s", "GOFLAGSX=1"}, []string{"MY_SECRET"})
	assert.Equal(t, []string{"CI=true", "PATH=/bin", "MY_SECRET=z", "HOME=/h", "LC_ALL=C",
		"http_proxy=http://pier.example"}, got)
	assert.Equal(t, []string{"GH_TOKEN", "SSH_AUTH_SOCK", "TOKENS", "GOPROXY", "https_proxy", "PGSERVICE", "GOFLAGSX"},
		left)
}

func TestKindOf(t *testing.T) {
	for kind, names := range map[Kind]string{
		Recipe: "Makefile sub/rules.mk package.json .npmrc a/.yarnrc.yml tools/run.sh scripts/go tox.ini conftest.py " +
			"t/conftest.py setup.py build.rs vite.config.ts webpack.common.js gradlew Dockerfile x.unknown go.mod " +
			".gitattributes .gitmodules requirements.txt dev-requirements.txt .cargo/config.toml jest.setup.js tsconfig.json .eslintrc.json .vscode/x.json a/.b/c.py CMakePresets.json",
		Source: "a.go tide/tide.py src/a.ts a.c include/a.h web/index.html routes.json notes.txt",
		Inert:  "README.md LICENSE docs/a.rst a.png fares/bands.csv po/de.po .gitignore a/.gitignore",
	} {
		for name := range strings.FieldsSeq(names) {
			assert.Equal(t, kind, KindOf(name, false), name)
		}
	}
	assert.Equal(t, Recipe, KindOf("tools/gen.py", true))
	assert.Equal(t, Inert, KindOf("README.md", true))
}

func TestRecipes(t *testing.T) {
	for line, want := range map[string]string{
		"go build ./... && go test ./...": "go.mod go.work modules.txt",
		"go vet ./a/b -race":              "go.mod go.work modules.txt",
		"gofmt -l .":                      "",
		"go test -exec ./x ./...":         "-", "go test ./...;make": "-", "go generate": "-", "make": "-", "": "-",
		"test -e a || ! grep x b; exit 1": "",
		"echo x > y":                      "-", "echo `./x`": "-", "test -e a | sh": "-",
		"go test $(./x)": "-", "X=1 go test": "-", "go run ./cmd": "-",
	} {
		names, ok := Recipes([]string{line})
		assert.Equal(t, want != "-", ok, line)
		if ok {
			assert.Equal(t, want, strings.Join(slices.Sorted(maps.Keys(names)), " "))
		}
	}
}

func TestNaming(t *testing.T) {
	n := NewNaming([]string{"tools/gen.py", "tools/deep/load.js", "tide.go", "pkg/__init__.py"})
	for text, want := range map[string]string{
		"\tpython3 tools/gen.py --all":    "tools/gen.py",
		"cd tools && python3 'gen.py'":    "tools/gen.py",
		"python3 -m tools.gen":            "tools/gen.py",
		`"scripts": {"t": "node ./load"}`: "tools/deep/load.js",
		"node load":                       "tools/deep/load.js",
		"$(CURDIR)/tools/gen":             "tools/gen.py",
		"# to load a gen":                 "",
	} {
		var got []string
		n.In(text, func(name string) { got = append(got, name) })
		assert.Equal(t, want, strings.Join(slices.Compact(got), " "), text)
	}
}

// TestShow: a viewer has no part of the terminal, and what is wrong with it is said.
func TestShow(t *testing.T) {
	was := os.Stdout
	r, w, err := os.Pipe()
	require.NoError(t, err)
	os.Stdout = w
	for line, want := range map[string]string{
		"echo shown":           "",
		"no-such-viewer":       "there is no program “no-such-viewer” here",
		"echo broken; false":   "ended with exit status 1: broken",
		"sh -c 'exec sleep 9'": "",
	} {
		err := Show(t.Context(), line, "file", 100*time.Millisecond)
		if want == "" {
			assert.NoError(t, err, line)
		} else {
			assert.ErrorContains(t, err, want)
		}
	}
	os.Stdout = was
	require.NoError(t, w.Close())
	said, err := io.ReadAll(r)
	require.NoError(t, err)
	assert.Empty(t, string(said), "nothing reaches the terminal")
}

// FuzzNaming: names are found wherever they stand, and what is found was asked for.
func FuzzNaming(f *testing.F) {
	f.Add("make -f a.mk", "tools/gen.py\na.mk")
	f.Add("python3 -m tools.gen $(x)`y`", "gen.py")
	f.Fuzz(func(t *testing.T, text, names string) {
		paths := strings.Split(names, "\n")
		NewNaming(paths).In(text, func(name string) {
			if !slices.Contains(paths, name) {
				t.Fatalf("%q was not asked for", name)
			}
		})
		for _, p := range paths {
			_ = KindOf(p, true)
		}
		if only, ok := Recipes([]string{text}); ok && (strings.ContainsAny(text, "$`<>(") || only == nil) {
			t.Fatalf("%q can run anything", text)
		}
	})
}
