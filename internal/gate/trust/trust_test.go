package trust

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/machine/authority"
	_ "neighbour/internal/kinds/catalogue"
	"neighbour/internal/testkit"
)

// known returns an authority in a folder of its own.
func known(t *testing.T) Authority {
	own, err := authority.Open(t.TempDir())
	require.NoError(t, err)
	return Authority{Certificate: own.Certificate(), File: own.Path(), Name: own.Certificate().Subject.CommonName}
}

// On each system the steps put the authority on its list, and take it away again.
func TestLayoutsOfSystems(t *testing.T) {
	for _, system := range systems {
		t.Run(system.about, func(t *testing.T) {
			a, root := known(t), t.TempDir()
			folder, bundle := filepath.Join(root, system.folder), filepath.Join(root, system.bundle)
			require.NoError(t, os.MkdirAll(folder, 0o755))
			require.NoError(t, os.MkdirAll(filepath.Dir(bundle), 0o755))
			// As the system's own command: it makes the list of what is in the folder.
			command := filepath.Join(root, system.command[0])
			require.NoError(t, os.WriteFile(command, []byte("#!/bin/sh\ncat "+folder+"/* >"+bundle+" 2>/dev/null; true\n"), 0o755))
			m := Machine{Root: root, Home: t.TempDir(), Path: func(name string) (string, error) {
				if name == system.command[0] {
					return command, nil
				}
				return "", exec.ErrNotFound
			}}
			look := func() Store {
				all := m.Stores(context.Background(), a)
				require.Len(t, all, 1)
				return all[0]
			}
			s := look()
			assert.False(t, s.Trusted)
			assert.Equal(t, "write the certificate to "+filepath.Join(folder, a.fileName()), s.Add[0].String())
			run := func(_ context.Context, argv []string) error {
				if argv[0] == "sudo" {
					argv = argv[1:]
				}
				out, err := exec.Command(argv[0], argv[1:]...).CombinedOutput()
				if err != nil {
					return errors.New(string(out))
				}
				return nil
			}
			require.NoError(t, Do(context.Background(), a, s.Add, run))
			assert.True(t, look().Trusted)
			assert.False(t, look().Earlier)
			first := a
			a = known(t) // the user deleted the folder of the first
			assert.False(t, look().Trusted)
			assert.True(t, look().Earlier)
			require.NoError(t, Do(context.Background(), a, look().Add, run))
			assert.True(t, look().Trusted)
			assert.False(t, look().Earlier)
			assert.False(t, inBundle(bundle, first.Certificate))
			require.NoError(t, Do(context.Background(), a, look().Remove, run))
			assert.False(t, look().Trusted)
			entries, err := os.ReadDir(folder)
			require.NoError(t, err)
			assert.Empty(t, entries)
			err = Do(context.Background(), a, s.Add, func(context.Context, []string) error { return errors.New("no") })
			assert.ErrorContains(t, err, "install -m 644")
		})
	}
}

// Java's list is looked at by what certificates are, not by what they are called in it.
func TestJavaAliases(t *testing.T) {
	a, root := known(t), t.TempDir()
	place := filepath.Join(root, "usr/lib/jvm/java-17/lib/security/cacerts")
	require.NoError(t, os.MkdirAll(filepath.Dir(place), 0o755))
	require.NoError(t, os.WriteFile(place, nil, 0o644))
	sum := sha256.Sum256(a.Certificate.Raw)
	keytool := filepath.Join(root, "keytool")
	print := strings.ToUpper(strings.TrimSuffix(strings.ReplaceAll(fmt.Sprintf("% x ", sum), " ", ":"), ":"))
	list := "debian:other.pem, Nov 27, 2026, trustedCertEntry, \nCertificate fingerprint (SHA-256): 00:11\ndebian:ours.pem, 27.11.2026, trustedCertEntry, \nZertifikat-Fingerprint (SHA-256): " + print + "\n"
	require.NoError(t, os.WriteFile(keytool, []byte("#!/bin/sh\ncat <<'END'\n"+list+"END\n"), 0o755))
	m := Machine{Root: root, Home: root, Path: func(name string) (string, error) { return keytool, nil }}
	stores := m.java(t.Context(), a)
	require.Len(t, stores, 1)
	assert.True(t, stores[0].Trusted)
	require.Len(t, stores[0].Remove, 1)
	assert.Contains(t, stores[0].Remove[0].String(), "-delete -alias debian:ours.pem")
	require.NoError(t, os.WriteFile(keytool, []byte("#!/bin/sh\nexit 1\n"), 0o755))
	assert.False(t, m.java(t.Context(), a)[0].Trusted)
}

