// Testreport reads the events of "go test -json" (go doc test2json) from
// standard input and reports them line by line as they come: each package as it
// ends, each failed test with its output, and at the end the slowest tests and
// what was skipped, by reason. It exits with 1 if anything failed.
package main

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"os"
	"regexp"
	"slices"
	"strings"
	"time"
)

func main() {
	if !report(os.Stdin, os.Stdout, time.Tick(30*time.Second)) {
		os.Exit(1)
	}
}

// event is one line of the input.
type event struct {
	Action, Package, ImportPath, Test, Output string
	Elapsed                                   float64 // seconds
}

// test is one test of a package; its name is "" for the package itself.
type test struct{ pkg, name string }

func (t test) String() string { return strings.TrimPrefix(t.pkg, "neighbour/internal/") + " " + t.name }

// shown is how many of the slowest tests are listed.
const shown = 10

// noise is what the testing package prints about the course of a test.
var noise = regexp.MustCompile(`^\s*(=== (RUN|PAUSE|CONT|NAME)|--- (PASS|SKIP|FAIL):|(PASS|FAIL)\s*$|exit status |(ok|FAIL|\?)\s+neighbour)`)

// reason is the place that stands before the text of a skip.
var reason = regexp.MustCompile(`^\s*\S+\.go:\d+: `)

// report reports what it reads, at each beat also how far it is, and returns
// whether everything passed.
func report(from io.Reader, to io.Writer, beat <-chan time.Time) bool {
	passed, ended, ran, began := true, 0, 0, time.Now()
	output := map[test][]string{}
	skipped := map[string][]string{} // by reason
	slow := map[test]float64{}
	input := make(chan string)
	failed := make(chan error, 1)
	go func() {
		lines := bufio.NewScanner(from)
		lines.Buffer(nil, 64<<20)
		for lines.Scan() {
			input <- lines.Text()
		}
		failed <- lines.Err()
		close(input)
	}()
	for {
		var line string
		more := true
		select {
		case line, more = <-input:
		case <-beat:
			fmt.Fprintf(to, "      after %s: %d tests in %d packages have ended\n", time.Since(began).Round(time.Second), ran, ended)
			continue
		}
		if !more {
			break
		}
		var e event
		if json.Unmarshal([]byte(line), &e) != nil || e.Action == "" {
			fmt.Fprintln(to, line) // of the go command itself
			continue
		}
		t := test{e.Package, e.Test}
		switch e.Action {
		case "output":
			if !noise.MatchString(e.Output) {
				output[t] = append(output[t], e.Output)
			}
			continue
		case "build-output":
			fmt.Fprint(to, e.Output)
			continue
		case "build-fail":
			passed = false
			continue
		case "pass", "fail", "skip":
		default:
			continue
		}
		text := strings.Join(output[t], "")
		delete(output, t)
		switch {
		case e.Action == "fail":
			passed = false
			fmt.Fprintf(to, "FAIL  %s  %.1f s\n%s", t, e.Elapsed, text)
		case t.name == "" && e.Action == "pass":
			ended++
			fmt.Fprintf(to, "ok    %s  %.1f s\n", strings.TrimSuffix(t.String(), " "), e.Elapsed)
			if strings.Contains(text, "DATA RACE") {
				fmt.Fprint(to, text)
			}
		case e.Action == "skip" && t.name != "":
			lines := strings.Split(strings.TrimSpace(text), "\n") // the last is the reason
			why := strings.TrimSpace(reason.ReplaceAllString(lines[len(lines)-1], ""))
			skipped[why] = append(skipped[why], t.String())
		}
		if t.name != "" && !strings.Contains(t.name, "/") {
			ran++
			slow[t] = e.Elapsed
		}
	}
	if err := <-failed; err != nil {
		fmt.Fprintln(to, "testreport:", err)
		passed = false
	}
	slowest := slices.SortedFunc(maps.Keys(slow), func(a, b test) int {
		switch {
		case slow[a] > slow[b]:
			return -1
		case slow[a] < slow[b]:
			return 1
		}
		return strings.Compare(a.String(), b.String())
	})
	fmt.Fprintf(to, "\n%d tests in %d packages; the slowest:\n", ran, ended)
	for _, t := range slowest[:min(shown, len(slowest))] {
		fmt.Fprintf(to, "  %6.1f s  %s\n", slow[t], t)
	}
	for _, why := range slices.Sorted(maps.Keys(skipped)) {
		fmt.Fprintf(to, "%d skipped: %s: %s\n", len(skipped[why]), why, strings.Join(skipped[why], ", "))
	}
	return passed
}
