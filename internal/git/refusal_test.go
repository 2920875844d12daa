package git

import (
	"errors"
	"flag"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/cgi"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

var update = flag.Bool("update", false, "write docs/refusals.md")

// pushing is a clone that pushes to a remote with one commit more than it has.
type pushing struct {
	t            *testing.T
	mine, remote *gittest.Repo
	sends        vcs.Sending
}

func newPushing(t *testing.T) *pushing {
	gittest.Isolate(t)
	mine, remote := gittest.New(t), gittest.New(t, "--bare")
	mine.Commit("one", "f", "f\n")
	mine.Git("remote", "add", "origin", remote.Dir)
	mine.Git("push", "-q", "-u", "origin", "main")
	mine.Commit("two", "pier.bin", strings.Repeat("x", 3000))
	return &pushing{t, mine, remote, vcs.Sending{Remote: "origin", Ref: "refs/heads/main"}}
}

// hook has the server or, with a path into the clone, git here run a program.
func (p *pushing) hook(path, text string) {
	require.NoError(p.t, os.MkdirAll(filepath.Dir(path), 0o755))
	gittest.Program(p.t, path, "#!/bin/sh\n"+text+"\n")
}

// says has the server's hook refuse with a text.
func (p *pushing) says(text string) {
	p.hook(filepath.Join(p.remote.Dir, "hooks", "pre-receive"), "echo '"+text+"' >&2\nexit 1")
}

// over serves the remote by a handler over HTTP.
func (p *pushing) over(h http.Handler, tls bool) {
	s := httptest.NewUnstartedServer(h)
	if tls {
		s.StartTLS()
	} else {
		s.Start()
	}
	p.t.Cleanup(s.Close)
	p.mine.Git("remote", "set-url", "origin", s.URL+"/"+filepath.Base(p.remote.Dir))
}

// backend serves the remote by git's own program for HTTP.
func (p *pushing) backend() http.Handler {
	at, err := exec.Command("git", "--exec-path").Output()
	require.NoError(p.t, err)
	p.remote.Git("config", "http.receivepack", "true")
	return &cgi.Handler{Path: filepath.Join(strings.TrimSpace(string(at)), "git-http-backend"),
		Env: []string{"GIT_PROJECT_ROOT=" + filepath.Dir(p.remote.Dir), "GIT_HTTP_EXPORT_ALL=1"}, Stderr: io.Discard}
}

// ssh serves the remote by a real sshd, to a key.
func (p *pushing) ssh(key string) *gittest.Sshd {
	s := gittest.NewSshd(p.t)
	s.Serve(p.mine, p.remote.Dir, key)
	return s
}

// mounted has the server see its folder as a command that mounts leaves it. The test is skipped where the system does
// not let it mount.
func (p *pushing) mounted(command string) {
	if err := exec.Command("unshare", "-rm", "mount", "-t", "tmpfs", "dorvik", p.t.TempDir()).Run(); err != nil {
		p.t.Skip("nothing can be mounted here:", err)
	}
	server := filepath.Join(p.t.TempDir(), "server")
	gittest.Program(p.t, server, "#!/bin/sh\nexec unshare -rm sh -c 'cd \"$1\" && "+command+
		" && cd / && exec git-receive-pack \"$1\"' server \"$1\"\n")
	p.mine.Git("config", "remote.origin.receivepack", server)
}

// answers has the server answer everything with a status.
func (p *pushing) answers(status int, header ...string) {
	p.over(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		for i := 0; i+1 < len(header); i += 2 {
			w.Header().Set(header[i], header[i+1])
		}
		w.WriteHeader(status)
	}), false)
}

