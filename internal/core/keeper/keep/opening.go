package keep

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"time"

	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/machine/probe"
	"neighbour/internal/core/record/journal"
)

const (
	// openingTime is how long a first page may take: many programs build it when it is asked for.
	openingTime = 20 * time.Second
	// openingLines is how many lines of output are told with a page that failed.
	openingLines = 3
)

// openPage asks for the page of a service that has just become ready, once: that it answers its
// check says little of what people will see. What is wrong with the page is a warning.
func (k host) openPage(service string) {
	if k.project == nil || !k.project.HasPages(service) {
		return
	}
	unit := k.services[service]
	s := unit.Status()
	if s.Port == 0 {
		return
	}
	unit.Set(func(st *supervise.Status) { st.Opening = true })
	k.background.Go(func() {
		from := journal.Size(k.project.LogFile(service))
		problem := firstPage(k.ctx, s.Port)
		var lines []string
		if problem != "" {
			lines, _ = journal.Telling(k.project.LogDir(), service, from, openingLines)
			lines = lines[:min(len(lines), openingLines)]
		}
		unit.Set(func(st *supervise.Status) {
			st.Opening = false
			if problem == "" || st.PID != s.PID || !st.State.Running() {
				return
			}
			st.Warnings = append(slices.Clone(st.Warnings), problem)
			for _, l := range lines {
				st.Warnings = append(st.Warnings, "  "+k.project.Mask(l))
			}
		})
		if problem != "" {
			k.log.Info("page", "service", service, "problem", problem)
		}
	})
}

// firstPage asks for the page / on a port, and says what is wrong with the answer, "" for nothing.
// What is no HTTP is nobody's mistake.
func firstPage(ctx context.Context, port int) string {
	ctx, cancel := context.WithTimeout(ctx, openingTime)
	defer cancel()
	c := http.Client{Transport: &http.Transport{DisableKeepAlives: true}, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	var refused error
	for _, host := range []string{"127.0.0.1", "[::1]"} {
		r, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+host+":"+strconv.Itoa(port)+"/", nil)
		if err != nil {
			return ""
		}
		r.Host = "localhost:" + strconv.Itoa(port)
		r.Header.Set("User-Agent", "neighbour")
		r.Header.Set("Accept", "text/html, */*")
		resp, err := c.Do(r)
		if err != nil {
			refused = err
			continue
		}
		_, _ = io.Copy(io.Discard, io.LimitReader(resp.Body, 1<<20))
		resp.Body.Close()
		if resp.StatusCode >= http.StatusInternalServerError {
			return fmt.Sprintf("it is ready, and GET / is answered by %s", resp.Status)
		}
		return ""
	}
	if probe.Refused(refused) {
		return "it is ready, and GET / is refused on port " + strconv.Itoa(port)
	}
	return ""
}
