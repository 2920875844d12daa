package prove

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/check"
)

// installed is what a checkout has of what an install command brings. It is remembered by a file in the folder that the
// command fills, so whatever removes the folder removes it too.
type installed struct {
	by   lockedBy
	mark string // path of the file
	sum  string // of the manifests and the lock file; the file has the sum of those that were installed
}

// installedIn describes how a step installs by a lock file before it does the rest; ok is false if it does not.
func installedIn(dir string, line string) (in installed, rest string, ok bool) {
	for _, row := range installs {
		for _, by := range row.by {
			rest, ok := strings.CutPrefix(line, by.line()+" && ")
			if !ok || !by.locks || !isThere(dir, by.file) || strings.Contains(rest, "||") || strings.ContainsAny(rest,
				";\n") {
				continue
			}
			h := sha256.New()
			for _, name := range append(slices.Clone(row.manifests), by.file) {
				text, err := os.ReadFile(filepath.Join(dir, name))
				if err != nil && !os.IsNotExist(err) {
					return in, "", false
				}
				fmt.Fprintf(h, "%s %d\n%s", name, len(text), text)
			}
			fmt.Fprintln(h, by.command)
			mark := filepath.Join(dir, filepath.FromSlash(row.folder), ".dorvik-installed")
			return installed{by, mark, hex.EncodeToString(h.Sum(nil))}, rest, true
		}
	}
	return in, "", false
}

// here reports whether the checkout has what the lock file names.
func (in installed) here() bool {
	sum, err := os.ReadFile(in.mark)
	return err == nil && string(sum) == in.sum
}

// installOnce divides steps that install by a lock file first, so that what this checkout has is not installed again.
func installOnce(dir string, steps []check.Step) (out []check.Step, first []installed) {
	for _, one := range steps {
		in, rest, ok := installedIn(dir, one.Line)
		if !ok || one.Known != "" {
			out = append(out, one)
			continue
		}
		install := check.Step{Line: in.by.command}
		if in.here() {
			install.Known = check.InstalledBefore
		} else {
			first = append(first, in)
		}
		if in.by.enter != "" {
			rest = in.by.enter + " && " + rest
		}
		one.Line = rest
		out = append(out, install, one)
	}
	return out, first
}

// remember marks what the steps of a run installed. A folder that is not there was installed elsewhere, and is not
// remembered.
func remember(first []installed, steps []check.Step) {
	for _, in := range first {
		if slices.ContainsFunc(steps, func(one check.Step) bool {
			return one.Line == in.by.command && one.Ran &&
				one.Passed
		}) {
			_ = os.WriteFile(in.mark, []byte(in.sum), 0o600) // if it fails, it is installed again
		}
	}
}

// forget makes the next run of steps install again.
func forget(dir string, steps []check.Step) {
	for _, one := range steps {
		if in, _, ok := installedIn(dir, one.Line); ok {
			_ = os.Remove(in.mark)
		}
	}
}
