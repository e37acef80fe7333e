package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"neighbour/internal/api"
	"neighbour/internal/core/project"
)

// benchProjects measures how long a keeper takes to tell of 200 projects of five services each, of
// which five run, and how much of the processor that costs while it is watched.
func benchProjects(dir string) error {
	const projects, running = 200, 5
	if err := exec.Command("git", "init", "-q", dir).Run(); err != nil {
		return err
	}
	text := ""
	for _, name := range []string{"ledger", "shelf", "api", "web", "worker"} {
		text += fmt.Sprintf("[service.%s]\nrun = \"sleep 1000\"\nhealth = { run = \"true\" }\nenv.A = \"b\"\n", name)
	}
	for i := range projects {
		one := filepath.Join(dir, fmt.Sprintf("shed%03d", i))
		if err := os.Mkdir(one, 0o755); err != nil {
			return err
		}
		if err := declare(one, text); err != nil {
			return err
		}
		p, err := project.Open(one)
		if err == nil {
			err = p.EnsureDirs()
		}
		if err != nil {
			return err
		}
		if i < running {
			if _, err := neighbour(one, "start"); err != nil {
				return err
			}
			defer func() { _, _ = neighbour(one, "stop") }()
		}
	}
	p, err := project.Open(filepath.Join(dir, "shed000"))
	if err != nil {
		return err
	}
	c, err := api.Connect(context.Background(), p)
	if err != nil {
		return err
	}
	defer c.Close()
	var first time.Duration
	var all []time.Duration
	for i := range max(5, *runs) + 1 {
		began := time.Now()
		list, err := c.Projects(context.Background())
		if err != nil {
			return err
		}
		if len(list.Projects) != projects {
			return fmt.Errorf("%d projects are listed, not %d", len(list.Projects), projects)
		}
		if i == 0 {
			first = time.Since(began)
			continue
		}
		all = append(all, time.Since(began))
	}
	tell("projects", fmt.Sprintf("%d projects, %d of which run, listed by a keeper", projects, running), atMost(100, "ms"), "the first time: "+ms(first), inMS(all...)...)
	return nil
}
