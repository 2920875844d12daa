package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/words"
)

// plugs are the settings that plug Dorvik into git: what each is for, and its value.
var plugs = []struct{ what, key, value string }{
	{"“git recover” opens Dorvik, and “git push || git recover” does where a push is refused", "alias.recover",
		"!dorvik"},
	{"“git mergetool --tool=dorvik” settles conflicts in Settle", "mergetool.dorvik.cmd",
		`dorvik settle --mergetool --name "$MERGED" "$BASE" "$LOCAL" "$REMOTE" "$MERGED"`},
	{"and says whether all are settled", "mergetool.dorvik.trustExitCode", "true"},
	{"“*.go merge=dorvik” in .gitattributes has git join what is certain", "merge.dorvik.name",
		"Dorvik joins what is certain, and leaves the rest"},
	{"by this command", "merge.dorvik.driver",
		"dorvik settle --certain --name %P --marker-size %L %O %A %B %A"},
}

// plugged is what became of a setting.
type plugged struct {
	Key   string `json:"key"`
	Value string `json:"value"`
	State string `json:"state"` // written, there, removed, missing, or other: another value is there, and stays
	Was   string `json:"was,omitempty"`
}

type setupJSON struct {
	Version  int       `json:"version"`
	Result   string    `json:"result"` // set or removed
	Settings []plugged `json:"settings"`
}

// setupCommand plugs Dorvik into git.
func setupCommand(e *env) *cobra.Command {
	cmd := &cobra.Command{Use: "setup", Args: noArgs,
		Short: "Plug Dorvik into git: an alias, a mergetool, a merge driver",
		Long: `Writes settings of your own (git config --global), and shows each. What is set to
something else already stays as it is. --remove takes out what it wrote, and nothing else.`}
	var remove bool
	cmd.Flags().BoolVar(&remove, "remove", false, "take the settings out")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		out := setupJSON{Version: 1, Result: words.If(remove, "removed", "set")}
		for _, p := range plugs {
			one, err := plug(cmd.Context(), p.key, p.value, remove)
			if err != nil {
				return err
			}
			out.Settings = append(out.Settings, one)
			e.say("%-9s git config --global %s '%s'", one.State, p.key, p.value)
			if one.State == "other" {
				e.say("          stays as you have it: %s", one.Was)
			}
			e.say("          %s", p.what)
		}
		if e.json {
			return e.print(out)
		}
		return nil
	}
	return answering(e, e.jsonFlag(cmd))
}

// plug writes a setting or takes it out, unless it has another value.
func plug(ctx context.Context, key, value string, remove bool) (plugged, error) {
	out := plugged{Key: key, Value: value}
	settings := recovery.GitSettings()
	was, set, err := settings.Get(ctx, key)
	if err != nil {
		return out, fmt.Errorf("reading %s: %w", key, err)
	}
	switch {
	case set && was != value:
		out.State, out.Was = "other", was
	case remove && !set:
		out.State = "missing"
	case remove:
		out.State, err = "removed", settings.Unset(ctx, key)
	case set:
		out.State = "there"
	default:
		out.State, err = "written", settings.Set(ctx, key, value)
	}
	if err != nil {
		return out, fmt.Errorf("setting %s: %w", key, err)
	}
	return out, nil
}
