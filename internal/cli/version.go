package cli

import (
	"fmt"
	"runtime/debug"

	"github.com/spf13/cobra"

	"neighbour/internal/api"
	"neighbour/internal/cli/command"
)

// stamp is the version that the build gives, as git describes it.
var stamp string

// release returns the version of this program, and what it was built with.
func release() (version, built string) {
	version = stamp
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return version, ""
	}
	if v := info.Main.Version; version == "" && v != "" && v != "(devel)" {
		version = v
	}
	settings := map[string]string{}
	for _, s := range info.Settings {
		settings[s.Key] = s.Value
	}
	if revision := settings["vcs.revision"]; version == "" && len(revision) >= 7 {
		if version = revision[:7]; settings["vcs.modified"] == "true" {
			version += "-dirty"
		}
	}
	if version == "" {
		version = "development"
	}
	return version, info.GoVersion
}

func newVersion(a *command.App) *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use: "version", Short: "Print the version", Args: command.Takes(cobra.NoArgs), Example: "  neighbour version --json",
		RunE: func(*cobra.Command, []string) error {
			version, built := release()
			if asJSON {
				return a.JSON(struct {
					Version   string `json:"version"`
					Interface string `json:"interface"`
					Go        string `json:"go"`
				}{version, api.Version, built})
			}
			fmt.Fprintln(a.Out, versionLine())
			return nil
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print as JSON")
	return cmd
}

func versionLine() string {
	version, built := release()
	return fmt.Sprintf("neighbour %s (interface %s, %s)", version, api.Version, built)
}

// Commands returns the commands, for what describes them. They can't be carried out.
func Commands() *cobra.Command { return newRoot(&command.App{}) }
