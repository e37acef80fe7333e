package cli

import (
	"fmt"
	"os"
	"runtime/debug"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"neighbour/internal/api"
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

func (a *app) version() *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use: "version", Short: "Print the version", Args: takes(cobra.NoArgs), Example: "  neighbour version --json",
		RunE: func(*cobra.Command, []string) error {
			version, built := release()
			if asJSON {
				return a.json(struct {
					Version   string `json:"version"`
					Interface string `json:"interface"`
					Go        string `json:"go"`
				}{version, api.Version, built})
			}
			fmt.Fprintln(a.out, versionLine())
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

// manual writes the manual's pages, for make install.
func (a *app) manual() *cobra.Command {
	return &cobra.Command{
		Use: "manual DIR", Hidden: true, Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := os.MkdirAll(args[0], 0o755); err != nil {
				return err
			}
			root := cmd.Root()
			root.DisableAutoGenTag = true
			version, _ := release()
			return doc.GenManTree(root, &doc.GenManHeader{Title: "NEIGHBOUR", Section: "1", Source: "Neighbour " + version, Manual: "Neighbour"}, args[0])
		},
	}
}
