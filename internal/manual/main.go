// Manual writes the manual's pages, one for each command, into a folder: go run ./internal/manual DIR.
package main

import (
	"fmt"
	"os"

	"github.com/spf13/cobra/doc"

	"neighbour/internal/cli"
	_ "neighbour/internal/kinds/catalogue" // the kinds that there are
)

func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "usage: manual DIR")
		os.Exit(2)
	}
	if err := write(os.Args[1]); err != nil {
		fmt.Fprintln(os.Stderr, "manual:", err)
		os.Exit(1)
	}
}

func write(dir string) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	root := cli.Commands()
	root.DisableAutoGenTag = true
	return doc.GenManTree(root, &doc.GenManHeader{Title: "NEIGHBOUR", Section: "1", Source: root.Version, Manual: "Neighbour"}, dir)
}
