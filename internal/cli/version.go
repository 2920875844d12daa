package cli

import (
	"fmt"
	"runtime/debug"

	"github.com/spf13/cobra"
)

type versionJSON struct {
	Version  int    `json:"version"` // version of the JSON
	Dorvik   string `json:"dorvik"`
	Revision string `json:"revision"` // the commit it was built from; empty if unknown
	Go       string `json:"go"`
}

func versionCommand(e *env) *cobra.Command {
	cmd := &cobra.Command{Use: "version", Short: "Say which Dorvik this is", Args: noArgs}
	cmd.RunE = func(*cobra.Command, []string) error {
		v := built()
		if e.json {
			return e.print(v)
		}
		_, err := fmt.Fprintf(e.out, "dorvik %s%s, %s\n", v.Dorvik, bracketed(v.Revision), v.Go)
		return err
	}
	return e.jsonFlag(cmd)
}

// built returns the build information of the program.
func built() versionJSON {
	v := versionJSON{Version: 1, Dorvik: "(unknown)"}
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return v
	}
	v.Dorvik, v.Go = info.Main.Version, info.GoVersion
	for _, s := range info.Settings {
		switch {
		case s.Key == "vcs.revision":
			v.Revision = s.Value
		case s.Key == "vcs.modified" && s.Value == "true":
			v.Revision += ", changed since"
		}
	}
	return v
}

func bracketed(s string) string {
	if s == "" {
		return ""
	}
	return " (" + s + ")"
}
