package gittest

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Sshd is a real server for ssh on the loopback that lets one key in.
type Sshd struct {
	dir, user string
	port      string
}

// NewSshd starts a server. The test is skipped where no sshd is installed.
func NewSshd(t testing.TB) *Sshd {
	path, err := exec.LookPath("sshd")
	if err != nil {
		path = "/usr/sbin/sshd" // not on the path of everybody
	}
	if _, err := os.Stat(path); err != nil {
		Without(t, "sshd")
	}
	me, err := user.Current()
	require.NoError(t, err)
	s := &Sshd{dir: t.TempDir(), user: me.Username}
	for _, name := range []string{"host", "other", "key", "stranger"} {
		require.NoError(t, exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", s.file(name)).Run())
	}
	if me.Uid == "0" { // where the system has it empty its privileges
		require.NoError(t, os.MkdirAll("/run/sshd", 0o755))
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s.port = fmt.Sprint(l.Addr().(*net.TCPAddr).Port)
	require.NoError(t, l.Close())
	config := fmt.Sprintf("ListenAddress 127.0.0.1:%s\nHostKey %s\nAuthorizedKeysFile %s\nStrictModes no\nUsePAM no\n"+
		"PidFile none\nPasswordAuthentication no\nKbdInteractiveAuthentication no\n"+
		"SetEnv GIT_CONFIG_GLOBAL=%s GIT_CONFIG_NOSYSTEM=1 PATH=%s\n",
		s.port, s.file("host"), s.file("key.pub"), os.DevNull, os.Getenv("PATH"))
	require.NoError(t, os.WriteFile(s.file("config"), []byte(config), 0o600))
	cmd := exec.Command(path, "-D", "-e", "-f", s.file("config"))
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", "127.0.0.1:"+s.port)
		if err == nil {
			c.Close()
		}
		return err == nil
	}, 10*time.Second, 20*time.Millisecond)
	s.Know("host")
	return s
}

func (s *Sshd) file(name string) string { return filepath.Join(s.dir, name) }

// Know has the client take a key for the server's: "host", which it is, "other", which it is not, or "" for none.
func (s *Sshd) Know(name string) {
	text := ""
	if name != "" {
		key, _ := os.ReadFile(s.file(name + ".pub"))
		text = fmt.Sprintf("[127.0.0.1]:%s %s", s.port, key)
	}
	_ = os.WriteFile(s.file("known"), []byte(text), 0o600)
}

// Serve has a clone reach a remote's folder by the server, with a key: "key", which is let in, or "stranger".
func (s *Sshd) Serve(clone *Repo, remote, key string) {
	clone.Git("config", "core.sshCommand",
		fmt.Sprintf("ssh -F none -i '%s' -o IdentitiesOnly=yes -o IdentityAgent=none "+
			"-o UserKnownHostsFile='%s' -o GlobalKnownHostsFile=none", s.file(key), s.file("known")))
	clone.Git("remote", "set-url", "origin", "ssh://"+s.user+"@127.0.0.1:"+s.port+filepath.ToSlash(remote))
}

// Fingerprint returns that of the server's key.
func (s *Sshd) Fingerprint(t testing.TB) string {
	out, err := exec.Command("ssh-keygen", "-l", "-f", s.file("host.pub")).Output()
	require.NoError(t, err)
	return strings.Fields(string(out))[1]
}
