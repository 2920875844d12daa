package e2e

import (
	"net/http/cgi"
	"net/http/httputil"
	"net/url"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/hgtest"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// saysThePassword types the password that is asked, which is not shown.
func (x *terminal) saysThePassword() {
	x.see("Password for", "it is not shown", "a question")
	x.tmux("send-keys", "-t", "s", "-l", "--", "tide and time")
	x.see("13 characters typed, not shown.")
	assert.NotContains(x.t, x.screen(), "tide")
	x.press("Enter")
	x.until(func() bool { return !strings.Contains(x.screen(), "13 characters") })
}

// TestAPasswordIsAskedOnTheScreen: a server over HTTP wants a name and a password; they are asked on the screen, not
// shown, and not kept.
func TestAPasswordIsAskedOnTheScreen(t *testing.T) {
	x := newTerminal(t)
	mine := x.ahead("Warn of ice")
	at, err := exec.Command("git", "--exec-path").Output()
	require.NoError(t, err)
	exec.Command("git", "-C", x.scene.Remote, "config", "http.receivepack", "true").Run()
	server := gittest.BehindAPassword(t, "runa", "tide and time", &cgi.Handler{Path: filepath.Join(strings.TrimSpace(string(at)), "git-http-backend"),
		Env: []string{"GIT_PROJECT_ROOT=" + filepath.Dir(x.scene.Remote), "GIT_HTTP_EXPORT_ALL=1", "REMOTE_USER=runa"}})
	mine.Git("remote", "set-url", "origin", strings.Replace(server.URL, "http://", "http://runa@", 1)+"/"+
		filepath.Base(x.scene.Remote))
	x.open("100x30")
	x.see("Password for 'http://runa@127.0.0.1")
	x.saysThePassword()
	x.see("Your 1 commit can be pushed as it is.")
	x.press("Enter")
	x.see("Password for")
	x.press("Escape")
	x.see("did not answer")
	x.press("Enter")
	for range 4 { // nothing is kept, so each command that talks to the server asks
		x.saysThePassword()
		x.until(func() bool {
			return strings.Contains(x.screen(), "now holds") || strings.Contains(x.screen(), "Password for")
		})
		if strings.Contains(x.screen(), "now holds") {
			break
		}
	}
	x.see("Pushed.", "now holds")
	assert.Equal(t, x.remoteTip(), mine.Git("rev-parse", "main"))
	assert.NotContains(t, mine.Git("config", "--list"), "tide")
}

// TestAPasswordForMercurial: hg has no program that asks, so Dorvik answers what it asks.
func TestAPasswordForMercurial(t *testing.T) {
	x := demoOf(t, "hg")
	address := hgtest.At(t, x.scene.Remote, "").Serve("web.allow_push=*", "web.push_ssl=no")
	to, err := url.Parse(address)
	require.NoError(t, err)
	server := gittest.BehindAPassword(t, "runa", "tide and time", httputil.NewSingleHostReverseProxy(to))
	hgtest.At(t, x.scene.Clone, "").Set("paths.default", server.URL)
	x.open("100x30")
	x.see("User name for " + server.URL)
	x.press("Escape")
	x.see("does not know who you are (it asked for a login, and nobody answered)")
	x.press("f")
	x.see("User name for " + server.URL)
	x.tmux("send-keys", "-t", "s", "-l", "--", "runa")
	x.press("Enter")
	x.saysThePassword()
	x.see("4 theirs · 4 yours", "asked just now")
	x.press("q")
	x.see("ended with 0")
}

// TestSshAsksOnTheScreen: a server that ssh does not know is asked about with its fingerprint, and nothing is accepted
// by itself.
func TestSshAsksOnTheScreen(t *testing.T) {
	x := newTerminal(t)
	mine := x.ahead("Warn of ice")
	server := gittest.NewSshd(t)
	server.Serve(mine, x.scene.Remote, "key")
	server.Know("")
	x.open("100x30")
	x.see("The authenticity of host '[127.0.0.1]", "ED25519 key fingerprint is")
	assert.Contains(t, strings.ReplaceAll(x.screen(), "\n", ""), server.Fingerprint(t))
	x.press("Escape")
	x.see("did not answer", "not known to ssh yet")
	x.press("f")
	x.see("The authenticity of host")
	x.tmux("send-keys", "-t", "s", "-l", "--", "yes")
	x.press("Enter")
	x.see("Your 1 commit can be pushed as it is.")
	x.press("Enter")
	x.see("Ready to push.")
	x.press("Enter")
	x.see("Pushed.", "now holds")
	assert.Equal(t, x.remoteTip(), mine.Git("rev-parse", "main"))
}
