package host

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/hostapi"
	"dorvik.dev/dorvik/internal/reflock"
)

// place is a host with a repository, a fork of it, and clones of a maintainer, another person, and the fork's owner.
type place struct {
	t               *testing.T
	h               *Host
	end             func() // closes it
	runa, mato, own *gittest.Repo
}

func newPlace(t *testing.T, rules hostapi.Rules) *place {
	gittest.Isolate(t)
	dir := t.TempDir()
	set := hostapi.Settings{Repositories: []hostapi.RepositorySettings{{Name: "skerry", Rules: rules},
		{Name: "fork", Of: "skerry", Owner: "orla"}}}
	for _, user := range []string{"runa", "mato", "orla"} {
		set.People = append(set.People, hostapi.Person{User: user, Name: strings.ToUpper(user[:1]) + user[1:],
			Password: "pw"})
	}
	data, err := json.Marshal(set)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, hostapi.SettingsFile), data, 0o600))
	seed := gittest.New(t)
	seed.Commit("start", "f", "one\ntwo\nthree\n")
	for _, name := range []string{"skerry", "fork"} {
		out, err := exec.Command("git", "clone", "-q", "--bare", seed.Dir, filepath.Join(dir,
			name+".git")).CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	h, err := Serve(dir, 0)
	require.NoError(t, err)
	p := &place{t: t, h: h}
	p.end = sync.OnceFunc(func() { assert.NoError(t, h.Close()) })
	t.Cleanup(p.end)
	p.runa, p.mato, p.own = p.clone("runa", "skerry"), p.clone("mato", "skerry"), p.clone("orla", "fork")
	return p
}

// clone clones a repository over HTTP, with a person's password.
func (p *place) clone(user, repository string) *gittest.Repo {
	r := gittest.New(p.t)
	r.Git("remote", "add", "origin", strings.Replace(p.h.Address(), "://", "://"+user+":pw@", 1)+"/"+repository+".git")
	r.Git("fetch", "-q", "origin")
	r.Git("checkout", "-q", "-B", "main", "origin/main")
	return r
}

// list returns the proposals as somebody who asks the host sees them.
func (p *place) list() []hostapi.Proposal {
	var out hostapi.List
	p.get("/api/skerry/proposals", &out)
	return out.Proposals
}

func (p *place) get(path string, into any) string {
	res, err := http.Get(p.h.Address() + path)
	require.NoError(p.t, err)
	defer res.Body.Close()
	data, err := io.ReadAll(res.Body)
	require.NoError(p.t, err)
	if into != nil {
		require.NoError(p.t, json.Unmarshal(data, into), "%s", data)
	}
	return string(data)
}

// post sends JSON as a person, and returns the status and the answer.
func (p *place) post(path, user, body string) (int, string) {
	req, err := http.NewRequestWithContext(p.t.Context(), http.MethodPost, p.h.Address()+path, strings.NewReader(body))
	require.NoError(p.t, err)
	if user != "" {
		req.SetBasicAuth(user, "pw")
	}
	res, err := http.DefaultClient.Do(req)
	require.NoError(p.t, err)
	defer res.Body.Close()
	data, err := io.ReadAll(res.Body)
	require.NoError(p.t, err)
	return res.StatusCode, string(data)
}

var strict = hostapi.Rules{Maintainers: []string{"runa"}, Protected: []string{"main"}, Check: "! grep -q broken f",
	Message: "^[A-Z]", MostBytes: 1000}

