package misbehave

import (
	"context"
	"net/http"
	"time"
)

// Wait waits for a time, or until the context ends.
func Wait(ctx context.Context, d time.Duration) {
	if d <= 0 {
		return
	}
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-timer.C:
	case <-ctx.Done():
	}
}

// CutOff returns a writer that cuts the connection in the midst of the answer.
func CutOff(w http.ResponseWriter) http.ResponseWriter { return &cutter{w} }

type cutter struct{ http.ResponseWriter }

func (c *cutter) Write(b []byte) (int, error) {
	_, _ = c.ResponseWriter.Write(b[:len(b)/2])
	_ = http.NewResponseController(c.ResponseWriter).Flush()
	panic(http.ErrAbortHandler)
}
