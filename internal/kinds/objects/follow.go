package objects

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"neighbour/internal/core/kind"
	"neighbour/internal/core/record/outbox"
	emulator "neighbour/internal/emulator/objects"
)

// changes are the types of events.
var changes = []string{emulator.Put, emulator.Delete}

// Follow tells which objects of a bucket were put and deleted. What it watches is the bucket,
// and after a slash a pattern of keys: "photos/**/*.jpg".
func (Kind) Follow(ctx context.Context, in *kind.Instance, w kind.Watch, cursor string, emit kind.Emit) error {
	secret, err := in.Secret("secret_key")
	if err != nil {
		return err
	}
	c := &emulator.Client{Base: address(in), Keys: emulator.Keys{Access: access, Secret: secret}, Region: region, HTTP: &http.Client{}}
	defer c.HTTP.CloseIdleConnections()
	bucket, pattern, _ := strings.Cut(w.What, "/")
	after, told := int64(-1), false
	if cursor != "" {
		if after, err = strconv.ParseInt(cursor, 10, 64); err != nil {
			return fmt.Errorf("%w: %w", kind.ErrLost, err)
		}
	}
	for {
		all, next, err := c.Changes(ctx, after)
		if err != nil {
			return err
		}
		if next < after { // it was emptied
			after = 0
			continue
		}
		var events []outbox.Event
		for _, ch := range all {
			if ch.Bucket != bucket || !w.Wants(ch.Change) {
				continue
			}
			if pattern != "" && !doublestar.MatchUnvalidated(pattern, ch.Key) {
				continue
			}
			data, err := json.Marshal(ch)
			if err != nil {
				return err
			}
			events = append(events, outbox.Event{Source: fmt.Sprintf("%d %d", ch.ID, ch.At.UnixMilli()), Key: ch.Key, Type: ch.Change, Subject: bucket + "/" + ch.Key, At: ch.At, Data: data})
		}
		if len(events) > 0 || next != after || !told {
			told = true
			if err := emit(events, strconv.FormatInt(next, 10)); err != nil {
				return err
			}
		}
		after = next
	}
}