// Every rule refuses by its own words, and what keeps to the rules goes.
func TestRules(t *testing.T) {
	p := newPlace(t, strict)
	for _, c := range []struct {
		name string
		push func() (string, error)
		says string // empty if it is accepted
	}{
		{"protected", func() (string, error) {
			p.mato.Commit("Own", "g", "g\n")
			return p.mato.Try("push", "origin", "main")
		}, "main is a protected branch: put a proposal forward instead, at http://127.0.0.1:"},
		{"another branch", func() (string, error) { return p.mato.Try("push", "origin", "main:topic") }, ""},
		{"message", func() (string, error) {
			p.mato.Commit("small letter", "h", "h\n")
			return p.mato.Try("push", "origin", "main:topic")
		}, "the commit message must match ^[A-Z]"},
		{"size", func() (string, error) {
			p.runa.Commit("Large", "large", strings.Repeat("x", 1001))
			return p.runa.Try("push", "origin", "main:large")
		}, "large is larger than the maximum of 1000 bytes"},
		{"check", func() (string, error) {
			p.runa.Git("reset", "-q", "--hard", "origin/main")
			p.runa.Commit("Break it", "f", "broken\n")
			return p.runa.Try("push", "origin", "main")
		}, "main takes only what passes “! grep -q broken f”."},
		{"well", func() (string, error) {
			p.runa.Git("reset", "-q", "--hard", "origin/main")
			p.runa.Commit("Well", "f", "well\n")
			return p.runa.Try("push", "origin", "main")
		}, ""},
		{"rewriting", func() (string, error) { return p.runa.Try("push", "-f", "origin", "main~1:main") },
			"its commits are never taken out"},
		{"deleting", func() (string, error) { return p.runa.Try("push", "origin", ":main") },
			"its commits are never taken out"},
		{"a proposal's ref", func() (string, error) {
			return p.runa.Try("push", "origin",
				"main:refs/proposals/9/main")
		},
			"Proposals are put forward on the page"},
		{"somebody else's fork", func() (string, error) {
			return p.mato.Try("push", strings.Replace(p.h.Address(), "://", "://mato:pw@", 1)+"/fork.git", "main:mine")
		}, "403"},
		{"no account", func() (string, error) {
			return p.mato.Try("-c", "core.askPass=true", "push", p.h.Address()+"/skerry.git", "main:mine")
		}, "Authentication failed"},
	} {
		t.Run(c.name, func(t *testing.T) {
			out, err := c.push()
			if c.says == "" {
				assert.NoError(t, err, out)
				return
			}
			require.Error(t, err)
			assert.Contains(t, strings.ReplaceAll(out+err.Error(), "\n", " "), c.says)
		})
	}
	assert.Equal(t, "Well", gittest.At(t, p.h.path("skerry")).Git("log", "-1", "--format=%s", "main"))
}

// TestLocks: a lock is taken once, keeps others from changing the file, and is given back.
func TestLocks(t *testing.T) {
	p := newPlace(t, hostapi.Rules{Maintainers: []string{"runa"}})
	lock := func(r *gittest.Repo, who, path string) string {
		cmd := exec.Command("git", "commit-tree", r.Git("hash-object", "-t", "tree", "/dev/null"), "-m",
			path+"\n\ntides")
		cmd.Dir, cmd.Env = r.Dir, append(os.Environ(), "GIT_AUTHOR_NAME="+who)
		out, err := cmd.Output()
		require.NoError(t, err)
		return strings.TrimSpace(string(out)) + ":" + reflock.RefOf(path)
	}
	p.runa.Git("push", "-q", "origin", lock(p.runa, "Runa", "f"))
	var shown hostapi.Locks
	p.get("/api/skerry/locks", &shown)
	require.Len(t, shown.Locks, 1)
	assert.Equal(t, []string{"f", "Runa", "tides"}, []string{shown.Locks[0].Path, shown.Locks[0].Owner,
		shown.Locks[0].Why})

	_, err := p.mato.Try("push", "origin", lock(p.mato, "Mato", "f"))
	require.Error(t, err, "a lock is taken once")
	_, err = p.mato.Try("push", "-f", "origin", lock(p.mato, "Mato", "f"))
	require.ErrorContains(t, err, "only a maintainer takes it from others")
	p.mato.Commit("Mine", "f", "mine\n")
	_, err = p.mato.Try("push", "origin", "main")
	require.ErrorContains(t, err, "f is locked by Runa since ")
	p.mato.Git("reset", "-q", "--hard", "origin/main")
	p.mato.Commit("Other", "g", "other\n")
	p.mato.Git("push", "-q", "origin", "main")

	p.runa.Git("pull", "-q", "--rebase")
	p.runa.Commit("Edit", "f", "edited\n")
	p.runa.Git("push", "-q", "origin", "main")
	p.runa.Git("push", "-q", "origin", ":"+reflock.RefOf("f"))
	p.get("/api/skerry/locks", &shown)
	assert.Empty(t, shown.Locks)
}

