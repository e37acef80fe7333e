package main

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"neighbour/internal/core/project"
	emulator "neighbour/internal/emulator/objects"
)

// benchObjects measures the store of objects: how soon it is ready, what it takes when
// idle and while an object of 5 GB goes in and out, and how quickly it gives a public
// object of 1 MB beside nginx with the same file.
func benchObjects(dir string) error {
	text := "[service.photos]\nkind = \"objects\"\nbuckets = [\"tools\"]\npublic = [\"tools\"]\nfill = { tools = \"site\" }\n[service.site]\nkind = \"nginx\"\nroot = \"site\"\n"
	if err := os.MkdirAll(filepath.Join(dir, "site"), 0o755); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(dir, "site", "photo.bin"), bytes.Repeat([]byte("photo"), 1<<20/5), 0o644); err != nil {
		return err
	}
	if err := declare(dir, text); err != nil {
		return err
	}
	if err := readyAndIdle(dir, "photos", "objects"); err != nil {
		return err
	}
	s, err := statusOf(dir, "photos")
	if err != nil {
		return err
	}
	p, err := project.Open(dir)
	if err != nil {
		return err
	}
	photos, err := p.Facts("photos")
	if err != nil {
		return err
	}
	site, err := p.Facts("site")
	if err != nil {
		return err
	}
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 8}}
	get := func(url string) func() error {
		return func() error {
			answer, err := client.Get(url)
			if err != nil {
				return err
			}
			defer answer.Body.Close()
			n, err := io.Copy(io.Discard, answer.Body)
			if err == nil && (answer.StatusCode != 200 || n < 1<<20-5) {
				err = fmt.Errorf("%s: %s, %d bytes", url, answer.Status, n)
			}
			return err
		}
	}
	var rates []float64
	sides := ""
	for range 3 {
		theirs, err := rate(get(site["url"].Value + "/photo.bin"))
		if err != nil {
			return err
		}
		ours, err := rate(get(photos["tools.url"].Value + "/photo.bin"))
		if err != nil {
			return err
		}
		rates = append(rates, ours/theirs)
		sides = fmt.Sprintf("%.0f/s : %.0f/s", ours, theirs)
	}
	tell("objects/rate", "… a file of 1 MB, its rate to nginx's", atLeast(0.5, "×"), sides, rates...)

	c := &emulator.Client{Base: photos["url"].Value, Keys: emulator.Keys{Access: photos["access_key"].Value, Secret: photos["secret_key"].Value}, Region: photos["region"].Value, HTTP: client}
	const size = 5 << 30
	most := uint64(0)
	done := make(chan struct{})
	watched := make(chan struct{})
	go func() {
		defer close(watched)
		for {
			if n, err := residentOf(s.PID); err == nil {
				most = max(most, n)
			}
			select {
			case <-done:
				return
			case <-time.After(50 * time.Millisecond):
			}
		}
	}()
	began := time.Now()
	err = c.Put(context.Background(), "tools", "film.bin", "", io.LimitReader(zeros{}, size), size)
	in := time.Since(began)
	if err == nil {
		var body io.ReadCloser
		if body, err = c.Get(context.Background(), "tools", "film.bin", 0); err == nil {
			var n int64
			n, err = io.Copy(io.Discard, body)
			body.Close()
			if err == nil && n != size {
				err = fmt.Errorf("%d bytes came back", n)
			}
		}
	}
	close(done)
	<-watched
	tell("objects/memory", "… 5 GB in and out, the emulator at most", atMost(64, "MB"), fmt.Sprintf("%.1f s and %.1f s", in.Seconds(), (time.Since(began)-in).Seconds()), float64(most)/(1<<20))
	return err
}

// zeros reads zeros without an end.
type zeros struct{}

func (zeros) Read(b []byte) (int, error) {
	clear(b)
	return len(b), nil
}
