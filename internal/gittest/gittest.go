// Package gittest makes git repositories for tests and runs git there as a second opinion. The product does not import
// it.
package gittest

import (
	"bytes"
	"fmt"
	"io/fs"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
)

// Env returns an environment in which git knows nothing of the user: no config, no credentials, fixed identity, fixed
// dates, English messages.
func Env(home string) []string {
	env := []string{
		"HOME=" + home, "XDG_CONFIG_HOME=" + home, "GIT_CONFIG_NOSYSTEM=1", "GIT_CONFIG_GLOBAL=" + filepath.Join(home,
			"gitconfig"), "GIT_TERMINAL_PROMPT=0", "LC_ALL=C",
		"GIT_AUTHOR_NAME=Ada Sund", "GIT_AUTHOR_EMAIL=ada@skerry.example", "GIT_AUTHOR_DATE=1767000000 +0100",
		"GIT_COMMITTER_NAME=Ada Sund", "GIT_COMMITTER_EMAIL=ada@skerry.example", "GIT_COMMITTER_DATE=1767000000 +0100",
	}
	for _, kv := range os.Environ() {
		name, _, _ := strings.Cut(kv, "=")
		if name != "HOME" && name != "XDG_CONFIG_HOME" && name != "XDG_CACHE_HOME" &&
			!strings.HasPrefix(name, "GIT_") && !strings.HasPrefix(name,
			"LC_") {
			env = append(env, kv)
		}
	}
	return env
}

var goCaches = sync.OnceValue(func() map[string]string {
	out := map[string]string{}
	for _, name := range []string{"GOCACHE", "GOMODCACHE"} {
		if value, err := exec.Command("go", "env", name).Output(); err == nil {
			out[name] = strings.TrimSpace(string(value))
		}
	}
	return out
})

// settings writes the configuration of the test user. git must not look for garbage after each commit: that is one more
// process each time.
func settings(home string) error {
	return os.WriteFile(filepath.Join(home, "gitconfig"), []byte("[maintenance]\n\tauto = false\n"), 0o644)
}

// isolated reports that the process has such an environment for all its tests.
var isolated bool

// IsolateAll is Isolate for all tests of a package, which may then run in parallel. Call it before them, and the
// returned function after them.
func IsolateAll() (after func(), err error) {
	home, err := os.MkdirTemp("", "dorvik-test-home-")
	if err != nil {
		return nil, err
	}
	if err := settings(home); err != nil {
		return nil, err
	}
	set := Env(home)[:12]
	for name, value := range goCaches() {
		set = append(set, name+"="+value)
	}
	for _, kv := range os.Environ() {
		if name, _, _ := strings.Cut(kv, "="); strings.HasPrefix(name, "GIT_") || name == "XDG_CACHE_HOME" {
			os.Unsetenv(name)
		}
	}
	for _, kv := range set {
		name, value, _ := strings.Cut(kv, "=")
		if err := os.Setenv(name, value); err != nil {
			return nil, err
		}
	}
	isolated = true
	return func() { os.RemoveAll(home); removeTemplates() }, nil
}

// Isolate gives this environment to the test process, so that programs that the product starts inherit it.
func Isolate(t testing.TB) {
	if isolated {
		return
	}
	// Builds that the product starts go on using the caches there are.
	for name, value := range goCaches() {
		t.Setenv(name, value)
	}
	for _, kv := range os.Environ() {
		if name, _, _ := strings.Cut(kv, "="); strings.HasPrefix(name, "GIT_") || name == "XDG_CACHE_HOME" {
			t.Setenv(name, "") // restored after the test
			os.Unsetenv(name)
		}
	}
	home := t.TempDir()
	require.NoError(t, settings(home))
	for _, kv := range Env(home)[:12] {
		name, value, _ := strings.Cut(kv, "=")
		t.Setenv(name, value)
	}
}

// Own sets a value in the test user's git configuration for the duration of a test.
func Own(t testing.TB, key, value string) {
	file := os.Getenv("GIT_CONFIG_GLOBAL")
	require.NoError(t, exec.Command("git", "config", "--file", file, key, value).Run())
	t.Cleanup(func() { _ = exec.Command("git", "config", "--file", file, "--unset-all", key).Run() })
}

