// Package host is a small stand-in for a host of repositories. It serves git's protocol by git's own http-backend, and
// has accounts, protected branches, a required check, rules about messages and sizes, proposals with a JSON interface
// (package hostapi), and a page that follows every push. It is for the demo and for tests: it listens on this machine
// only, and its passwords are plain text.
package host

import (
	_ "embed"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"net/http/cgi"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"dorvik.dev/dorvik/internal/hostapi"
)

// Host serves the repositories of a folder.
type Host struct {
	dir      string
	settings hostapi.Settings
	listener net.Listener
	server   *http.Server
	backend  string        // path of git-http-backend
	ended    chan struct{} // closed by Close

	mu      sync.Mutex
	checks  map[string]hostapi.Check // by commit
	running sync.WaitGroup
	pages   map[chan struct{}]string // open pages, with their repositories
	pushing map[string]*sync.Mutex   // by repository: one push at a time is worked up
}

//go:embed hook.sh
var preReceive []byte

//go:embed after.sh
var postReceive []byte

// Serve starts to serve the host of a folder, which has its settings, on a port of this machine; 0 selects a free one.
func Serve(dir string, port int) (*Host, error) {
	h := &Host{dir: dir, checks: map[string]hostapi.Check{}, pages: map[chan struct{}]string{},
		pushing: map[string]*sync.Mutex{}, ended: make(chan struct{})}
	if err := h.load(); err != nil {
		return nil, err
	}
	at, err := exec.Command("git", "--exec-path").Output()
	if err != nil {
		return nil, fmt.Errorf("finding git's programs: %w", err)
	}
	h.backend = filepath.Join(strings.TrimSpace(string(at)), "git-http-backend")
	if _, err := os.Stat(h.backend); err != nil {
		return nil, fmt.Errorf("git's server for HTTP is missing: %w", err)
	}
	for _, r := range h.settings.Repositories {
		h.pushing[r.Name] = &sync.Mutex{}
		for name, text := range map[string][]byte{"pre-receive": preReceive, "post-receive": postReceive} {
			hook := filepath.Join(h.path(r.Name), "hooks", name)
			if err := os.MkdirAll(filepath.Dir(hook), 0o755); err != nil {
				return nil, fmt.Errorf("preparing %s: %w", r.Name, err)
			}
			if err := os.WriteFile(hook, text, 0o755); err != nil {
				return nil, fmt.Errorf("preparing %s: %w", r.Name, err)
			}
		}
	}
	if h.listener, err = net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port)); err != nil {
		return nil, fmt.Errorf("serving on port %d: %w", port, err)
	}
	h.server = &http.Server{Handler: h.handler(), ReadHeaderTimeout: 10 * time.Second}
	for _, r := range h.settings.Repositories {
		if r.Of == "" {
			h.Refresh(r.Name)
		}
	}
	go func() { _ = h.server.Serve(h.listener) }()
	return h, nil
}

// load reads the settings.
func (h *Host) load() error {
	data, err := os.ReadFile(filepath.Join(h.dir, hostapi.SettingsFile))
	if err == nil {
		err = json.Unmarshal(data, &h.settings)
	}
	if err != nil {
		return fmt.Errorf("reading the host's settings: %w", err)
	}
	return nil
}

// Close ends the host: open pages, running checks, and the server.
func (h *Host) Close() error {
	close(h.ended)
	err := h.server.Close()
	h.running.Wait()
	return err
}

// Address returns the host's address, such as http://127.0.0.1:41234.
func (h *Host) Address() string { return "http://" + h.listener.Addr().String() }

// Page returns the address of a repository's page.
func (h *Host) Page(repository string) string { return h.Address() + "/" + repository }

// path returns the folder of a repository.
func (h *Host) path(repository string) string { return filepath.Join(h.dir, repository+".git") }

// repository returns the settings of a repository.
func (h *Host) repository(name string) (*hostapi.RepositorySettings, bool) {
	i := slices.IndexFunc(h.settings.Repositories, func(r hostapi.RepositorySettings) bool { return r.Name == name })
	if i < 0 {
		return nil, false
	}
	return &h.settings.Repositories[i], true
}

