// Package login has a project start when its user logs in: by a unit of systemd's user manager, or
// on macOS by an agent of launchd.
package login

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/xml"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"

	"neighbour/internal/core/machine/atomicfile"
	"neighbour/internal/core/machine/lazyregexp"
)

// Entry is the file that has a project start at login.
type Entry struct {
	Path string // of the file
	Text string // what it is to hold
	// Link is the link that makes it count, "" if there is none to make.
	Link string
	name string
}

var notInNames = lazyregexp.New(`[^a-z0-9-]+`)

// Of returns the entry of the project in a folder, which this program starts. Env are the variables
// that it is started with, NAME=value.
func Of(name, dir, program string, env ...string) (Entry, error) {
	return of(runtime.GOOS, name, dir, program, env)
}

func of(system, name, dir, program string, env []string) (Entry, error) {
	sum := sha256.Sum256([]byte(dir))
	// By the folder alone: the name may change.
	id := "neighbour-" + strings.Trim(notInNames.ReplaceAllString(strings.ToLower(filepath.Base(dir)), "-"), "-") + "-" + hex.EncodeToString(sum[:4])
	for _, text := range append([]string{dir, program}, env...) {
		if strings.ContainsAny(text, "\n\r\x00") {
			return Entry{}, fmt.Errorf("%q has a line break in it, which no file for the login can have", text)
		}
	}
	if system == "darwin" {
		home, err := os.UserHomeDir()
		if err != nil {
			return Entry{}, err
		}
		e := Entry{Path: filepath.Join(home, "Library", "LaunchAgents", id+".plist"), name: id}
		e.Text = agent(id, dir, program, env)
		return e, nil
	}
	config, err := os.UserConfigDir()
	if err != nil {
		return Entry{}, err
	}
	units := filepath.Join(config, "systemd", "user")
	e := Entry{Path: filepath.Join(units, id+".service"), Link: filepath.Join(units, "default.target.wants", id+".service"), name: id + ".service"}
	e.Text = unit(name, dir, program, env)
	return e, nil
}

// unit returns a unit for systemd (systemd.service(5)). The keeper stays within it, and a stop of
// the unit, as at the end of the session, stops the project in its order.
func unit(name, dir, program string, env []string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "# Made by neighbour login on; neighbour login off takes it away.\n[Unit]\nDescription=The services of %s\n\n[Service]\nType=oneshot\nRemainAfterExit=yes\n", strings.ReplaceAll(name, "%", "%%"))
	for _, v := range env {
		fmt.Fprintf(&b, "Environment=%s\n", word(v))
	}
	fmt.Fprintf(&b, "ExecStart=%s -C %s start\nExecStop=%[1]s -C %[2]s stop\n\n[Install]\nWantedBy=default.target\n", word(program), word(dir))
	return b.String()
}

// word quotes a word of a unit (systemd.syntax(7), "Quoting"; systemd.unit(5), "Specifiers").
func word(text string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "%", "%%", "$", "$$").Replace(text) + `"`
}

// agent returns an agent for launchd (launchd.plist(5)). What it has started goes on when it has
// ended.
func agent(id, dir, program string, env []string) string {
	text := func(s string) string {
		var b bytes.Buffer
		_ = xml.EscapeText(&b, []byte(s)) // a buffer takes all
		return "<string>" + b.String() + "</string>"
	}
	var b strings.Builder
	b.WriteString("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<!DOCTYPE plist PUBLIC \"-//Apple//DTD PLIST 1.0//EN\" \"http://www.apple.com/DTDs/PropertyList-1.0.dtd\">\n<!-- Made by neighbour login on; neighbour login off takes it away. -->\n<plist version=\"1.0\">\n<dict>\n")
	fmt.Fprintf(&b, "\t<key>Label</key>%s\n\t<key>ProgramArguments</key>\n\t<array>\n", text(id))
	for _, arg := range []string{program, "-C", dir, "start"} {
		fmt.Fprintf(&b, "\t\t%s\n", text(arg))
	}
	b.WriteString("\t</array>\n\t<key>EnvironmentVariables</key>\n\t<dict>\n")
	for _, v := range env {
		name, value, _ := strings.Cut(v, "=")
		fmt.Fprintf(&b, "\t\t<key>%s</key>%s\n", name, text(value))
	}
	b.WriteString("\t</dict>\n\t<key>RunAtLoad</key><true/>\n\t<key>AbandonProcessGroup</key><true/>\n</dict>\n</plist>\n")
	return b.String()
}

// On reports whether the project starts at login.
func (e Entry) On() bool {
	_, err := os.Stat(e.Path)
	if err == nil && e.Link != "" {
		_, err = os.Stat(e.Link)
	}
	return err == nil
}

// Current reports whether the file holds what it is to.
func (e Entry) Current() bool {
	b, err := os.ReadFile(e.Path)
	return err == nil && string(b) == e.Text
}

// Write makes the entry count from the next login on.
func (e Entry) Write() error {
	if err := os.MkdirAll(filepath.Dir(e.Path), 0o755); err != nil {
		return err
	}
	if err := atomicfile.Write(e.Path, []byte(e.Text), 0o644); err != nil {
		return err
	}
	if e.Link == "" {
		return nil
	}
	if err := os.MkdirAll(filepath.Dir(e.Link), 0o755); err != nil {
		return err
	}
	if err := os.Symlink(e.Path, e.Link); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return nil
}

// Remove takes the entry away. Folders that are empty then go with it.
func (e Entry) Remove() error {
	for _, path := range []string{e.Link, e.Path} {
		if path == "" {
			continue
		}
		if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	if e.Link != "" {
		for dir, n := filepath.Dir(e.Link), 0; n < 3 && os.Remove(dir) == nil; n++ { // up to systemd's own
			dir = filepath.Dir(dir)
		}
	}
	return nil
}

// Tell has the one who reads entries read them anew, if he runs here. Running says whether he does.
func (e Entry) Tell(ctx context.Context) (running bool) {
	if e.Link == "" {
		return true // launchd reads them at login
	}
	return exec.CommandContext(ctx, "systemctl", "--user", "daemon-reload").Run() == nil
}