// Program writes an executable file from another process. If this process had it open for writing, a parallel test
// that forks would inherit that, and the system would refuse to run the file.
func Program(t testing.TB, path, text string) {
	t.Helper()
	cmd := exec.Command("sh", "-c", `cat >"$1" && chmod 755 "$1"`, "sh", path)
	cmd.Stdin = strings.NewReader(text)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
}

// Repo is a test's repository.
type Repo struct {
	Dir string
	t   testing.TB
	env []string
}

// New creates an empty repository with the branch main.
func New(t testing.TB, args ...string) *Repo {
	dir := t.TempDir()
	r := At(t, dir)
	r.Git(append([]string{"init", "-q", "-b", "main"}, args...)...)
	return r
}

// At returns the repository in a directory.
func At(t testing.TB, dir string) *Repo {
	home := t.TempDir()
	require.NoError(t, settings(home))
	return &Repo{dir, t, Env(home)}
}

// Clone clones the repository into another directory.
func (r *Repo) Clone() *Repo {
	c := At(r.t, filepath.Join(r.t.TempDir(), "clone"))
	out, err := r.command(nil, "clone", "-q", r.Dir, c.Dir).CombinedOutput()
	require.NoError(r.t, err, "%s", out)
	return c
}

// Team creates a bare repository with one commit, "start", with some files, and two clones of it. After IsolateAll it
// copies them from a template, which saves some 30 processes of git.
func Team(t testing.TB, files ...string) (remote, mine, other *Repo) {
	t.Helper()
	dir := t.TempDir()
	if !isolated {
		require.NoError(t, makeTeam(dir, files))
	} else {
		made, err := template(files)
		require.NoError(t, err)
		require.NoError(t, os.CopyFS(dir, os.DirFS(made)))
		for _, name := range []string{"mine", "other"} {
			config := filepath.Join(dir, name, ".git/config")
			text, err := os.ReadFile(config)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(config, bytes.ReplaceAll(text, []byte(made), []byte(dir)), 0o644))
		}
	}
	return At(t, filepath.Join(dir, "remote")), At(t, filepath.Join(dir, "mine")), At(t, filepath.Join(dir, "other"))
}

func makeTeam(dir string, files []string) error {
	for i := 0; i+1 < len(files); i += 2 {
		full := filepath.Join(dir, "mine", files[i])
		if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(full, []byte(files[i+1]), 0o644); err != nil {
			return err
		}
	}
	for _, args := range []string{"init -q -b main --bare remote", "init -q -b main mine",
		"-C mine remote add origin " + filepath.Join(dir, "remote"), "-C mine add -A",
		"-C mine commit -q --allow-empty -m start", "-C mine push -q -u origin HEAD",
		"clone -q " + filepath.Join(dir, "remote") + " other"} {
		cmd := exec.Command("git", strings.Fields(args)...)
		cmd.Dir, cmd.Env = dir, Env(dir)
		if out, err := cmd.CombinedOutput(); err != nil {
			return fmt.Errorf("git %s: %w: %s", args, err, out)
		}
	}
	return nil
}

// templates has the folder of each template, by the files of its first commit.
var templates sync.Map

// template returns a folder made by makeTeam. The function that IsolateAll returns removes it.
func template(files []string) (string, error) {
	once, _ := templates.LoadOrStore(strings.Join(files, "\x00"), sync.OnceValues(func() (string, error) {
		dir, err := os.MkdirTemp("", "dorvik-test-team-")
		if err != nil {
			return "", err
		}
		return dir, makeTeam(dir, files)
	}))
	return once.(func() (string, error))()
}

func removeTemplates() {
	for _, once := range templates.Range {
		if dir, _ := once.(func() (string, error))(); dir != "" {
			os.RemoveAll(dir)
		}
	}
}

func (r *Repo) command(stdin []byte, args ...string) *exec.Cmd {
	cmd := exec.Command("git", args...)
	cmd.Dir, cmd.Env = r.Dir, r.env
	if stdin != nil {
		cmd.Stdin = bytes.NewReader(stdin)
	}
	return cmd
}

