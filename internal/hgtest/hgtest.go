// Package hgtest makes Mercurial repositories for tests, and runs hg there as a second opinion. The product does not
// import it.
package hgtest

import (
	"bufio"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Isolate has hg know nothing of the user, and skips the test where there is no hg.
func Isolate(t testing.TB) {
	if _, err := exec.LookPath("hg"); err != nil {
		t.Skip("hg is not installed; make tools installs it")
	}
	t.Setenv("HGRCPATH", "")
	t.Setenv("HGPLAIN", "1")
	t.Setenv("HGENCODING", "UTF-8")
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	t.Setenv("XDG_CACHE_HOME", t.TempDir())
	t.Setenv("HOME", t.TempDir())
}

// Folder is a working folder that a test changes by hg itself. One hg runs all its commands.
type Folder struct {
	testing.TB
	Dir, User string

	in  io.WriteCloser // nil if no hg runs
	out *bufio.Reader
	end func() error
}

// New makes a repository for a person.
func New(t testing.TB, user string) *Folder { return NewAt(t, t.TempDir(), user) }

// NewAt is New in a folder.
func NewAt(t testing.TB, dir, user string) *Folder {
	f := At(t, dir, user)
	require.NoError(t, os.MkdirAll(dir, 0o755))
	run(t, f.Dir, "init", f.Dir)
	f.Set("ui.username", user)
	return f
}

// At is a repository that is there.
func At(t testing.TB, dir, user string) *Folder { return &Folder{TB: t, Dir: dir, User: user} }

// Clone clones a repository for a person.
func (f *Folder) Clone(user string) *Folder {
	dir := filepath.Join(f.TempDir(), "clone")
	return f.CloneTo(dir, user)
}

// CloneTo is Clone into a folder.
func (f *Folder) CloneTo(dir, user string) *Folder {
	run(f, f.Dir, "clone", "--quiet", f.Dir, dir)
	c := At(f, dir, user)
	c.Set("ui.username", user)
	return c
}

// Borrow returns a Folder to ask. If an hg runs there already, that is asked, since starting one takes long. Call done
// afterwards.
func Borrow(t testing.TB, dir string) (f *Folder, done func()) {
	if f, ok := running.Load(dir); ok {
		return f.(*Folder), func() {}
	}
	f = At(t, dir, "nobody")
	return f, f.Stop
}

// running are the Folders whose hg runs, by their directories.
var running sync.Map

// Set adds a setting to the repository's hgrc.
func (f *Folder) Set(key, value string) {
	section, name, _ := strings.Cut(key, ".")
	file, err := os.OpenFile(filepath.Join(f.Dir, ".hg", "hgrc"), os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o644)
	require.NoError(f, err)
	_, err = fmt.Fprintf(file, "[%s]\n%s = %s\n", section, name, value)
	require.NoError(f, err)
	require.NoError(f, file.Close())
}

func run(t testing.TB, in string, args ...string) {
	cmd := exec.Command("hg", args...)
	cmd.Dir = in
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "hg %s: %s", strings.Join(args, " "), out)
}

// start starts a command server.
func (f *Folder) start() {
	cmd := exec.Command("hg", "-R", f.Dir, "--config", "extensions.strip=", "--config", "extensions.rebase=",
		"--config", "extensions.shelve=", "--config", "extensions.histedit=", "--config", "ui.timeout=20", "--config",
		"ui.origbackuppath=.hg/orig",
		"serve", "--cmdserver", "pipe")
	cmd.Dir = f.Dir
	var err error
	f.in, err = cmd.StdinPipe()
	require.NoError(f, err)
	out, err := cmd.StdoutPipe()
	require.NoError(f, err)
	require.NoError(f, cmd.Start())
	f.end = cmd.Wait
	running.Store(f.Dir, f)
	f.Cleanup(f.Stop)
	f.out = bufio.NewReader(out)
	_, _, err = f.frame()
	require.NoError(f, err)
}

