package kind_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/kind"
	"neighbour/internal/kinds/catalogue"
)

// Each package manager is asked in its own way, for its own names.
func TestInstallers(t *testing.T) {
	redis, postgres, odd := kind.Packages{Debian: "redis-server", Homebrew: "redis"}, kind.Packages{Debian: "postgresql", Homebrew: "postgresql"}, kind.Packages{Debian: "known-to-nobody"}
	for program, want := range map[string]string{
		"apt-get": "apt-get install --no-install-recommends -y redis-server postgresql known-to-nobody",
		"dnf":     "dnf install -y redis postgresql-server",
		"pacman":  "pacman -S --needed --noconfirm redis postgresql",
		"apk":     "apk add redis postgresql",
		"zypper":  "zypper install -y redis postgresql-server",
		"brew":    "brew install redis postgresql",
	} {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, program), []byte("#!/bin/sh\n"), 0o755))
		t.Setenv("PATH", dir)
		i := kind.NewInstall(true, redis, postgres, odd, redis)
		assert.Equal(t, want, strings.TrimPrefix(i.String(), "sudo "))
		assert.NotContains(t, kind.NewInstall(false, redis).Argv, "-y")
		assert.Equal(t, program == "apt-get", len(i.Serving) > 0, "which starts servers at once")
		assert.Equal(t, os.Getuid() != 0 && program != "brew", i.Argv[0] == "sudo")
	}
	t.Setenv("PATH", t.TempDir())
	assert.Empty(t, kind.NewInstall(true, redis).Argv)
}

// Whatever kind of server is missing has a package on each system that has it.
func TestServersHavePackages(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "dnf"), []byte("#!/bin/sh\n"), 0o755))
	t.Setenv("PATH", dir)
	for _, k := range catalogue.All {
		if p := k.Info().Packages; p.Debian != "" && p.Debian != "nats-server" && p.Debian != "mysql-server" {
			assert.NotEmpty(t, kind.InstallCommand(p), k.Info().Name)
		}
	}
}
