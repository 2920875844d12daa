// Command docs writes what is made from the program itself: the table of keys in README.md and
// the manual page docs/dorvik.1.
package main

import (
	"bytes"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra/doc"

	"dorvik.dev/dorvik/internal/cli"
	"dorvik.dev/dorvik/internal/tui/keys"
)

// The table stands between these in the README.
const (
	begin = "<!-- keys: made by make docs -->\n"
	end   = "<!-- end of keys -->\n"
)

func main() {
	if err := write(); err != nil {
		fmt.Fprintln(os.Stderr, "docs:", err)
		os.Exit(1)
	}
}

func write() error {
	readme, err := os.ReadFile("README.md")
	if err != nil {
		return err
	}
	text, err := withKeys(string(readme))
	if err != nil {
		return err
	}
	if err := os.WriteFile("README.md", []byte(text), 0o644); err != nil {
		return err
	}
	page, err := manual()
	if err != nil {
		return err
	}
	return os.WriteFile("docs/dorvik.1", page, 0o644)
}

// withKeys puts the table of keys into the text of the README.
func withKeys(text string) (string, error) {
	before, rest, ok := strings.Cut(text, begin)
	_, after, ok2 := strings.Cut(rest, end)
	if !ok || !ok2 {
		return "", fmt.Errorf("README.md has no place for the keys: the lines %q and %q", begin, end)
	}
	var b strings.Builder
	b.WriteString("| where | key | what it does |\n| --- | --- | --- |\n")
	for _, s := range keys.Sections() {
		for i, k := range s.Keys {
			where := ""
			if i == 0 {
				where = s.Title()
			}
			fmt.Fprintf(&b, "| %s | %s | %s |\n", where, k.Help().Key, k.Help().Desc)
		}
	}
	return before + begin + b.String() + end + after, nil
}

// manual is the manual page: what the commands say of themselves, and the keys.
func manual() ([]byte, error) {
	var out bytes.Buffer
	undated, root := time.Unix(0, 0), cli.Root()
	root.DisableAutoGenTag = true
	header := &doc.GenManHeader{Title: "DORVIK", Section: "1", Date: &undated, Source: "Dorvik"}
	if err := doc.GenMan(root, header, &out); err != nil {
		return nil, err
	}
	// Everything is on this one page, so remove the list of others.
	if about, _, more := bytes.Cut(out.Bytes(), []byte("\n.SH SEE ALSO")); more {
		out.Truncate(len(about))
	}
	for _, c := range cli.Root().Commands() {
		if c.Hidden || !c.IsAvailableCommand() || c.Name() == "help" || c.Name() == "completion" {
			continue
		}
		fmt.Fprintf(&out, "\n.SH COMMAND %s\n.PP\n\\fB%s\\fP\n.PP\n%s.\n", roff(strings.ToUpper(c.Name())),
			roff("dorvik "+c.Use), roff(c.Short))
		if c.Long != "" {
			fmt.Fprintf(&out, ".PP\n%s\n", roff(c.Long))
		}
		if flags := c.NonInheritedFlags().FlagUsages(); flags != "" {
			fmt.Fprintf(&out, ".PP\n.nf\n%s.fi\n", roff(flags))
		}
	}
	out.WriteString("\n.SH SETTINGS\nIn git dorvik.NAME, in Mercurial and Subversion NAME in the section [dorvik].\n")
	for _, s := range cli.Settings {
		fmt.Fprintf(&out, ".TP\n\\fB%s\\fP\n%s\n", roff(s.Key), roff(s.Says))
	}
	out.WriteString("\n.SH KEYS OF THE FULL SCREEN\n")
	for _, s := range keys.Sections() {
		fmt.Fprintf(&out, ".SS %s\n", roff(s.Title()))
		for _, k := range s.Keys {
			fmt.Fprintf(&out, ".TP\n\\fB%s\\fP\n%s\n", roff(k.Help().Key), roff(k.Help().Desc))
		}
	}
	return out.Bytes(), nil
}

// roff has text stand as it is in a manual page.
func roff(s string) string {
	s = strings.NewReplacer(`\`, `\e`, "-", `\-`).Replace(s)
	lines := strings.Split(s, "\n")
	for i, l := range lines {
		if strings.HasPrefix(l, ".") || strings.HasPrefix(l, "'") {
			lines[i] = `\&` + l
		}
	}
	return strings.Join(lines, "\n")
}