// Certificates that an authority of this user had before go, those of others stay.
func TestEarlierInJava(t *testing.T) {
	a, before, root := known(t), known(t), t.TempDir()
	place := filepath.Join(root, "usr/lib/jvm/java-17/lib/security/cacerts")
	require.NoError(t, os.MkdirAll(filepath.Dir(place), 0o755))
	require.NoError(t, os.WriteFile(place, nil, 0o644))
	keytool := filepath.Join(root, "keytool")
	require.NoError(t, os.WriteFile(keytool, []byte(`#!/bin/sh
case "$*" in
-list*) printf 'neighbour-00000000000a, Nov 27, 2026, trustedCertEntry, \nneighbour-00000000000b, Nov 27, 2026, trustedCertEntry, \n' ;;
*-rfc*0a*) cat `+before.File+` ;;
*) exit 1 ;;
esac
`), 0o755))
	m := Machine{Root: root, Home: root, Path: func(string) (string, error) { return keytool, nil }}
	stores := m.java(t.Context(), a)
	require.Len(t, stores, 1)
	assert.True(t, stores[0].Earlier)
	assert.False(t, stores[0].Trusted)
	require.Len(t, stores[0].Remove, 1)
	assert.Contains(t, stores[0].Remove[0].String(), "-delete -alias neighbour-00000000000a")
	require.Len(t, stores[0].Add, 2)
	assert.Contains(t, stores[0].Add[1].String(), "-importcert")
}

// The browsers' list is changed by its own program.
func TestBrowsers(t *testing.T) {
	testkit.Need(t, "certutil")
	certutil, err := exec.LookPath("certutil")
	require.NoError(t, err)
	a, home := known(t), t.TempDir()
	dir := filepath.Join(home, ".pki/nssdb")
	m := Machine{Root: t.TempDir(), Home: home, Path: func(name string) (string, error) {
		switch name {
		case "certutil":
			return certutil, nil
		case "chromium":
			return "/usr/bin/chromium", nil
		}
		return "", exec.ErrNotFound
	}}
	run := func(ctx context.Context, argv []string) error {
		out, err := exec.CommandContext(ctx, argv[0], argv[1:]...).CombinedOutput()
		if err != nil {
			return fmt.Errorf("%w: %s", err, out)
		}
		return nil
	}
	look := func() Store {
		all := m.browsers(t.Context(), a)
		require.Len(t, all, 1)
		return all[0]
	}
	require.NoError(t, Do(t.Context(), a, look().Add, run))
	assert.True(t, look().Trusted)
	a = known(t)
	assert.False(t, look().Trusted)
	assert.True(t, look().Earlier)
	require.NoError(t, run(t.Context(), []string{certutil, "-d", "sql:" + dir, "-A", "-t", "C,,", "-n", a.Name, "-i", a.File}))
	assert.True(t, look().Trusted, "both are on it")
	assert.True(t, look().Earlier)
	require.NoError(t, Do(t.Context(), a, look().Add, run))
	assert.True(t, look().Trusted)
	assert.False(t, look().Earlier)
	require.NoError(t, Do(t.Context(), a, look().Remove, run))
	assert.False(t, look().Trusted)
}

// What can't be looked at is said, with what would help; nothing is offered.
func TestStoresThatCannotBeChanged(t *testing.T) {
	a, root, home := known(t), t.TempDir(), t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(home, ".mozilla/firefox/x.default"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(home, ".mozilla/firefox/x.default/cert9.db"), nil, 0o600))
	require.NoError(t, os.MkdirAll(filepath.Join(root, "usr/lib/jvm/java-17/lib/security"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(root, "usr/lib/jvm/java-17/lib/security/cacerts"), nil, 0o644))
	m := Machine{Root: root, Home: home, Path: func(string) (string, error) { return "", exec.ErrNotFound }}
	var kinds []string
	for _, s := range m.Stores(context.Background(), a) {
		kinds = append(kinds, s.Kind)
		assert.NotEmpty(t, s.Problem, s.Place)
		assert.NotEmpty(t, s.Remedy, s.Place)
		assert.Empty(t, s.Add, s.Place)
	}
	assert.Equal(t, "system browsers java", strings.Join(kinds, " "))
}

// A user whose PATH has no folder of root's programs, as on Debian, can have the system trust
// the authority.
func TestProgramsOfRoot(t *testing.T) {
	system := systems[0]
	testkit.Need(t, system.command[0])
	t.Setenv("PATH", "/usr/local/bin:/usr/bin:/bin")
	for _, s := range Here().system(known(t)) {
		assert.Empty(t, s.Problem)
		assert.Contains(t, s.Add[1].String(), "/usr/sbin/"+system.command[0])
	}
}
