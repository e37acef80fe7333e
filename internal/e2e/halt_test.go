package e2e

import (
	"context"
	"fmt"
	"net/smtp"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/aws/aws-sdk-go-v2/aws"
	"github.com/aws/aws-sdk-go-v2/credentials"
	"github.com/aws/aws-sdk-go-v2/service/s3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"
)

// halt has the system hold a process still, until release is called.
func halt(t *testing.T, pid int) (release func()) {
	require.NoError(t, syscall.Kill(pid, syscall.SIGSTOP))
	require.Eventually(t, func() bool {
		tasks, err := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/stat", pid))
		for _, task := range tasks {
			b, readErr := os.ReadFile(task)
			if _, state, _ := strings.Cut(string(b), ") "); readErr == nil && !strings.HasPrefix(state, "T") {
				return false
			}
		}
		return err == nil && len(tasks) > 0
	}, patience, time.Millisecond)
	return func() { require.NoError(t, syscall.Kill(pid, syscall.SIGCONT)) }
}

// An emulator's folder, copied while its process is held still in the midst of writes, is
// all that was answered until then: what a snapshot needs.
func TestCopiesOfHaltedEmulators(t *testing.T) {
	t.Parallel()
	const declaration = "[service.reviews]\nkind = \"documents\"\n[service.photos]\nkind = \"objects\"\nbuckets = [\"tools\"]\n[service.postbox]\nkind = \"mail\"\n"
	p, copied := newProject(t, declaration), newProject(t, declaration)
	p.must("start")
	copied.must("start")
	copied.must("stop")

	documents := func(p *project) *mongo.Collection {
		c, err := mongo.Connect(options.Client().ApplyURI(p.status().Service["reviews"].Facts["url"]))
		require.NoError(t, err)
		t.Cleanup(func() { _ = c.Disconnect(context.Background()) })
		return c.Database("toolshed").Collection("reviews")
	}
	objects := func(p *project) *s3.Client {
		facts := p.status().Service["photos"].Facts
		return s3.New(s3.Options{BaseEndpoint: aws.String(facts["url"]), Region: facts["region"], UsePathStyle: true, Credentials: credentials.NewStaticCredentialsProvider(facts["access_key"], facts["secret_key"], "")})
	}
	reviews, photos, postbox := documents(p), objects(p), strings.TrimPrefix(p.status().Service["postbox"].Facts["smtp_url"], "smtp://")
	text := func(n int64) string { return strings.Repeat(fmt.Sprint(n, " "), 2000) }
	writers := map[string]func(ctx context.Context, n int64) error{
		"reviews": func(ctx context.Context, n int64) error {
			_, err := reviews.InsertOne(ctx, bson.D{{Key: "_id", Value: n}, {Key: "text", Value: text(n)}})
			return err
		},
		"photos": func(ctx context.Context, n int64) error {
			_, err := photos.PutObject(ctx, &s3.PutObjectInput{Bucket: aws.String("tools"), Key: aws.String(fmt.Sprint(n)), Body: strings.NewReader(text(n))})
			return err
		},
		"postbox": func(_ context.Context, n int64) error {
			return smtp.SendMail(postbox, nil, "shed@example.org", []string{"ines@example.org"}, []byte(fmt.Sprintf("Subject: %d\r\n\r\n%s\r\n", n, text(n))))
		},
	}
	answered := map[string]*atomic.Int64{}
	ctx, cancel := context.WithCancel(t.Context())
	var writing sync.WaitGroup
	for name, write := range writers {
		answered[name] = &atomic.Int64{}
		writing.Go(func() {
			for n := int64(1); ctx.Err() == nil; n++ {
				if err := write(ctx, n); err != nil {
					if ctx.Err() == nil {
						t.Errorf("%s: %v", name, err)
					}
					return
				}
				answered[name].Store(n)
			}
		})
	}
	want := map[string]int64{}
	for name, n := range answered {
		require.Eventually(t, func() bool { return n.Load() >= 20 }, patience, time.Millisecond, name)
		release := halt(t, p.status().Service[name].PID)
		want[name] = n.Load()
		to := filepath.Join(copied.dir, ".neighbour/data", name)
		require.NoError(t, os.RemoveAll(to))
		require.NoError(t, os.CopyFS(to, os.DirFS(filepath.Join(p.dir, ".neighbour/data", name))))
		release()
		require.Eventually(t, func() bool { return n.Load() > want[name] }, patience, time.Millisecond, "it goes on")
	}
	cancel()
	writing.Wait()

	copied.must("start")
	var all []struct {
		ID   int64  `bson:"_id"`
		Text string `bson:"text"`
	}
	found, err := documents(copied).Find(t.Context(), bson.D{}, options.Find().SetSort(bson.D{{Key: "_id", Value: 1}}))
	require.NoError(t, err)
	require.NoError(t, found.All(t.Context(), &all))
	assert.GreaterOrEqual(t, int64(len(all)), want["reviews"])
	for i, d := range all {
		require.Equal(t, int64(i+1), d.ID)
		require.Equal(t, text(d.ID), d.Text)
	}
	for n := int64(1); n <= want["photos"]; n++ {
		out, err := objects(copied).HeadObject(t.Context(), &s3.HeadObjectInput{Bucket: aws.String("tools"), Key: aws.String(fmt.Sprint(n))})
		require.NoError(t, err, n)
		require.Equal(t, int64(len(text(n))), aws.ToInt64(out.ContentLength))
	}
	mails := strings.Count(copied.must("data", "postbox", "inbox", "--csv", "--limit", "100000"), "ines@example.org")
	assert.GreaterOrEqual(t, int64(mails), want["postbox"])
	t.Logf("answered until then: %v", want)
}
