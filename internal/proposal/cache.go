package proposal

import (
	"encoding/json"
	"os"
	"path/filepath"
	"runtime/debug"
	"sync"
)

// mostKept limits how many forecasts are kept; more than that are forgotten at once.
const mostKept = 1000

// cache keeps forecasts, by the tips of both lines, in a file. It is only a cache: a file that cannot be read, or that
// another version of the program wrote, is replaced.
type cache struct {
	path string

	mu     sync.Mutex
	loaded bool
	stale  bool // the file lacks something
	known  map[string]Forecast
}

// kept is the content of the file.
type kept struct {
	By    string              `json:"by"` // version of the program
	Known map[string]Forecast `json:"known"`
}

func newCache(own string) *cache {
	return &cache{path: filepath.Join(own, "dorvik", "proposals.json"), known: map[string]Forecast{}}
}

// program identifies the version of the program, because another one may forecast otherwise.
func program() string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return ""
	}
	by := info.Main.Version
	for _, s := range info.Settings {
		if s.Key == "vcs.revision" || s.Key == "vcs.modified" {
			by += " " + s.Value
		}
	}
	return by
}

func (c *cache) get(key string) (Forecast, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if !c.loaded {
		c.loaded = true
		var k kept
		if data, err := os.ReadFile(c.path); err == nil && json.Unmarshal(data, &k) == nil && k.By == program() &&
			k.Known != nil {
			c.known = k.Known
		}
	}
	f, ok := c.known[key]
	return f, ok
}

func (c *cache) put(key string, f Forecast) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.known) >= mostKept {
		clear(c.known)
	}
	c.known[key], c.stale = f, true
}

// save writes the file beside the old one and replaces it. A failure costs only time later.
func (c *cache) save() {
	c.mu.Lock()
	defer c.mu.Unlock()
	if !c.stale {
		return
	}
	data, err := json.Marshal(kept{program(), c.known})
	if err != nil || os.MkdirAll(filepath.Dir(c.path), 0o755) != nil {
		return
	}
	f, err := os.CreateTemp(filepath.Dir(c.path), "proposals-") // readable by its owner alone
	if err != nil {
		return
	}
	_, err = f.Write(data)
	if cerr := f.Close(); err != nil || cerr != nil || os.Rename(f.Name(), c.path) != nil {
		_ = os.Remove(f.Name())
		return
	}
	c.stale = false
}
