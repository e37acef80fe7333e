package kind

import (
	"fmt"
	"os"
	"path/filepath"

	"neighbour/internal/core/declare"
)

// What web servers have in common.

// WebServiceKeys are the keys of a web server that name a service, with the
// kind that it must be of.
var WebServiceKeys = map[string]string{"php": "php", "proxy": ""}

// CheckWeb reports a web server with nothing to serve, or with too much.
func CheckWeb(root string, php, proxy declare.ServiceName, report func(key, message, remedy string)) {
	switch {
	case root == "" && proxy.Name == "":
		report("root", "there is nothing to serve", `add root = "public", or proxy = "${api}"`)
	case php.Name != "" && root == "":
		report("root", "PHP needs the folder that its files are in", `add root = "public"`)
	case php.Name != "" && proxy.Name != "":
		report("proxy", "php and proxy both want what no file answers", "keep one of them")
	}
}

// WebRoot is the web root as an absolute path, "" if there is none.
func WebRoot(in *Instance, root string) string {
	if root == "" || filepath.IsAbs(root) {
		return root
	}
	return filepath.Join(in.Root, root)
}

// CheckWebRoot makes sure that a declared web root is there.
func CheckWebRoot(in *Instance, root string) error {
	if root == "" {
		return nil
	}
	if info, err := os.Stat(WebRoot(in, root)); err != nil || !info.IsDir() {
		return fmt.Errorf("its web root %s doesn't exist; create it, or correct root = %q", WebRoot(in, root), root)
	}
	return nil
}

// WebAddress is host:port of a service that a web server passes requests to;
// "" if it names none.
func WebAddress(in *Instance, service string) (string, error) {
	if service == "" {
		return "", nil
	}
	facts, err := in.FactsOf(service)
	if err != nil {
		return "", err
	}
	return facts["host"].Value + ":" + facts["port"].Value, nil
}
