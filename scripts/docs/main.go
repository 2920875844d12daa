// Command docs writes what is made from the program itself: the tables of keys and settings in
// README.md, and the manual page docs/dorvik.1.
package main

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra/doc"

	"dorvik.dev/dorvik/internal/cli"
	"dorvik.dev/dorvik/internal/tui/keys"
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
	text := string(readme)
	for _, t := range tables {
		if text, err = t.put(text); err != nil {
			return err
		}
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

// table is one of the README. It stands between two comments that have its name.
type table struct {
	name string
	rows func(io.Writer)
}

var tables = []table{{"keys", keyRows}, {"settings", settingRows}}

// put puts the table into the text of the README. It fails where the text has no place for it.
func (t table) put(text string) (string, error) {
	begin, end := "<!-- "+t.name+": made by make docs -->\n", "<!-- end of "+t.name+" -->\n"
	before, rest, ok := strings.Cut(text, begin)
	_, after, ok2 := strings.Cut(rest, end)
	if !ok || !ok2 {
		return "", fmt.Errorf("README.md has no place for the %s: the lines %q and %q", t.name, begin, end)
	}
	var b strings.Builder
	t.rows(&b)
	return before + begin + b.String() + end + after, nil
}

func keyRows(w io.Writer) {
	fmt.Fprint(w, "| where | key | what it does |\n| --- | --- | --- |\n")
	for _, s := range keys.Sections() {
		for i, k := range s.Keys {
			where := ""
			if i == 0 {
				where = s.Title()
			}
			fmt.Fprintf(w, "| %s | %s | %s |\n", where, k.Help().Key, k.Help().Desc)
		}
	}
}

func settingRows(w io.Writer) {
	fmt.Fprint(w, "| setting | what it sets |\n| --- | --- |\n")
	for _, s := range cli.Settings {
		fmt.Fprintf(w, "| `dorvik.%s` | %s |\n", s.Key, s.Text())
	}
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
		fmt.Fprintf(&out, ".TP\n\\fB%s\\fP\n%s\n", roff(s.Key), roff(s.Text()))
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