// daemon serves the remote by git's own daemon.
func (p *pushing) daemon(args ...string) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(p.t, err)
	port := fmt.Sprint(l.Addr().(*net.TCPAddr).Port)
	require.NoError(p.t, l.Close())
	cmd := exec.Command("git", append([]string{"daemon", "--listen=127.0.0.1", "--port=" + port, "--export-all",
		"--base-path=" + filepath.Dir(p.remote.Dir), "--reuseaddr"}, args...)...)
	require.NoError(p.t, cmd.Start())
	p.t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	require.Eventually(p.t, func() bool {
		c, err := net.Dial("tcp", "127.0.0.1:"+port)
		if err == nil {
			c.Close()
		}
		return err == nil
	}, 10*time.Second, 20*time.Millisecond)
	p.mine.Git("remote", "set-url", "origin", "git://127.0.0.1:"+port+"/"+filepath.Base(p.remote.Dir))
}

// refusing are the ways in which a push is refused, each made by a real server or by git here.
var refusing = []struct {
	name string // how it is made
	make func(p *pushing)
	kind vcs.RefusalKind
}{
	{"somebody pushed first", func(p *pushing) {
		other := p.remote.Clone()
		other.Commit("theirs", "g", "g\n")
		other.Git("push", "-q")
	}, vcs.Behind},
	{"the server's branch is locked", func(p *pushing) {
		require.NoError(p.t, os.WriteFile(filepath.Join(p.remote.Dir, "refs/heads/main.lock"), nil, 0o644))
	}, vcs.Busy},
	{"a hook that calls the branch protected", func(p *pushing) {
		p.says("You may not push to this protected branch.")
	}, vcs.Protected},
	{"receive.denyNonFastForwards", func(p *pushing) {
		p.remote.Git("config", "receive.denyNonFastForwards", "true")
		old, err := open(p.t, p.mine.Dir).Resolve(p.t.Context(), "origin/main")
		require.NoError(p.t, err)
		p.mine.Git("checkout", "-q", "--orphan", "else")
		p.mine.Commit("else")
		p.sends.Old = old
	}, vcs.NoRewrite},
	{"receive.denyDeletes", func(p *pushing) {
		p.remote.Git("config", "receive.denyDeletes", "true")
		old, err := open(p.t, p.mine.Dir).Resolve(p.t.Context(), "origin/main")
		require.NoError(p.t, err)
		p.remote.Git("symbolic-ref", "HEAD", "refs/heads/other")
		p.sends.Old, p.sends.Ref = old, "delete refs/heads/main"
	}, vcs.NoDelete},
	{"the branch is checked out at the remote", func(p *pushing) {
		away := gittest.At(p.t, filepath.Join(p.t.TempDir(), "away"))
		p.mine.Git("clone", "-q", p.remote.Dir, away.Dir)
		p.mine.Git("remote", "set-url", "origin", away.Dir)
	}, vcs.InUse},
	{"a hook with a limit for files", func(p *pushing) { p.says("pier.bin is larger than 1 kB.") }, vcs.Size},
	{"receive.maxInputSize", func(p *pushing) {
		p.mine.Write("pier.bin", pseudoRandom(20000))
		p.mine.Commit("large")
		p.remote.Git("config", "receive.maxInputSize", "2000")
	}, vcs.Size},
	{"a hook with a quota", func(p *pushing) { p.says("The quota of this repository is used up.") }, vcs.Quota},
	{"a hook that wants a task", func(p *pushing) {
		p.hook(filepath.Join(p.remote.Dir, "hooks", "update"), `git log --format=%s "$2..$3" | grep -q '#[0-9]' ||
{ echo "The commit message must name a task, such as #12."; exit 1; }`)
	}, vcs.Message},
	{"a hook that wants a sign-off", func(p *pushing) { p.says("Signed-off-by is missing.") }, vcs.Message},
	{"a hook that finds a secret", func(p *pushing) { p.says("A secret was found in pier.bin.") }, vcs.Secret},
	{"large files that were not uploaded", func(p *pushing) {
		p.says("LFS objects are missing. Ensure they are uploaded.")
	}, vcs.LargeObjects},
	{"a submodule's commit that was not pushed", func(p *pushing) {
		sub := gittest.New(p.t)
		sub.Commit("in it", "s", "s\n")
		p.mine.Git("-c", "protocol.file.allow=always", "submodule", "add", "-q", sub.Dir, "sub")
		gittest.At(p.t, filepath.Join(p.mine.Dir, "sub")).Commit("not pushed", "s", "t\n")
		p.mine.Commit("with it")
		p.mine.Git("config", "push.recurseSubmodules", "check")
	}, vcs.Submodule},
	{"a shallow clone", func(p *pushing) {
		shallow := gittest.At(p.t, filepath.Join(p.t.TempDir(), "shallow"))
		p.mine.Git("clone", "-q", "--depth=1", "file://"+p.mine.Dir, shallow.Dir)
		empty := gittest.New(p.t, "--bare")
		shallow.Git("remote", "set-url", "origin", empty.Dir)
		shallow.Commit("more", "f", "more\n")
		p.mine = shallow
	}, vcs.Shallow},
	{"a hook with a rule of its own", func(p *pushing) { p.says("No pushes on Fridays.") }, vcs.ServerRule},
	{"a pre-push hook here", func(p *pushing) {
		p.hook(filepath.Join(p.mine.Dir, ".git/hooks/pre-push"), "echo 'The tests fail.' >&2\nexit 1")
	}, vcs.LocalHook},
	{"a daemon that is read only", func(p *pushing) { p.daemon() }, vcs.NoAccess},
	{"a daemon without the repository", func(p *pushing) {
		p.daemon("--enable=receive-pack")
		p.mine.Git("remote", "set-url", "origin", p.mine.Git("remote", "get-url", "origin")+"-gone")
	}, vcs.NoAccess},
	{"HTTP that wants a password", func(p *pushing) {
		p.answers(http.StatusUnauthorized, "WWW-Authenticate", `Basic realm="crew"`)
	}, vcs.NoLogin},
	{"HTTP that forbids it", func(p *pushing) { p.answers(http.StatusForbidden) }, vcs.NoAccess},
	{"HTTP without the repository", func(p *pushing) { p.answers(http.StatusNotFound) }, vcs.Missing},
	{"HTTP with a repository that cannot be pushed to", func(p *pushing) {
		p.over(p.backend(), false)
		p.remote.Git("config", "http.receivepack", "false")
	}, vcs.NoAccess},
	{"HTTP with a hook that refuses", func(p *pushing) {
		p.over(p.backend(), false)
		p.says("No pushes on Fridays.")
	}, vcs.ServerRule},
	{"HTTP that names another address", func(p *pushing) {
		p.mine.Git("config", "http.followRedirects", "false")
		p.answers(http.StatusMovedPermanently, "Location", "http://127.0.0.1:1/new")
	}, vcs.Moved},
	{"HTTPS with an unknown certificate", func(p *pushing) { p.over(p.backend(), true) }, vcs.Certificate},
	{"a proxy that refuses", func(p *pushing) {
		p.answers(http.StatusProxyAuthRequired)
		p.mine.Git("config", "http.proxy", p.mine.Git("remote", "get-url", "origin"))
		p.mine.Git("remote", "set-url", "origin", "http://ferry.invalid/skerry.git")
	}, vcs.Proxy},
	{"a server that does not answer", func(p *pushing) {
		p.mine.Git("config", "http.lowSpeedLimit", "1000")
		p.mine.Git("config", "http.lowSpeedTime", "1")
		p.over(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { <-r.Context().Done() }), false)
	}, vcs.TimedOut},
	{"a host that does not exist", func(p *pushing) {
		p.mine.Git("remote", "set-url", "origin", "http://ferry.invalid/skerry.git")
	}, vcs.NoHost},
	{"a port that nobody listens on", func(p *pushing) {
		p.mine.Git("remote", "set-url", "origin", "git://127.0.0.1:1/skerry.git")
	}, vcs.Unreachable},
	{"ssh with a server that is not known", func(p *pushing) { p.ssh("key").Know("") }, vcs.HostUnknown},
	{"ssh with a server whose key changed", func(p *pushing) { p.ssh("key").Know("other") }, vcs.HostKey},
	{"ssh with a key that is not let in", func(p *pushing) { p.ssh("stranger") }, vcs.NoLogin},
	{"ssh without the repository", func(p *pushing) {
		p.ssh("key")
		require.NoError(p.t, os.RemoveAll(p.remote.Dir))
	}, vcs.Missing},
	{"ssh with a hook that refuses", func(p *pushing) {
		p.ssh("key")
		p.says("No pushes on Fridays.")
	}, vcs.ServerRule},
	{"a server whose disk is full", func(p *pushing) {
		p.mine.Commit("large", "pier.txt", pseudoRandom(200_000))
		p.mounted("cp -a objects was && mount -t tmpfs -o size=160k dorvik objects && cp -a was/. objects")
	}, vcs.Store},
	{"a server whose disk is read only", func(p *pushing) {
		p.mounted("mount --bind . . && mount -o remount,ro,bind .")
	}, vcs.Store},
	{"large files that are not here", func(p *pushing) {
		if _, err := exec.LookPath("git-lfs"); err != nil {
			gittest.Without(p.t, "git-lfs")
		}
		p.mine.Git("lfs", "install", "--local")
		p.mine.Git("lfs", "track", "*.film")
		p.mine.Commit("film", "pier.film", "a film\n")
		require.NoError(p.t, os.RemoveAll(filepath.Join(p.mine.Dir, ".git/lfs/objects")))
		require.NoError(p.t, os.Remove(filepath.Join(p.mine.Dir, "pier.film")))
	}, vcs.LargeObjects},
	{"a folder that is not there", func(p *pushing) {
		p.mine.Git("remote", "set-url", "origin", filepath.Join(p.t.TempDir(), "gone"))
	}, vcs.Missing},
}

