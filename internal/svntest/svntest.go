// Package svntest makes repositories and working copies of Subversion for tests, and runs svn there as a second
// opinion. The product does not import it.
package svntest

import (
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Isolate has svn know nothing of the user, and skips the test where there is no svn.
func Isolate(t testing.TB) {
	for _, name := range []string{"svn", "svnadmin", "svnrdump"} {
		if _, err := exec.LookPath(name); err != nil {
			t.Skip(name + " is not installed; make tools installs it")
		}
	}
	home := t.TempDir()
	t.Setenv("HOME", home)
	t.Setenv("XDG_CONFIG_HOME", filepath.Join(home, ".config"))
	t.Setenv("XDG_CACHE_HOME", filepath.Join(home, ".cache"))
	t.Setenv("LC_ALL", "C.UTF-8")
}

// Copy is a working copy that a test changes by svn itself.
type Copy struct {
	testing.TB
	Dir, User string
}

// Repository makes a repository with a folder trunk, and returns its address.
func Repository(t testing.TB) string {
	dir := filepath.Join(t.TempDir(), "repo")
	out, err := exec.Command("svnadmin", "create", dir).CombinedOutput()
	require.NoError(t, err, "%s", out)
	at := (&Copy{t, t.TempDir(), "mato"})
	at.Svn("mkdir", "--parents", "-m", "Lay out", "file://"+dir+"/trunk", "file://"+dir+"/branches")
	return "file://" + dir
}

// Checkout checks out an address for a person.
func Checkout(t testing.TB, url, user string) *Copy {
	c := At(t, filepath.Join(t.TempDir(), "copy"), user)
	require.NoError(t, os.MkdirAll(c.Dir, 0o755))
	c.Svn("checkout", "-q", url, ".")
	return c
}

// At is a working copy that is there.
func At(t testing.TB, dir, user string) *Copy { return &Copy{t, dir, user} }

// Svn runs svn, which must succeed, and returns what it prints.
func (c *Copy) Svn(args ...string) string {
	out, err := c.Try(args...)
	require.NoError(c, err, "svn %s: %s", strings.Join(args, " "), out)
	return out
}

// Try runs svn, which may fail.
func (c *Copy) Try(args ...string) (string, error) {
	cmd := exec.Command("svn", append([]string{"--non-interactive", "--username", c.User}, args...)...)
	cmd.Dir = c.Dir
	out, err := cmd.CombinedOutput()
	return strings.TrimRight(string(out), "\n"), err
}

// Write writes a file.
func (c *Copy) Write(path, text string) {
	full := filepath.Join(c.Dir, filepath.FromSlash(path))
	require.NoError(c, os.MkdirAll(filepath.Dir(full), 0o755))
	require.NoError(c, os.WriteFile(full, []byte(text), 0o644))
}

// Read reads a file.
func (c *Copy) Read(path string) string {
	text, err := os.ReadFile(filepath.Join(c.Dir, filepath.FromSlash(path)))
	require.NoError(c, err)
	return string(text)
}

// Commit adds what is not known, and checks in all.
func (c *Copy) Commit(message string) {
	c.Svn("add", "-q", "--force", ".")
	c.Svn("commit", "-q", "-m", message)
}

// Serve serves a repository by svnserve and returns its address.
func Serve(t testing.TB, repo string) string {
	port, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := port.Addr().String()
	require.NoError(t, port.Close())
	_, number, _ := net.SplitHostPort(address)
	cmd := exec.Command("svnserve", "--daemon", "--foreground", "--root", repo, "--listen-host", "127.0.0.1",
		"--listen-port", number)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	})
	require.Eventually(t, func() bool {
		conn, err := net.Dial("tcp", address)
		if err == nil {
			conn.Close()
		}
		return err == nil
	}, 10*time.Second, 20*time.Millisecond)
	return "svn://" + address
}
