// Command lexers packs the definitions of languages that come with chroma (MIT licence, which is packed with them) into
// internal/core/lexing/lexers.zip, so that a program that needs few of them reads few.
package main

import (
	"archive/zip"
	"bytes"
	"compress/flate"
	"encoding/xml"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"github.com/alecthomas/chroma/v2"
)

func main() {
	if err := run("internal/core/lexing/lexers.zip"); err != nil {
		fmt.Fprintln(os.Stderr, "lexers:", err)
		os.Exit(1)
	}
}

func run(to string) error {
	out, err := exec.Command("go", "list", "-m", "-f", "{{.Dir}}", "github.com/alecthomas/chroma/v2").Output()
	if err != nil {
		return fmt.Errorf("looking for chroma: %w", err)
	}
	data, err := Pack(strings.TrimSpace(string(out)))
	if err != nil {
		return err
	}
	return os.WriteFile(to, data, 0o644)
}

// endless is a definition by which cutting a text may never end, such as one of two words.
const endless = "jungle.xml"

// Pack packs the definitions of a copy of chroma: each file, and an index with a line for each: its priority, its name,
// what it is called, and what names of files it is for.
func Pack(chromaDir string) ([]byte, error) {
	files, err := filepath.Glob(filepath.Join(chromaDir, "lexers", "embedded", "*.xml"))
	if err != nil {
		return nil, err
	}
	slices.Sort(files)
	var packed bytes.Buffer
	z := zip.NewWriter(&packed)
	z.RegisterCompressor(zip.Deflate, func(w io.Writer) (io.WriteCloser, error) {
		return flate.NewWriter(w, flate.BestCompression)
	})
	add := func(name string, data []byte) error {
		w, err := z.Create(name)
		if err == nil {
			_, err = w.Write(data)
		}
		return err
	}
	var index strings.Builder
	for _, file := range append(files, filepath.Join(chromaDir, "COPYING")) {
		if filepath.Base(file) == endless {
			continue
		}
		data, err := os.ReadFile(file)
		if err != nil {
			return nil, err
		}
		if err := add(filepath.Base(file), data); err != nil {
			return nil, err
		}
		if filepath.Ext(file) != ".xml" {
			continue
		}
		var lexer struct {
			Config chroma.Config `xml:"config"`
		}
		if err := xml.Unmarshal(data, &lexer); err != nil {
			return nil, fmt.Errorf("%s: %w", file, err)
		}
		called := strings.Join(append([]string{lexer.Config.Name}, lexer.Config.Aliases...), ",")
		fmt.Fprintf(&index, "%v\t%s\t%s\t%s\n", lexer.Config.Priority, filepath.Base(file), strings.ToLower(called),
			strings.Join(lexer.Config.Filenames, "\t"))
	}
	if err := add("index", []byte(index.String())); err != nil {
		return nil, err
	}
	err = z.Close()
	return packed.Bytes(), err
}
