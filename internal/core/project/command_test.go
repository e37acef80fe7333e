package project

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Whatever the arguments are, a command gets them as they are: a list of words,
// a line that a real shell runs, and a line that uses them itself.
func TestArgumentsArePassedAsTheyAre(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		args := rapid.SliceOfN(rapid.StringOf(rapid.RuneFrom([]rune("ab \t\n'\"\\$`*?!#;&|<>()[]{}~=-%é"))), 0, 4).Draw(r, "args")
		want := ""
		for _, a := range args {
			want += "<" + a + ">"
		}
		for _, c := range []struct {
			argv  []string
			shell bool
		}{
			{[]string{"/bin/sh", "-c", `for a; do printf '<%s>' "$a"; done`, "x"}, false},
			{[]string{"/bin/sh", "-c", `f() { for a; do printf '<%s>' "$a"; done; }; f  `}, true},
			{[]string{"/bin/sh", "-c", `for a in "$@"; do printf '<%s>' "$a"; done; true`}, true},
		} {
			argv := withArguments(c.argv, c.shell, args)
			out, err := exec.Command(argv[0], argv[1:]...).CombinedOutput()
			require.NoError(r, err, strings.Join(argv, " "))
			assert.Equal(r, want, string(out), "%q", argv)
		}
	})
}
