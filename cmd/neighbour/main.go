// Neighbour starts what a web application depends on and watches it.
package main

import (
	"os"

	"neighbour/internal/cli"
)

func main() { os.Exit(cli.Run(os.Args[1:])) }