// Git runs git and returns its output without the last line end. A failure fails the test.
func (r *Repo) Git(args ...string) string {
	r.t.Helper()
	out, err := r.Try(args...)
	require.NoError(r.t, err, "git %s: %s", strings.Join(args, " "), out)
	return out
}

// Try runs git and returns its output and error.
func (r *Repo) Try(args ...string) (string, error) { return r.TryInput(nil, args...) }

// TryInput is Try with standard input.
func (r *Repo) TryInput(stdin []byte, args ...string) (string, error) {
	cmd := r.command(stdin, args...)
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	err := cmd.Run()
	if err != nil {
		err = fmt.Errorf("%w: %s", err, errs.String())
	}
	return strings.TrimSuffix(out.String(), "\n"), err
}

// Content returns the content of a file in a commit.
func (r *Repo) Content(rev, path string) string {
	r.t.Helper()
	out, err := r.command(nil, "cat-file", "blob", rev+":"+path).Output()
	require.NoError(r.t, err)
	return string(out)
}

// Write writes a file and creates its directories.
func (r *Repo) Write(path, text string) {
	r.t.Helper()
	full := filepath.Join(r.Dir, path)
	require.NoError(r.t, os.MkdirAll(filepath.Dir(full), 0o755))
	require.NoError(r.t, os.WriteFile(full, []byte(text), 0o644))
}

// Read returns the text of a file.
func (r *Repo) Read(path string) string {
	r.t.Helper()
	b, err := os.ReadFile(filepath.Join(r.Dir, path))
	require.NoError(r.t, err)
	return string(b)
}

// Commit commits everything and returns the commit's id. It first writes the given pairs of path and text.
func (r *Repo) Commit(message string, files ...string) string {
	r.t.Helper()
	for i := 0; i+1 < len(files); i += 2 {
		r.Write(files[i], files[i+1])
	}
	r.Git("add", "-A")
	r.Git("commit", "-q", "--allow-empty", "-m", message)
	return r.head()
}

// head returns the commit of HEAD. It reads the branch's own file, which after a commit is there but for unusual
// repositories.
func (r *Repo) head() string {
	r.t.Helper()
	dir := filepath.Join(r.Dir, ".git")
	at, _ := os.ReadFile(filepath.Join(dir, "HEAD"))
	if name, on := strings.CutPrefix(strings.TrimSpace(string(at)), "ref: "); on {
		at, _ = os.ReadFile(filepath.Join(dir, filepath.FromSlash(name)))
	}
	if id := strings.TrimSpace(string(at)); len(id) >= 40 && strings.Trim(id, "0123456789abcdef") == "" {
		return id
	}
	return r.Git("rev-parse", "HEAD")
}

// Without skips a test because something is missing, unless DORVIK_TOOLS is "all".
func Without(t testing.TB, what string) {
	if os.Getenv("DORVIK_TOOLS") == "all" {
		t.Fatal(what + " is missing: make tools installs it")
	}
	t.Skip(what + " is missing")
}

// Files reads a working folder: kind and bytes of all that is in it, but for what git or hg keeps there.
func Files(t testing.TB, dir string) map[string]string {
	out := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, _ := filepath.Rel(dir, p)
		info, err := d.Info()
		switch {
		case err != nil:
			return err
		case rel == ".git" || rel == ".hg" || rel == ".svn":
			return filepath.SkipDir
		case d.IsDir():
			out[rel] = "a folder"
		case info.Mode()&fs.ModeSymlink != 0:
			to, err := os.Readlink(p)
			out[rel] = "to " + to
			return err
		default:
			data, err := os.ReadFile(p)
			out[rel] = fmt.Sprintf("%v %s", info.Mode()&0o111 != 0, data)
			return err
		}
		return nil
	}))
	return out
}

// BehindAPassword serves a handler to whoever says a name and a password.
func BehindAPassword(t testing.TB, name, password string, of http.Handler) *httptest.Server {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if n, p, _ := r.BasicAuth(); n != name || p != password {
			w.Header().Set("WWW-Authenticate", `Basic realm="crew"`)
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		of.ServeHTTP(w, r)
	}))
	t.Cleanup(server.Close)
	return server
}