func (f *Folder) frame() (channel byte, data []byte, err error) {
	var head [5]byte
	if _, err := io.ReadFull(f.out, head[:]); err != nil {
		return 0, nil, err
	}
	n := binary.BigEndian.Uint32(head[1:])
	if head[0] == 'I' || head[0] == 'L' {
		return head[0], nil, nil
	}
	data = make([]byte, n)
	_, err = io.ReadFull(f.out, data)
	return head[0], data, err
}

// Try runs a command and returns all that it says, and its exit code.
func (f *Folder) Try(args ...string) (said string, code int) {
	if f.in == nil {
		f.start()
	}
	text := strings.Join(args, "\x00")
	_, err := fmt.Fprintf(f.in, "runcommand\n%s%s", binary.BigEndian.AppendUint32(nil, uint32(len(text))), text)
	require.NoError(f, err)
	var out strings.Builder
	for {
		channel, data, err := f.frame()
		require.NoError(f, err, "hg %s", strings.Join(args, " "))
		switch channel {
		case 'r':
			return strings.TrimSuffix(out.String(), "\n"), int(int32(binary.BigEndian.Uint32(data)))
		case 'o', 'e':
			out.Write(data)
		default:
			_, err := f.in.Write([]byte{0, 0, 0, 0})
			require.NoError(f, err)
		}
	}
}

// Hg runs a command that must not fail.
func (f *Folder) Hg(args ...string) string {
	said, code := f.Try(args...)
	require.Zero(f, code, "hg %s: %s", strings.Join(args, " "), said)
	return said
}

// Write writes a file.
func (f *Folder) Write(path, text string) {
	full := filepath.Join(f.Dir, path)
	require.NoError(f, os.MkdirAll(filepath.Dir(full), 0o755))
	require.NoError(f, os.WriteFile(full, []byte(text), 0o644))
}

// Read returns what a file holds, or “absent”.
func (f *Folder) Read(path string) string {
	data, err := os.ReadFile(filepath.Join(f.Dir, path))
	if os.IsNotExist(err) {
		return "absent"
	}
	require.NoError(f, err)
	return string(data)
}

// Commit commits all files and returns the changeset.
func (f *Folder) Commit(message string) string {
	f.Hg("commit", "--addremove", "-m", message, "-d", "1767261600 -3600")
	return f.Hg("log", "-r", ".", "-T", "{node}")
}

// Stop ends the hg that runs the commands, which can hold a lock until then. The next command starts another.
func (f *Folder) Stop() {
	if f.in != nil {
		running.Delete(f.Dir)
		f.in.Close()
		_ = f.end()
		f.in = nil
	}
}

// Copy copies a folder with repositories.
func Copy(t testing.TB, from string) (to string) {
	to = filepath.Join(t.TempDir(), "copy")
	out, err := exec.Command("cp", "-a", from, to).CombinedOutput()
	require.NoError(t, err, "%s", out)
	return to
}

// Sound checks that hg finds the repository whole.
func (f *Folder) Sound() {
	said, code := f.Try("verify")
	require.Zero(f, code, said)
	require.NotContains(f, said, "warning")
}

// Serve serves the repository by HTTP, with settings, and returns the address.
func (f *Folder) Serve(settings ...string) string {
	port, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(f, err)
	address := port.Addr().String()
	require.NoError(f, port.Close())
	_, number, _ := net.SplitHostPort(address)
	args := []string{"-R", f.Dir, "serve", "-a", "127.0.0.1", "-p", number}
	for _, s := range settings {
		args = append(args, "--config", s)
	}
	cmd := exec.Command("hg", args...)
	require.NoError(f, cmd.Start())
	f.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	require.Eventually(f, func() bool {
		c, err := net.Dial("tcp", address)
		if err == nil {
			c.Close()
		}
		return err == nil
	}, 20*time.Second, 20*time.Millisecond)
	return "http://" + address
}