// pseudoRandom returns a text that does not compress well.
func pseudoRandom(n int) string {
	b, x := make([]byte, n), uint32(1)
	for i := range b {
		x = x*1664525 + 1013904223
		b[i] = byte(x >> 24)
	}
	return string(b)
}

// TestRefusalsOfRealServers makes every refusal by a real server, tells its kind, and writes the table of the docs.
func TestRefusalsOfRealServers(t *testing.T) {
	var table strings.Builder
	table.WriteString("# Refused pushes\n\nHow each refusal is made in the tests, and what Dorvik says and offers. " +
		"`go test ./internal/git -run Refusals -update` writes\nthis table.\n\n" +
		"| made by | what Dorvik says | the next step | in JSON |\n| --- | --- | --- | --- |\n")
	for _, c := range refusing {
		r := &vcs.Refusal{Kind: c.kind}
		fmt.Fprintf(&table, "| %s | %s %s. | %s; %s. | `%s` |\n", c.name, r.Head(), words.Upper(r.Error()), r.Next(), r.Again(), r.JSON())
		t.Run(c.name, func(t *testing.T) {
			p := newPushing(t)
			c.make(p)
			here := open(t, p.mine.Dir)
			tip, err := here.Resolve(t.Context(), "HEAD")
			require.NoError(t, err)
			if rest, ok := strings.CutPrefix(p.sends.Ref, "delete "); ok {
				p.sends.Ref = rest
			} else {
				p.sends.Tip = tip
			}
			_, err = here.Push(t.Context(), p.sends)
			var refusal *vcs.Refusal
			require.True(t, errors.As(err, &refusal), "%v", err)
			assert.Equal(t, c.kind, refusal.Kind, "%q %q", refusal.Short, refusal.Words)
		})
	}
	file := filepath.Join("..", "..", "docs", "refusals.md")
	if *update {
		require.NoError(t, os.WriteFile(file, []byte(table.String()), 0o644))
	}
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, table.String(), string(text), "say -update to write it")
}
