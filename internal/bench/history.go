package main

import (
	"context"
	"fmt"
	"os/exec"
	"path/filepath"
	"time"

	"neighbour/internal/core/machine/proc"
	"neighbour/internal/core/record/history"
	"neighbour/internal/core/record/starts"
)

// benchHistory measures what is done beside the services' own work: writing the
// record of a start of 300 services, and measuring what 30 services use.
func benchHistory(dir string) error {
	ctx := context.Background()
	db := history.New(filepath.Join(dir, "history.db"), nil)
	defer db.Close()
	s := &starts.Start{Began: time.Now(), Took: 700, Result: starts.Ready}
	declared := map[string]string{}
	for i := range 300 {
		name := fmt.Sprintf("s%03d", i)
		s.Services = append(s.Services, starts.Service{Name: name, Kind: "program", Result: starts.Ready,
			Phases: []starts.Phase{{Is: starts.Waiting, To: 100, What: "for the one before"}, {Is: starts.Starting, From: 100, To: 700}}})
		for _, key := range []string{"run", "needs", "health"} {
			declared[name+"."+key] = "0123456789abcdef0123456789abcdef"
		}
	}
	var saving []time.Duration
	for range 3 * *runs {
		one := *s
		began := time.Now()
		if _, err := db.Declared(ctx, declared); err != nil {
			return err
		}
		if err := db.Save(ctx, &one); err != nil {
			return err
		}
		saving = append(saving, time.Since(began))
	}
	tell("history/save", "recording a start of 300 services, of which 21 ms are 3 %", atMost(21, "ms"), "", inMS(saving...)...)

	const services, period = 30, 10 * time.Second
	var all []proc.ID
	for range services {
		cmd := exec.Command("sleep", "1000")
		if err := cmd.Start(); err != nil {
			return err
		}
		defer func() {
			_ = cmd.Process.Kill()
			_ = cmd.Wait()
		}()
		id, err := proc.Identify(cmd.Process.Pid)
		if err != nil {
			return err
		}
		all = append(all, id)
	}
	var sampling []time.Duration
	for range 3 * *runs {
		began := time.Now()
		table, err := proc.ReadTable()
		if err != nil {
			return err
		}
		for _, id := range all {
			ids := table.Belonging(id)
			table.MeasureShared(ids)
			table.Usage(ids)
			proc.CountersOf(ids)
		}
		sampling = append(sampling, time.Since(began))
	}
	var share []float64
	for _, took := range sampling {
		share = append(share, 100*took.Seconds()/period.Seconds())
	}
	tell("history/sample", fmt.Sprintf("measuring what %d services use, each %s, of a core", services, period), atMost(0.3, "%"), "", share...)
	return nil
}
