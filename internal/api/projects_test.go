package api

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"neighbour/internal/core/keeper/supervise"
)

func TestListedInWords(t *testing.T) {
	at := func(ports ...int) *Listed {
		l := &Listed{}
		for _, n := range ports {
			l.Services = append(l.Services, ListedService{Port: n, State: supervise.Ready})
		}
		return l
	}
	for want, l := range map[string]*Listed{
		"":                                 at(0, 0),
		"5432":                             at(5432, 0, 5432),
		"80 · 81":                          at(81, 80),
		"4100–4103 · 5432":                 at(4103, 4100, 5432, 4101, 4102),
		"1025 · 4100–4102 · 65534 · 65535": at(65535, 65534, 4100, 4101, 4102, 1025),
	} {
		assert.Equal(t, want, l.Where())
	}
	now := time.Date(2026, 11, 27, 15, 4, 0, 0, time.Local)
	running := at(80)
	running.PID, running.Began = 812, now.Add(-2*time.Hour)
	assert.Equal(t, "since 13:04", running.When(now))
	running.Began = now.Add(-24 * time.Hour)
	assert.Equal(t, "since 26 Nov 15:04", running.When(now))
	for want, l := range map[string]Listed{
		"":                   {},
		"now":                {PID: 812, Began: now, Used: now.Add(-time.Second)},
		"71 days ago":        {Used: now.Add(-71 * 24 * time.Hour)},
		"its folder is gone": {Gone: true, Used: now},
	} {
		assert.Equal(t, want, l.When(now))
	}
}

// What matters of projects when they are seen together is said, and who runs in another's way.
func TestSurvey(t *testing.T) {
	service := func(port int, state supervise.State) []ListedService {
		return []ListedService{{Name: "web", Port: port, State: state}}
	}
	old := time.Now().Add(-71*24*time.Hour - time.Hour)
	got := survey([]Listed{
		{Name: "toolshed", Dir: "/a", PID: 1, Services: service(4177, supervise.Ready), Used: time.Now()},
		{Name: "toolshed", Dir: "/b", Services: service(4177, supervise.Stopped), Used: time.Now()},
		{Name: "orchard", Dir: "/c", PID: 2, Services: service(8080, supervise.Ailing), Used: time.Now()},
		{Name: "accounts", Dir: "/d", Services: service(5432, supervise.Stopped), Used: old, Disk: 3 << 30},
		{Name: "till", Dir: "/e", Services: service(0, supervise.Stopped), Used: old, Disk: -1},
		{Name: "garden", Dir: "/f", Gone: true},
	})
	assert.Equal(t, []string{"2 of 6 projects running", "toolshed and toolshed want 4177", "of garden the folder is gone",
		"accounts was not used for 71 days and holds 3.0 GB", "till was not used for 71 days"}, got.Says[:5])
	assert.Equal(t, []Clash{{4177, []string{"toolshed", "toolshed"}, []string{"/a", "/b"}}}, got.Clashes, "of one name, but two")
	assert.Empty(t, got.Projects[0].Rivals, "nobody else runs there")
	assert.Equal(t, []string{"/a"}, got.Projects[1].Rivals)
	assert.Empty(t, survey(nil).Projects)
}
