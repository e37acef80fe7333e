package command

import (
	"fmt"
	"os"

	"neighbour/internal/core/machine/hosts"
	"neighbour/internal/core/project"
)

// ClearHosts takes the lines of a project that has ended out of the hosts file, or says how.
func (a *App) ClearHosts(p *project.Project) {
	b, err := os.ReadFile(hosts.File)
	if err != nil || len(hosts.Names(string(b), p.Name)) == 0 {
		return
	}
	if _, err := hosts.Write(hosts.File, p.Name, nil); err != nil {
		fmt.Fprintf(a.Err, "%s still has lines of %s; take them out: neighbour gate hosts --remove\n", hosts.File, p.Name)
	}
}