// person returns the account of a request, or nil if it has none.
func (h *Host) person(r *http.Request) *hostapi.Person {
	user, password, ok := r.BasicAuth()
	i := slices.IndexFunc(h.settings.People, func(p hostapi.Person) bool {
		return p.User == user &&
			p.Password == password
	})
	if !ok || i < 0 {
		return nil
	}
	return &h.settings.People[i]
}

// handler returns the routes.
func (h *Host) handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /{$}", h.front)
	mux.HandleFunc("GET /{repository}", h.showPage)
	mux.HandleFunc("GET /api/{repository}", h.apiRepository)
	mux.HandleFunc("GET /api/{repository}/events", h.events)
	mux.HandleFunc("GET /api/{repository}/proposals", h.apiProposals)
	mux.HandleFunc("GET /api/{repository}/locks", h.apiLocks)
	mux.HandleFunc("POST /api/{repository}/proposals", h.apiPropose)
	mux.HandleFunc("POST /api/{repository}/proposals/{number}/withdraw", h.apiWithdraw)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if name, rest, ok := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), ".git/"); ok && rest != "" {
			h.wire(w, r, name)
			return
		}
		mux.ServeHTTP(w, r)
	})
}

// wire serves git's protocol. Everybody may fetch; to push takes an account.
func (h *Host) wire(w http.ResponseWriter, r *http.Request, name string) {
	repo, ok := h.repository(name)
	if !ok {
		http.NotFound(w, r)
		return
	}
	pushes := strings.HasSuffix(r.URL.Path, "/git-receive-pack") || r.URL.Query().Get("service") == "git-receive-pack"
	who := h.person(r)
	if pushes && who == nil {
		w.Header().Set("WWW-Authenticate", `Basic realm="`+name+`"`)
		http.Error(w, "To push takes an account.", http.StatusUnauthorized)
		return
	}
	if pushes && repo.Of != "" && !repo.May(who.User) {
		http.Error(w, "This fork is somebody else's.", http.StatusForbidden)
		return
	}
	env := []string{"GIT_PROJECT_ROOT=" + h.dir, "GIT_HTTP_EXPORT_ALL=1", "HOST_PAGE=" + h.Page(name),
		"HOST_PROTECTED=" + strings.Join(repo.Rules.Protected, " "), "HOST_CHECK=" + repo.Rules.Check,
		"HOST_MAINTAINERS=" + strings.Join(repo.Rules.Maintainers, " "), "HOST_MESSAGE=" + repo.Rules.Message,
		fmt.Sprintf("HOST_BYTES=%d", repo.Rules.MostBytes)}
	if who != nil {
		env = append(env, "REMOTE_USER="+who.User, "HOST_USER="+who.User, "HOST_NAME="+who.Name)
	}
	if !pushes || r.Method != http.MethodPost {
		h.cgi(env).ServeHTTP(w, r)
		return
	}
	lock := h.pushing[name]
	lock.Lock()
	defer lock.Unlock()
	h.cgi(env).ServeHTTP(w, r)
	h.Refresh(name)
}

// cgi returns git's own server.
func (h *Host) cgi(env []string) http.Handler {
	return &cgi.Handler{Path: h.backend, Env: env, Stderr: os.Stderr,
		InheritEnv: []string{"HOME", "TMPDIR", "GOCACHE", "GOMODCACHE", "GOPATH", "GOFLAGS", "GIT_CONFIG_GLOBAL",
			"GIT_CONFIG_SYSTEM", "GIT_CONFIG_NOSYSTEM"}}
}

// writeJSON replaces a file, readable by its owner alone.
func writeJSON(file string, v any) error {
	data, err := json.MarshalIndent(v, "", "  ")
	if err == nil {
		err = os.WriteFile(file+".new", data, 0o600)
	}
	if err == nil {
		err = os.Rename(file+".new", file)
	}
	if err != nil {
		return fmt.Errorf("storing %s: %w", filepath.Base(file), err)
	}
	return nil
}
