// Package internal holds the test of the arrows: which package may import which.
package internal

import (
	"encoding/json"
	"errors"
	"io"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type pkg struct {
	ImportPath string
	Imports    []string
}

// arrows names what each package of this module may import of it, and, after
// "+", which packages beyond the standard library. The core may use no process,
// file, network or clock.
var arrows = map[string]string{
	"core/rx":       "",
	"core/caught":   "",
	"core/parallel": "core/caught",
	"core/object":   "core/parallel +golang.org/x/text",
	"core/diff":     "",
	"core/attr":     "",
	"core/merge":    "core/rx core/object core/diff core/history core/attr",
	"core/history":  "core/object core/diff",
	"core/account":  "core/object core/diff core/merge",
	"core/annotate": "core/object core/diff core/history core/merge",
	"core/decided":  "core/object core/diff core/history core/merge core/settle",
	"core/replay":   "core/parallel core/object core/diff core/merge core/history +golang.org/x/sync",
	"core/settle":   "core/rx core/object core/diff core/merge core/outline core/parallel +github.com/BurntSushi/toml +go.yaml.in/yaml",
	"core/diagnose": "core/rx",
	"core/lexing":   "core/rx +github.com/alecthomas/chroma",
	"core/outline":  "",
	"core/misfit":   "core/rx core/object core/diff core/merge core/outline core/lexing +github.com/alecthomas/chroma",
	"beneath":       "+golang.org/x/sys",
	"visible":       "",
	"words":         "core/object core/merge core/settle core/misfit",
	"gittest":       "+github.com/stretchr/testify",
	"odb":           "core/parallel core/object +github.com/klauspost/compress +golang.org/x/sys",
	"vcs":           "core/rx core/object",
	"git":           "core/rx core/object odb vcs +github.com/fsnotify/fsnotify",
	"check":         "core/rx",
	"recovery": "core/account core/caught core/rx core/object core/diff core/attr core/merge core/history core/annotate core/decided core/replay " +
		"core/settle " +
		"core/diagnose core/lexing core/misfit beneath vcs git check words +go.etcd.io/bbolt +golang.org/x/sync",
	"draw": "core/account core/diff core/object core/history core/merge core/replay core/settle recovery visible words " +
		"+codeberg.org/go-pdf/fpdf " +
		"+golang.org/x/image +golang.org/x/text",
	"demo": "core/object vcs git +golang.org/x/tools/txtar",
	"tui": "core/account core/caught core/rx core/object core/diff core/merge core/history core/annotate core/decided core/replay core/settle " +
		"core/diagnose core/misfit core/lexing vcs check " +
		"recovery draw demo visible words +charm.land +github.com/charmbracelet +github.com/alecthomas/chroma",
	"cli": "core/account core/caught core/object core/merge core/misfit core/diagnose core/history core/annotate core/decided core/replay " +
		"core/settle vcs check recovery demo draw visible words " +
		"+github.com/spf13/cobra",
}

var notInCore = []string{"os", "os/exec", "net", "net/http", "time/tzdata", "io/fs", "io/ioutil", "syscall"}

func TestArrowsRunDownward(t *testing.T) {
	out, err := exec.Command("go", "list", "-json", "dorvik.dev/dorvik/...").Output()
	require.NoError(t, err)
	seen := map[string]bool{}
	for dec := json.NewDecoder(strings.NewReader(string(out))); ; {
		var p pkg
		err := dec.Decode(&p)
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(t, err)
		name, inside := strings.CutPrefix(p.ImportPath, "dorvik.dev/dorvik/internal/")
		if !inside {
			continue
		}
		allowed, known := arrows[name]
		if !assert.True(t, known, "%s has no row in the table of arrows", name) {
			continue
		}
		seen[name] = true
		words := strings.Fields(allowed)
		for _, i := range p.Imports {
			if own, ok := strings.CutPrefix(i, "dorvik.dev/dorvik/internal/"); ok {
				assert.Contains(t, words, own, "%s imports %s", name, own)
			} else if first, _, _ := strings.Cut(i, "/"); strings.Contains(first, ".") {
				assert.True(t, slices.ContainsFunc(words, func(w string) bool {
					return strings.HasPrefix(w, "+") &&
						strings.HasPrefix(i, w[1:])
				}), "%s imports %s", name, i)
			}
			if strings.HasPrefix(name, "core/") {
				assert.NotContains(t, notInCore, i, "%s imports %s", name, i)
			}
			if i == "os/exec" {
				assert.Contains(t, []string{"git", "check", "gittest"}, name, "only these start processes")
			}
		}
	}
	for name := range arrows {
		assert.True(t, seen[name], "%s is in the table and not in the tree", name)
	}
}