// A proposal follows its branch, is accepted when its branch has it, and withdrawn when the branch goes or somebody who
// may says so. Refs show it to git.
func TestProposalsFollowTheirBranch(t *testing.T) {
	p := newPlace(t, hostapi.Rules{Maintainers: []string{"runa"}, Protected: []string{"main"},
		Check: "! grep -q broken f"})
	at := gittest.At(t, p.h.path("skerry"))
	p.mato.Commit("One", "one", "1\n")
	p.mato.Git("push", "-q", "origin", "main:one", "main:two")
	p.own.Commit("From outside", "f", "broken\n")
	p.own.Git("push", "-q", "origin", "main:away")
	for _, c := range []struct {
		user, body string
		status     int
		says       string
	}{
		{"mato", `{"title": "One", "from": "one", "into": "main"}`, 201, `"ref":"refs/proposals/1/main"`},
		{"mato", `{"title": "Two", "from": "two", "into": "main"}`, 201, `"number":2`},
		{"orla", `{"title": "<b>Away</b>", "from": "away", "fork": "fork", "into": "main"}`, 201, `"by":"Orla"`},
		{"", `{}`, 401, "this takes an account"},
		{"mato", `{"title": " ", "from": "one", "into": "main"}`, 400, "needs a title"},
		{"mato", `{`, 400, "reading the proposal"},
		{"mato", `{"title": "x", "from": "none", "into": "main"}`, 422, `has no branch \"none\"`},
		{"mato", `{"title": "x", "from": "one", "fork": "other", "into": "main"}`, 422, "is no fork of skerry"},
	} {
		status, says := p.post("/api/skerry/proposals", c.user, c.body)
		assert.Equal(t, c.status, status, says)
		assert.Contains(t, says, c.says)
	}
	tips := func() (out []string) {
		for _, one := range p.list() {
			shown, _ := at.Try("rev-parse", "-q", "--verify", one.Ref)
			out = append(out, fmt.Sprintf("%d %s %v", one.Number, one.State, strings.TrimSpace(shown) == one.Tip))
		}
		return out
	}
	assert.Equal(t, []string{"1 waiting true", "2 waiting true", "3 waiting true"}, tips())

	p.mato.Commit("More", "one", "2\n")
	p.mato.Git("push", "-q", "origin", "main:one")
	assert.Equal(t, p.mato.Git("rev-parse", "main"), p.list()[0].Tip, "it follows its branch")
	p.runa.Git("fetch", "-q", "origin", "refs/proposals/1/main")
	p.runa.Git("merge", "-q", "--no-ff", "-m", "Join it", "FETCH_HEAD")
	p.runa.Git("push", "-q", "origin", "main")
	p.mato.Git("push", "-q", "origin", ":one") // which changes nothing about a proposal that is accepted
	assert.Equal(t, []string{"1 accepted true", "2 accepted true", "3 waiting true"}, tips(), "2 is part of 1")
	assert.Equal(t, p.runa.Git("rev-parse", "main"), p.list()[0].AcceptAt)

	status, says := p.post("/api/skerry/proposals/3/withdraw", "mato", "")
	assert.Equal(t, 403, status, says)
	status, says = p.post("/api/skerry/proposals/3/withdraw", "orla", "")
	assert.Equal(t, 200, status, says)
	status, says = p.post("/api/skerry/proposals/3/withdraw", "orla", "")
	assert.Equal(t, 422, status)
	assert.Contains(t, says, "it is withdrawn")
	assert.Equal(t, []string{"1 accepted true", "2 accepted true", "3 withdrawn false"}, tips())
	p.mato.Git("push", "-q", "origin", "main:three")
	p.post("/api/skerry/proposals", "mato", `{"title": "Three", "from": "three", "into": "main"}`)
	assert.Equal(t, hostapi.Accepted, p.list()[3].State, "it holds nothing new")
}

// The page, the JSON and the ref tell the same, and an open page is told of each push.
func TestWhatIsShown(t *testing.T) {
	p := newPlace(t, hostapi.Rules{Maintainers: []string{"runa"}, Protected: []string{"main"},
		Check: "! grep -q broken f"})
	events, err := http.Get(p.h.Address() + "/api/skerry/events")
	require.NoError(t, err)
	defer events.Body.Close()
	p.mato.Commit("Mine", "f", "one\nmine\nthree\n")
	p.mato.Git("push", "-q", "origin", "main:mine")
	p.post("/api/skerry/proposals", "mato", `{"title": "Mine <script>", "from": "mine", "into": "main"}`)
	p.runa.Commit("Theirs", "f", "one\ntheirs\nthree\n")
	p.runa.Git("push", "-q", "origin", "main")
	lines := bufio.NewScanner(events.Body)
	for lines.Scan() && lines.Text() != "data: changed" {
	}
	assert.Equal(t, "data: changed", lines.Text())

	page := p.get("/skerry", nil)
	assert.Contains(t, page, "1 proposal waits; 1 does not join as it is.")
	assert.Contains(t, page, "Mine &lt;script&gt;")
	assert.Contains(t, page, "Both changed f.")
	assert.NotContains(t, page, "<script>")
	assert.Contains(t, p.get("/", nil), `<a href="/skerry">skerry</a>`)
	assert.Contains(t, p.get("/page.js", nil), "EventSource")

	require.Eventually(t, func() bool {
		var r hostapi.Repository
		p.get("/api/skerry", &r)
		return len(r.Branches) == 2 && r.Branches[0].Check.State == hostapi.Passed && r.Branches[0].Protected
	}, 20*time.Second, 50*time.Millisecond)
	require.Eventually(t, func() bool {
		p.runa.Git("fetch", "-q", "origin", hostapi.StateRef)
		var s hostapi.Shown
		require.NoError(t, json.Unmarshal([]byte(p.runa.Git("show", "FETCH_HEAD:"+hostapi.StateFile)), &s))
		return s.Branches[0].Check.State == hostapi.Passed && s.Proposals[0].Title == "Mine <script>"
	}, 20*time.Second, 50*time.Millisecond)

	for path, status := range map[string]int{"/none": 404, "/api/none": 404, "/api/none/proposals": 404,
		"/none.git/info/refs": 404, "/host.go": 404, "/page.html": 404} {
		res, err := http.Get(p.h.Address() + path)
		require.NoError(t, err)
		res.Body.Close()
		assert.Equal(t, status, res.StatusCode, path)
	}
}

