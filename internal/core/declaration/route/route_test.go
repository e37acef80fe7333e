package route

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestParse(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]Pattern{
		"toolshed.localhost":          {Host: "toolshed.localhost"},
		"*.Toolshed.localhost.":       {Host: "toolshed.localhost", Below: true},
		"toolshed.localhost/mail/":    {Host: "toolshed.localhost", Path: "/mail"},
		"*.shed.test/a/b":             {Host: "shed.test", Below: true, Path: "/a/b"},
		"geräteschuppen.test":         {Host: "xn--gerteschuppen-dfb.test"},
		"xn--gerteschuppen-dfb.test/": {Host: "xn--gerteschuppen-dfb.test"},
		"localhost":                   {Host: "localhost"},
	} {
		got, err := Parse(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
		again, err := Parse(got.String())
		require.NoError(t, err, text)
		assert.Equal(t, got, again)
	}
	for text, says := range map[string]string{
		"": "no name of a host", "a.*.test": "a star stands for", "*": "a star stands for", "*.": "no name of a host", "https://shed.test": "without a scheme", "shed.test:80": "without a scheme", "127.0.0.1": "an address and no name",
		"*.127.0.0.1": "an address", "a..b": "no name", ".a": "no name", "a b": "no name", "-a.test": "no name", "shed.test/a//b": "no path", "shed.test/../a": "no path", "shed.test/a?b": "no path", "shed.test/*": "no path", "user@shed.test": "no name",
		strings.Repeat("a.", 140) + "test": "no name",
	} {
		_, err := Parse(text)
		assert.ErrorContains(t, err, says, text)
	}
}

func TestHost(t *testing.T) {
	t.Parallel()
	for value, want := range map[string]string{
		"Shed.Localhost:8443": "shed.localhost", "shed.test.": "shed.test", "127.0.0.1:80": "127.0.0.1", "[::1]:443": "::1", "[::1]": "::1", "::1": "::1", "::ffff:127.0.0.1": "127.0.0.1", "GERÄTESCHUPPEN.test": "xn--gerteschuppen-dfb.test", "a_b.test": "a_b.test", "shed.test:": "shed.test",
		"": "", "shed.test:x": "", "shed.test:999999": "", "a:b:c": "", "[::1": "", "shed.test/x": "", "shed.test\r\nX: y": "", "a@shed.test": "", "..": "", strings.Repeat("ä", 1<<20): "", "*": "",
	} {
		got, err := Host(value)
		assert.Equal(t, want, got, value)
		assert.Equal(t, want == "", err != nil, value)
	}
}

// The longest match wins, a name before all that are below one.
func TestFind(t *testing.T) {
	t.Parallel()
	var table Table[string]
	for text, to := range map[string]string{
		"toolshed.localhost": "web", "*.toolshed.localhost": "tenants", "api.toolshed.localhost": "api", "toolshed.localhost/mail": "postbox", "toolshed.localhost/mail/admin": "admin", "*.toolshed.localhost/mail": "tenants' mail", "*.deep.toolshed.localhost": "deep", "only.test/a": "a",
	} {
		p, err := Parse(text)
		require.NoError(t, err)
		require.NoError(t, table.Add(p, to))
	}
	for request, want := range map[string]string{
		"toolshed.localhost/": "web", "toolshed.localhost/mailbox": "web", "toolshed.localhost/mail": "postbox", "toolshed.localhost/mail/": "postbox", "toolshed.localhost/mail/admin/x": "admin",
		"api.toolshed.localhost/mail": "api", "x.toolshed.localhost/": "tenants", "x.y.toolshed.localhost/mail/1": "tenants' mail", "x.deep.toolshed.localhost/mail": "deep", "deep.toolshed.localhost/": "tenants",
		"localhost/": "", "xtoolshed.localhost/": "", "toolshed.localhost.evil.test/": "", "only.test/b": "", "only.test/a": "a",
	} {
		host, path, _ := strings.Cut(request, "/")
		got, found := table.Find(host, "/"+path)
		assert.Equal(t, want, got.To, request)
		assert.Equal(t, want != "", found, request)
		assert.Equal(t, found || host == "only.test", table.Knows(host), request)
	}
	p, err := Parse("API.toolshed.localhost")
	require.NoError(t, err)
	err = table.Add(p, "other")
	var taken *TakenError[string]
	require.ErrorAs(t, err, &taken)
	assert.Equal(t, "api", taken.By)
	got, _ := table.Find("api.toolshed.localhost", "/")
	assert.Equal(t, "api", got.To, "the first keeps it")
	_, found := (&Table[int]{}).Find("a.b", "/")
	assert.False(t, found)
}

// The table finds what looking at each pattern finds.
func TestFindIsRight(t *testing.T) {
	t.Parallel()
	label := rapid.SampledFrom([]string{"a", "b", "ab", "test"})
	name := rapid.Custom(func(r *rapid.T) string { return strings.Join(rapid.SliceOfN(label, 1, 4).Draw(r, "labels"), ".") })
	path := rapid.Custom(func(r *rapid.T) string {
		return strings.TrimSuffix("/"+strings.Join(rapid.SliceOfN(label, 0, 3).Draw(r, "parts"), "/"), "/")
	})
	rapid.Check(t, func(r *rapid.T) {
		var table Table[int]
		var all []Pattern
		for i := range rapid.IntRange(0, 30).Draw(r, "patterns") {
			p := Pattern{Host: name.Draw(r, "host"), Below: rapid.Bool().Draw(r, "below"), Path: path.Draw(r, "path")}
			err := table.Add(p, i)
			require.Equal(r, slices.Contains(all, p), err != nil, fmt.Sprint(p))
			if err == nil {
				all = append(all, p)
			}
		}
		host, at := name.Draw(r, "name"), path.Draw(r, "at")+"/"
		var best *Pattern
		for i, p := range all {
			if p.has(host, at) && (best == nil || p.before(*best) < 0) {
				best = &all[i]
			}
		}
		got, found := table.Find(host, at)
		require.Equal(r, best != nil, found)
		if found {
			require.Equal(r, *best, got.Pattern)
		}
	})
}

func FuzzHost(f *testing.F) {
	for _, v := range []string{"shed.localhost:80", "[::1]:443", "xn--a", "ä.test", "a:1:2", "%00", "[fe80::1%25eth0]:80"} {
		f.Add(v)
	}
	f.Fuzz(func(t *testing.T, value string) {
		host, err := Host(value)
		if err != nil {
			return
		}
		again, err := Host(host)
		if err != nil || again != host {
			t.Errorf("%q is %q, which is %q: %v", value, host, again, err)
		}
		if strings.ContainsAny(host, "/\\?#@ \r\n\x00") || host != strings.ToLower(host) {
			t.Errorf("%q is %q", value, host)
		}
	})
}
