// Package internal holds the test of the arrows: which package may import which.
package internal

import (
	"encoding/json"
	"errors"
	"go/parser"
	"go/token"
	"io"
	"os/exec"
	"path/filepath"
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
	"core/rx":        "",
	"core/rule":      "core/rx",
	"core/caught":    "",
	"core/parallel":  "core/caught",
	"core/object":    "core/parallel +golang.org/x/text",
	"core/diff":      "",
	"core/attr":      "",
	"core/merge":     "core/rx core/object core/diff core/history core/attr",
	"core/mergeinfo": "",
	"core/history":   "core/object core/diff",
	"core/account":   "core/object core/diff core/merge",
	"core/annotate":  "core/object core/diff core/history core/merge",
	"core/decided":   "core/object core/diff core/history core/merge core/settle",
	"core/replay":    "core/parallel core/object core/diff core/merge core/history +golang.org/x/sync",
	"core/settle":    "core/format core/lang core/rx core/object core/diff core/merge core/outline core/parallel",
	"core/diagnose":  "core/rx",
	"core/lexing":    "core/rx +github.com/alecthomas/chroma",
	"core/lang":      "",
	"core/format":    "core/lang core/rx core/merge +github.com/BurntSushi/toml +go.yaml.in/yaml",
	"core/outline":   "",
	"core/inside":    "core/diff core/rx +golang.org/x/image",
	"core/misfit":    "core/lang core/rx core/object core/diff core/merge core/outline core/lexing +github.com/alecthomas/chroma",
	"beneath":        "+golang.org/x/sys",
	"visible":        "",
	"askpass":        "",
	"words":          "core/object core/merge core/settle core/misfit",
	"faulttest":      "+github.com/stretchr/testify +golang.org/x/sys/unix",
	"gittest":        "+github.com/stretchr/testify",
	"hgtest":         "+github.com/stretchr/testify",
	"svntest":        "+github.com/stretchr/testify",
	"applytest":      "core/settle change faulttest ledger plan recovery +github.com/stretchr/testify",
	"odb":            "core/parallel core/object +github.com/klauspost/compress +golang.org/x/sys",
	"vcs":            "core/history core/rx core/object",
	"git":            "core/rx core/object odb vcs watch",
	"beside":         "beneath core/object odb vcs",
	"hg":             "beneath beside core/rx core/object odb vcs watch",
	"svn":            "beneath beside core/history core/mergeinfo core/rx core/object odb vcs watch",
	"reflock":        "core/attr core/object beside vcs",
	"svnapply":       "core/history core/merge core/object core/settle beneath change exact ledger plan svn vcs words workdir",
	"exact":          "",
	"watch":          "+github.com/fsnotify/fsnotify",
	"workdir":        "beneath core/object change exact ledger plan vcs",
	"hgapply":        "core/history core/merge core/object core/settle beneath beside change exact hg ledger plan vcs words workdir",
	"check":          "core/rx",
	"plan": "core/account core/caught core/decided core/diagnose core/diff core/history core/lexing core/merge core/misfit " +
		"core/object core/replay core/rx core/settle vcs words +golang.org/x/sync",
	"proposal": "core/history core/merge core/object core/settle hostapi plan vcs words",
	"ledger":   "core/merge core/object core/replay core/rule core/settle exact plan proposal vcs words +go.etcd.io/bbolt",
	"prove": "core/attr core/diagnose core/diff core/history core/merge core/misfit core/object core/settle check " +
		"ledger plan vcs words",
	"change": "core/object ledger plan vcs words",
	"apply":  "core/history core/merge core/object core/settle beneath change git ledger plan prove vcs words workdir",
	"lookback": "core/annotate core/decided core/diff core/history core/merge core/object core/settle ledger plan " +
		"vcs words",
	"recovery": "core/diff core/history core/merge core/misfit core/object core/replay core/rule core/rx core/settle apply change check exact " +
		"git hg hgapply hostapi ledger lookback plan proposal prove reflock svn svnapply vcs words",
	"memory": "core/history core/merge core/object core/settle change ledger plan prove recovery vcs",
	"draw": "core/diff core/history core/merge core/object core/replay core/settle ledger lookback plan prove vcs visible words " +
		"+codeberg.org/go-pdf/fpdf +github.com/klauspost/compress +golang.org/x/image +golang.org/x/text",
	"demo":     "core/object hg hostapi svn vcs git +golang.org/x/tools/txtar",
	"hostapi":  "",
	"host":     "core/history core/object git hostapi plan proposal reflock vcs visible words",
	"tui/keys": "+charm.land",
	"tui/term": "core/lexing tui/keys visible +charm.land +github.com/charmbracelet +github.com/alecthomas/chroma",
	"tui": "core/annotate core/caught core/decided core/diagnose core/diff core/history core/inside core/lexing core/merge " +
		"core/misfit core/object core/replay core/rx core/settle askpass change check demo draw hostapi " +
		"ledger lookback plan proposal prove recovery tui/keys tui/term vcs visible words +charm.land +github.com/charmbracelet",
	"cli": "core/annotate core/caught core/decided core/diagnose core/history core/merge core/misfit core/object " +
		"core/replay core/settle askpass change check demo draw " +
		"ledger lookback plan proposal prove recovery vcs visible words " +
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
			if name == "plan" {
				assert.NotContains(t, []string{"os", "os/exec", "path/filepath"}, i, "planning writes nothing")
			}
			if i == "os/exec" {
				assert.Contains(t, []string{"git", "hg", "svn", "check", "gittest", "hgtest", "svntest", "applytest",
					"faulttest", "host",
					"demo"}, name,
					"only these start processes")
			}
		}
	}
	for name := range arrows {
		assert.True(t, seen[name], "%s is in the table and not in the tree", name)
	}
}

// TestOneFileOfRecoveryKnowsASystem: everything else goes by the port.
func TestOneFileOfRecoveryKnowsASystem(t *testing.T) {
	knows := map[string][]string{
		"git.go":     {`"dorvik.dev/dorvik/internal/git"`, `"dorvik.dev/dorvik/internal/apply"`},
		"hg.go":      {`"dorvik.dev/dorvik/internal/hg"`, `"dorvik.dev/dorvik/internal/hgapply"`},
		"svn.go":     {`"dorvik.dev/dorvik/internal/svn"`, `"dorvik.dev/dorvik/internal/svnapply"`},
		"systems.go": {`"dorvik.dev/dorvik/internal/hg"`, `"dorvik.dev/dorvik/internal/svn"`},
		// it asks whose a folder is
	}
	all := slices.Concat(knows["git.go"], knows["hg.go"], knows["svn.go"])
	files, err := filepath.Glob("recovery/*.go")
	require.NoError(t, err)
	for _, name := range files {
		if strings.HasSuffix(name, "_test.go") {
			continue
		}
		file, err := parser.ParseFile(token.NewFileSet(), name, nil, parser.ImportsOnly)
		require.NoError(t, err)
		for _, i := range file.Imports {
			if slices.Contains(all, i.Path.Value) {
				assert.Contains(t, knows[filepath.Base(name)], i.Path.Value, name)
			}
		}
	}
}