// browser is a real one, driven by its WebDriver (https://www.w3.org/TR/webdriver2).
type browser struct {
	t       *testing.T
	session string // address
}

// newBrowser starts one. The test is skipped if there is none.
func newBrowser(t *testing.T) *browser {
	driver, err := exec.LookPath("chromedriver")
	if err != nil {
		gittest.Without(t, "chromedriver")
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := l.Addr().String()
	require.NoError(t, l.Close())
	_, port, _ := net.SplitHostPort(address)
	cmd := exec.Command(driver, "--port="+port)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	b := &browser{t, "http://" + address}
	require.Eventually(t, func() bool {
		res, err := http.Get(b.session + "/status")
		if err == nil {
			res.Body.Close()
		}
		return err == nil
	}, 20*time.Second, 50*time.Millisecond)
	args := []string{"--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
		"--disable-background-networking", "--disable-component-update", "--disable-sync", "--disable-dev-shm-usage"}
	var made struct {
		SessionID string `json:"sessionId"`
	}
	b.do("/session", map[string]any{"capabilities": map[string]any{"alwaysMatch": map[string]any{
		"goog:chromeOptions": map[string]any{"args": args}}}}, &made)
	b.session += "/session/" + made.SessionID
	t.Cleanup(func() {
		req, _ := http.NewRequest(http.MethodDelete, b.session, nil)
		if res, err := http.DefaultClient.Do(req); err == nil {
			res.Body.Close()
		}
	})
	return b
}

// do sends a command and reads its value.
func (b *browser) do(path string, command, value any) {
	data, err := json.Marshal(command)
	require.NoError(b.t, err)
	res, err := http.Post(b.session+path, "application/json", bytes.NewReader(data))
	require.NoError(b.t, err)
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	require.NoError(b.t, err)
	require.Equal(b.t, 200, res.StatusCode, "%s", text)
	var out struct{ Value json.RawMessage }
	require.NoError(b.t, json.Unmarshal(text, &out))
	if value != nil {
		require.NoError(b.t, json.Unmarshal(out.Value, value))
	}
}

// says waits until an element says something.
func (b *browser) says(what, text string) {
	b.t.Helper()
	said := ""
	require.Eventually(b.t, func() bool {
		b.do("/execute/sync", map[string]any{"script": "return document.querySelector('" + what +
			"')?.innerText ?? ''", // the page may be drawing it
			"args": []any{}}, &said)
		return strings.Contains(said, text)
	}, 20*time.Second, 100*time.Millisecond, "%s says %q", what, said)
}

// A page that a browser has open shows a push that comes later, by itself, and says when the host is gone.
func TestThePageInABrowser(t *testing.T) {
	b := newBrowser(t)
	p := newPlace(t, hostapi.Rules{Maintainers: []string{"runa"}, Protected: []string{"main"}})
	b.do("/url", map[string]string{"url": p.h.Page("skerry")}, nil)
	b.says(".sentence", "“start”. No proposal waits.")
	p.mato.Commit("Mine", "f", "one\nmine\nthree\n")
	p.mato.Git("push", "-q", "origin", "main:mine")
	p.post("/api/skerry/proposals", "mato", `{"title": "Mine", "from": "mine", "into": "main"}`)
	b.says("#proposal-1 .outcome", "Joins by itself")
	p.runa.Commit("Pushed later", "f", "one\nlater\nthree\n")
	p.runa.Git("push", "-q", "origin", "main")
	b.says(".sentence", "“Pushed later”. 1 proposal waits; 1 does not join as it is.")
	b.says("#proposal-1 .outcome", "1 decision")
	p.end()
	b.says(".live", "The host does not answer. This is what it showed last.")
}

// A host that cannot be served says why.
func TestServingNothing(t *testing.T) {
	_, err := Serve(t.TempDir(), 0)
	assert.ErrorContains(t, err, "reading the host's settings")
	p := newPlace(t, hostapi.Rules{})
	_, err = Serve(p.h.dir, p.h.listener.Addr().(*net.TCPAddr).Port)
	assert.ErrorContains(t, err, "serving on port")
}
