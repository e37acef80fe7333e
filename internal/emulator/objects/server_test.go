package objects_test

import (
	"bytes"
	"context"
	"crypto/md5"
	"errors"
	"fmt"
	"io"
	"log"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/aws/aws-sdk-go-v2/aws"
	"github.com/aws/aws-sdk-go-v2/credentials"
	"github.com/aws/aws-sdk-go-v2/service/s3"
	"github.com/aws/aws-sdk-go-v2/service/s3/types"
	"github.com/aws/smithy-go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/kind/misbehave"
	"neighbour/internal/emulator/objects"
)

var keys = objects.Keys{Access: "KEY", Secret: "secret/+="}

// serve begins a server of a folder, and returns its address.
func serve(t testing.TB, dir string, rules *misbehave.Follower) string {
	store, err := objects.OpenStore(dir)
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	s := &objects.Server{Store: store, Log: log.New(io.Discard, "", 0), Keys: keys, Region: "local", Misbehave: rules}
	go func() { done <- s.Serve(ctx, l) }()
	t.Cleanup(func() {
		cancel()
		assert.NoError(t, <-done)
		assert.NoError(t, store.Close())
	})
	return "http://" + l.Addr().String()
}

func connect(address string, change ...func(*s3.Options)) *s3.Client {
	return s3.New(s3.Options{BaseEndpoint: &address, Region: "local", UsePathStyle: true, Credentials: credentials.NewStaticCredentialsProvider(keys.Access, keys.Secret, ""), RetryMaxAttempts: 1}, change...)
}

func code(err error) string {
	var e smithy.APIError
	if errors.As(err, &e) {
		return e.ErrorCode()
	}
	return fmt.Sprint(err)
}

func put(t testing.TB, c *s3.Client, key, text string) *s3.PutObjectOutput {
	out, err := c.PutObject(t.Context(), &s3.PutObjectInput{Bucket: aws.String("photos"), Key: &key, Body: strings.NewReader(text)})
	require.NoError(t, err, key)
	return out
}

func get(t testing.TB, c *s3.Client, key string) string {
	out, err := c.GetObject(t.Context(), &s3.GetObjectInput{Bucket: aws.String("photos"), Key: &key})
	require.NoError(t, err, key)
	b, err := io.ReadAll(out.Body)
	require.NoError(t, err)
	return string(b)
}

func bucket(t testing.TB, c *s3.Client) {
	_, err := c.CreateBucket(t.Context(), &s3.CreateBucketInput{Bucket: aws.String("photos")})
	require.NoError(t, err)
}

// Whatever bytes a key has, its object comes back, and lies in the folder of its bucket.
func TestKeys(t *testing.T) {
	dir := t.TempDir()
	c := connect(serve(t, dir, nil))
	bucket(t, c)
	all := []string{"drill.jpg", "a", "a/b", "a/b/c", "x/y", "x", "../../outside", "..", ".", "a/../b", "/lead", "end/", "end//", "deep//er", "sp ace+plus%25", "ümläut/日本", "q?a=b&c#d", ".neighbour/objects.db", "%", "a%", "con:\\", "new\nline", strings.Repeat("k", 1024), strings.Repeat("long/", 200) + "x", "~-_.!*'()"}
	for i, key := range all {
		put(t, c, key, fmt.Sprintf("%d of %q", i, key))
	}
	for i, key := range all {
		assert.Equal(t, fmt.Sprintf("%d of %q", i, key), get(t, c, key))
	}
	listed, err := c.ListObjectsV2(t.Context(), &s3.ListObjectsV2Input{Bucket: aws.String("photos")})
	require.NoError(t, err)
	assert.Len(t, listed.Contents, len(all))
	b, err := os.ReadFile(filepath.Join(dir, "photos", "drill.jpg"))
	require.NoError(t, err)
	assert.Equal(t, `0 of "drill.jpg"`, string(b), "as a file under its name")
	beside, err := os.ReadDir(filepath.Dir(dir))
	require.NoError(t, err)
	assert.Len(t, beside, 1, "nothing is written outside of the folder")
	for _, key := range all {
		_, err := c.DeleteObject(t.Context(), &s3.DeleteObjectInput{Bucket: aws.String("photos"), Key: &key})
		require.NoError(t, err)
	}
	left, err := os.ReadDir(filepath.Join(dir, "photos"))
	require.NoError(t, err)
	assert.Empty(t, left)
	_, err = c.PutObject(t.Context(), &s3.PutObjectInput{Bucket: aws.String("photos"), Key: aws.String("nul\x00"), Body: strings.NewReader("x")})
	assert.Equal(t, "InvalidArgument", code(err))
	_, err = c.PutObject(t.Context(), &s3.PutObjectInput{Bucket: aws.String("photos"), Key: aws.String(strings.Repeat("k", 1025)), Body: strings.NewReader("x")})
	assert.Equal(t, "KeyTooLongError", code(err))
}

func TestObjects(t *testing.T) {
	c := connect(serve(t, t.TempDir(), nil))
	ctx := t.Context()
	photos := aws.String("photos")
	_, err := c.HeadBucket(ctx, &s3.HeadBucketInput{Bucket: photos})
	assert.Error(t, err)
	bucket(t, c)
	_, err = c.CreateBucket(ctx, &s3.CreateBucketInput{Bucket: photos})
	assert.Equal(t, "BucketAlreadyOwnedByYou", code(err))
	_, err = c.CreateBucket(ctx, &s3.CreateBucketInput{Bucket: aws.String("Bad_Name")})
	assert.Equal(t, "InvalidBucketName", code(err))
	made, err := c.PutObject(ctx, &s3.PutObjectInput{Bucket: photos, Key: aws.String("drill"), Body: strings.NewReader("hello"), ContentType: aws.String("text/plain"), CacheControl: aws.String("max-age=9"),
		Metadata: map[string]string{"by": "Ines"}, Tagging: aws.String("a=1&b=x%20y")})
	require.NoError(t, err)
	assert.Equal(t, `"5d41402abc4b2a76b9719d911017c592"`, *made.ETag)
	head, err := c.HeadObject(ctx, &s3.HeadObjectInput{Bucket: photos, Key: aws.String("drill")})
	require.NoError(t, err)
	assert.Equal(t, "text/plain max-age=9 5 Ines", fmt.Sprint(*head.ContentType, " ", *head.CacheControl, " ", *head.ContentLength, " ", head.Metadata["by"]))
	tags, err := c.GetObjectTagging(ctx, &s3.GetObjectTaggingInput{Bucket: photos, Key: aws.String("drill")})
	require.NoError(t, err)
	assert.Len(t, tags.TagSet, 2)
	for text, want := range map[string]string{"bytes=1-3": "ell", "bytes=-2": "lo", "bytes=3-99": "lo", "bytes=9-": "InvalidRange"} {
		out, err := c.GetObject(ctx, &s3.GetObjectInput{Bucket: photos, Key: aws.String("drill"), Range: &text})
		if err != nil {
			assert.Equal(t, want, code(err))
			continue
		}
		b, _ := io.ReadAll(out.Body)
		assert.Equal(t, want, string(b), text)
	}
	_, err = c.GetObject(ctx, &s3.GetObjectInput{Bucket: photos, Key: aws.String("drill"), IfMatch: aws.String(`"other"`)})
	assert.Equal(t, "PreconditionFailed", code(err))
	_, err = c.GetObject(ctx, &s3.GetObjectInput{Bucket: photos, Key: aws.String("drill"), IfNoneMatch: made.ETag})
	assert.Contains(t, fmt.Sprint(err), "304")
	_, err = c.PutObject(ctx, &s3.PutObjectInput{Bucket: photos, Key: aws.String("drill"), Body: strings.NewReader("x"), IfNoneMatch: aws.String("*")})
	assert.Equal(t, "PreconditionFailed", code(err))
	_, err = c.CopyObject(ctx, &s3.CopyObjectInput{Bucket: photos, Key: aws.String("copy"), CopySource: aws.String("photos/drill"), MetadataDirective: types.MetadataDirectiveReplace, Metadata: map[string]string{"by": "Mara"}})
	require.NoError(t, err)
	assert.Equal(t, "hello", get(t, c, "copy"))
	_, err = c.GetObject(ctx, &s3.GetObjectInput{Bucket: photos, Key: aws.String("none")})
	assert.Equal(t, "NoSuchKey", code(err))
	_, err = c.DeleteBucket(ctx, &s3.DeleteBucketInput{Bucket: photos})
	assert.Equal(t, "BucketNotEmpty", code(err))
	gone, err := c.DeleteObjects(ctx, &s3.DeleteObjectsInput{Bucket: photos, Delete: &types.Delete{Objects: []types.ObjectIdentifier{{Key: aws.String("drill")}, {Key: aws.String("copy")}, {Key: aws.String("none")}}}})
	require.NoError(t, err)
	assert.Len(t, gone.Deleted, 3)
	_, err = c.DeleteBucket(ctx, &s3.DeleteBucketInput{Bucket: photos})
	require.NoError(t, err)
	_, err = c.GetBucketLifecycleConfiguration(ctx, &s3.GetBucketLifecycleConfigurationInput{Bucket: photos})
	assert.Equal(t, "NotImplemented", code(err))
}

// Lists give each key once, whatever the size of a page.
func TestLists(t *testing.T) {
	c := connect(serve(t, t.TempDir(), nil))
	bucket(t, c)
	for _, key := range []string{"a/1", "a/2", "a/b/3", "b", "c/4", "d", "a\xc3\xbf/5"} {
		put(t, c, key, key)
	}
	for _, q := range []struct{ prefix, delimiter, want string }{
		{"", "", "a/1 a/2 a/b/3 aÿ/5 b c/4 d"}, {"", "/", "a/* aÿ/* b c/* d"}, {"a/", "/", "a/1 a/2 a/b/*"}, {"a", "", "a/1 a/2 a/b/3 aÿ/5"}, {"x", "/", ""},
	} {
		for size := int32(1); size < 9; size++ {
			var got []string
			pages := s3.NewListObjectsV2Paginator(c, &s3.ListObjectsV2Input{Bucket: aws.String("photos"), Prefix: &q.prefix, Delimiter: &q.delimiter, MaxKeys: &size})
			for pages.HasMorePages() {
				page, err := pages.NextPage(t.Context())
				require.NoError(t, err)
				var part []string
				for _, o := range page.Contents {
					part = append(part, *o.Key)
				}
				for _, p := range page.CommonPrefixes {
					part = append(part, *p.Prefix+"*")
				}
				assert.LessOrEqual(t, len(part), int(size))
				got = append(got, part...)
			}
			assert.ElementsMatch(t, strings.Fields(q.want), got, "%+v in pages of %d", q, size)
		}
	}
}

func TestVersions(t *testing.T) {
	c := connect(serve(t, t.TempDir(), nil))
	ctx := t.Context()
	photos, drill := aws.String("photos"), aws.String("drill")
	bucket(t, c)
	put(t, c, "drill", "before")
	_, err := c.PutBucketVersioning(ctx, &s3.PutBucketVersioningInput{Bucket: photos, VersioningConfiguration: &types.VersioningConfiguration{Status: types.BucketVersioningStatusEnabled}})
	require.NoError(t, err)
	first, second := put(t, c, "drill", "first"), put(t, c, "drill", "second")
	read := func(version *string) string {
		out, err := c.GetObject(ctx, &s3.GetObjectInput{Bucket: photos, Key: drill, VersionId: version})
		if err != nil {
			return code(err)
		}
		b, _ := io.ReadAll(out.Body)
		return string(b)
	}
	assert.Equal(t, "second first before", read(nil)+" "+read(first.VersionId)+" "+read(aws.String("null")))
	mark, err := c.DeleteObject(ctx, &s3.DeleteObjectInput{Bucket: photos, Key: drill})
	require.NoError(t, err)
	assert.True(t, *mark.DeleteMarker)
	assert.Equal(t, "NoSuchKey second", read(nil)+" "+read(second.VersionId))
	all, err := c.ListObjectVersions(ctx, &s3.ListObjectVersionsInput{Bucket: photos})
	require.NoError(t, err)
	assert.Len(t, all.Versions, 3)
	assert.Len(t, all.DeleteMarkers, 1)
	for _, v := range []*string{mark.VersionId, second.VersionId} {
		_, err = c.DeleteObject(ctx, &s3.DeleteObjectInput{Bucket: photos, Key: drill, VersionId: v})
		require.NoError(t, err)
	}
	assert.Equal(t, "first", read(nil))
}

func TestParts(t *testing.T) {
	dir := t.TempDir()
	c := connect(serve(t, dir, nil))
	ctx := t.Context()
	photos, film := aws.String("photos"), aws.String("film/1")
	bucket(t, c)
	begun, err := c.CreateMultipartUpload(ctx, &s3.CreateMultipartUploadInput{Bucket: photos, Key: film, ContentType: aws.String("video/mp4")})
	require.NoError(t, err)
	one := bytes.Repeat([]byte("1"), 5<<20)
	var parts []types.CompletedPart
	for n, body := range [][]byte{one, []byte("end")} {
		out, err := c.UploadPart(ctx, &s3.UploadPartInput{Bucket: photos, Key: film, UploadId: begun.UploadId, PartNumber: aws.Int32(int32(n + 1)), Body: bytes.NewReader(body)})
		require.NoError(t, err)
		parts = append(parts, types.CompletedPart{ETag: out.ETag, PartNumber: aws.Int32(int32(n + 1))})
	}
	complete := func(parts ...types.CompletedPart) error {
		_, err := c.CompleteMultipartUpload(ctx, &s3.CompleteMultipartUploadInput{Bucket: photos, Key: film, UploadId: begun.UploadId, MultipartUpload: &types.CompletedMultipartUpload{Parts: parts}})
		return err
	}
	assert.Equal(t, "InvalidPartOrder", code(complete(parts[1], parts[0])))
	assert.Equal(t, "InvalidPart", code(complete(types.CompletedPart{ETag: aws.String("x"), PartNumber: aws.Int32(1)})))
	listed, err := c.ListMultipartUploads(ctx, &s3.ListMultipartUploadsInput{Bucket: photos})
	require.NoError(t, err)
	assert.Len(t, listed.Uploads, 1)
	require.NoError(t, complete(parts...))
	assert.Equal(t, string(one)+"end", get(t, c, "film/1"))
	head, err := c.HeadObject(ctx, &s3.HeadObjectInput{Bucket: photos, Key: film})
	require.NoError(t, err)
	assert.True(t, strings.HasSuffix(*head.ETag, `-2"`) && *head.ContentType == "video/mp4", "%+v", head)
	assert.Equal(t, "NoSuchUpload", code(complete(parts...)))
	begun, err = c.CreateMultipartUpload(ctx, &s3.CreateMultipartUploadInput{Bucket: photos, Key: film})
	require.NoError(t, err)
	_, err = c.UploadPartCopy(ctx, &s3.UploadPartCopyInput{Bucket: photos, Key: film, UploadId: begun.UploadId, PartNumber: aws.Int32(1), CopySource: aws.String("photos/film/1"), CopySourceRange: aws.String("bytes=0-9")})
	require.NoError(t, err)
	_, err = c.AbortMultipartUpload(ctx, &s3.AbortMultipartUploadInput{Bucket: photos, Key: film, UploadId: begun.UploadId})
	require.NoError(t, err)
	left, err := os.ReadDir(filepath.Join(dir, ".neighbour", "incoming"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

// Who signs wrongly, too late, or not at all is refused in the protocol's words.
func TestSignatures(t *testing.T) {
	address := serve(t, t.TempDir(), nil)
	c := connect(address)
	ctx := t.Context()
	bucket(t, c)
	put(t, c, "a b/ü+?", "hello")
	for want, change := range map[string]func(*s3.Options){
		"SignatureDoesNotMatch": func(o *s3.Options) {
			o.Credentials = credentials.NewStaticCredentialsProvider(keys.Access, "wrong", "")
		},
		"InvalidAccessKeyId": func(o *s3.Options) {
			o.Credentials = credentials.NewStaticCredentialsProvider("OTHER", keys.Secret, "")
		},
	} {
		_, err := connect(address, change).ListBuckets(ctx, nil)
		assert.Equal(t, want, code(err))
	}
	answer, err := http.Get(address + "/photos/x")
	require.NoError(t, err)
	answer.Body.Close()
	assert.Equal(t, 403, answer.StatusCode)
	link, err := s3.NewPresignClient(c).PresignGetObject(ctx, &s3.GetObjectInput{Bucket: aws.String("photos"), Key: aws.String("a b/ü+?"), ResponseContentType: aws.String("text/x")})
	require.NoError(t, err)
	ask := func(url string) (int, string) {
		answer, err := http.Get(url)
		require.NoError(t, err)
		defer answer.Body.Close()
		b, _ := io.ReadAll(answer.Body)
		return answer.StatusCode, string(b)
	}
	status, body := ask(link.URL)
	assert.Equal(t, "200 hello", fmt.Sprint(status, " ", body))
	for _, other := range []string{strings.Replace(link.URL, "Signature=", "Signature=0", 1), strings.Replace(link.URL, "/photos/", "/photos/x", 1), strings.Replace(link.URL, "Expires=9", "Expires=8", 1), link.URL + "&versionId=1"} {
		status, body = ask(other)
		assert.Contains(t, fmt.Sprint(status, body), "SignatureDoesNotMatch", other)
	}
	upload, err := s3.NewPresignClient(c).PresignPutObject(ctx, &s3.PutObjectInput{Bucket: aws.String("photos"), Key: aws.String("put")}, s3.WithPresignExpires(time.Minute))
	require.NoError(t, err)
	r, err := http.NewRequest("PUT", upload.URL, strings.NewReader("by a link"))
	require.NoError(t, err)
	answer, err = http.DefaultClient.Do(r)
	require.NoError(t, err)
	answer.Body.Close()
	assert.Equal(t, 200, answer.StatusCode)
	assert.Equal(t, "by a link", get(t, c, "put"))
	// Whoever has the link can't make another request of it: one that copies what is private.
	for _, header := range []string{"X-Amz-Copy-Source", "X-Amz-Acl", "X-Amz-Tagging", "X-Amz-Meta-Owner", "X-Amz-Metadata-Directive"} {
		r, err := http.NewRequest("PUT", upload.URL, strings.NewReader("more than was signed"))
		require.NoError(t, err)
		r.Header.Set(header, "/photos/private")
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		text, _ := io.ReadAll(answer.Body)
		answer.Body.Close()
		assert.Equal(t, 403, answer.StatusCode, header)
		assert.Contains(t, string(text), "<HeadersNotSigned>"+strings.ToLower(header)+"</HeadersNotSigned>")
	}
	assert.Equal(t, "by a link", get(t, c, "put"))
	// A clock that is off.
	rules := misbehave.Follow("", log.New(io.Discard, "", 0))
	require.NoError(t, rules.Set(misbehave.Rules{Clock: 20 * time.Minute}))
	_, err = connect(serve(t, t.TempDir(), rules)).ListBuckets(ctx, nil)
	assert.Equal(t, "RequestTimeTooSkewed", code(err))
}

// A body that comes as a stream is signed chunk by chunk, or has its checksum behind it.
func TestStreams(t *testing.T) {
	c := connect(serve(t, t.TempDir(), nil))
	bucket(t, c)
	big := make([]byte, 3<<20)
	for i := range big {
		big[i] = byte(rand.Uint32())
	}
	_, err := c.PutObject(t.Context(), &s3.PutObjectInput{Bucket: aws.String("photos"), Key: aws.String("s"), Body: bytes.NewReader(big), ChecksumAlgorithm: types.ChecksumAlgorithmCrc64nvme})
	require.NoError(t, err)
	assert.Equal(t, string(big), get(t, c, "s"))
	_, err = c.PutObject(t.Context(), &s3.PutObjectInput{Bucket: aws.String("photos"), Key: aws.String("s"), Body: strings.NewReader("x"), ChecksumSHA256: aws.String("AAAA")})
	assert.Equal(t, "BadDigest", code(err))
	assert.Equal(t, string(big), get(t, c, "s"), "what was there stays")
}

// Who reads while others write gets one of the objects whole.
func TestReadersAndWriters(t *testing.T) {
	c := connect(serve(t, t.TempDir(), nil))
	bucket(t, c)
	body := func(n int) string { return strings.Repeat(fmt.Sprint(n%10), 1+n*997%50_000) }
	put(t, c, "x", body(0))
	var all sync.WaitGroup
	for w := range 2 {
		all.Go(func() {
			for i := range 60 {
				put(t, c, "x", body(w*60+i))
			}
		})
		all.Go(func() {
			for range 100 {
				out, err := c.GetObject(t.Context(), &s3.GetObjectInput{Bucket: aws.String("photos"), Key: aws.String("x")})
				if !assert.NoError(t, err) {
					return
				}
				b, err := io.ReadAll(out.Body)
				assert.NoError(t, err)
				assert.Equal(t, strings.Trim(*out.ETag, `"`), fmt.Sprintf("%x", md5.Sum(b)))
			}
		})
	}
	all.Wait()
}

// server is the environment variable that makes the test a server of a folder.
const server = "NEIGHBOUR_OBJECTS"

func TestMain(m *testing.M) {
	dir := os.Getenv(server)
	if dir == "" {
		os.Exit(m.Run())
	}
	store, err := objects.OpenStore(dir)
	if err != nil {
		log.Fatal(err)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		log.Fatal(err)
	}
	fmt.Println(l.Addr())
	log.Fatal((&objects.Server{Store: store, Log: log.Default(), Keys: keys}).Serve(context.Background(), l))
}

// Killed at any moment, each object is there as it was answered, or as it was about to be,
// and never by half; and no file is left that is nobody's.
func TestKilled(t *testing.T) {
	dir := t.TempDir()
	sent := map[string]int{} // the newest that was sent of each key
	sure := map[string]int{} // and the newest that was answered
	body := func(key string, n int) string { return strings.Repeat(fmt.Sprintf("%s %d\n", key, n), 2000+n%7*3000) }
	answered := 0
	for round := range 50 {
		cmd := exec.Command(os.Args[0])
		cmd.Env = append(os.Environ(), server+"="+dir)
		out, err := cmd.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, cmd.Start())
		var address string
		_, err = fmt.Fscanln(out, &address)
		require.NoError(t, err)
		c := connect("http://" + address)
		if round == 0 {
			bucket(t, c)
		}
		for key, n := range sure {
			is := get(t, c, key)
			newer := false
			for at := n; at <= sent[key]; at++ {
				newer = newer || is == body(key, at)
			}
			require.True(t, newer, "%s is not what was answered", key)
		}
		var mu sync.Mutex
		var writers sync.WaitGroup
		stop := time.AfterFunc(time.Duration(20+round%8*12)*time.Millisecond, func() { _ = cmd.Process.Kill() })
		for w := range 4 {
			writers.Go(func() {
				for i := 0; ; i++ {
					key := fmt.Sprintf("%d/%d", w, i%3)
					if i%3 == 2 {
						key = fmt.Sprint(w) // which is a folder of the others
					}
					mu.Lock()
					sent[key]++
					n := sent[key]
					mu.Unlock()
					if _, err := c.PutObject(t.Context(), &s3.PutObjectInput{Bucket: aws.String("photos"), Key: &key, Body: strings.NewReader(body(key, n))}); err != nil {
						return
					}
					mu.Lock()
					sure[key] = n
					answered++
					mu.Unlock()
				}
			})
		}
		writers.Wait()
		stop.Stop()
		_ = cmd.Wait()
	}
	store, err := objects.OpenStore(dir)
	require.NoError(t, err)
	defer store.Close()
	files := 0
	require.NoError(t, filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() && !strings.HasPrefix(d.Name(), "objects.db") {
			files++
		}
		return err
	}))
	all, _, _, _, err := store.List(t.Context(), objects.Listing{Bucket: "photos", Limit: 1000})
	require.NoError(t, err)
	assert.Len(t, all, files, "a file for each object")
	t.Logf("%d were answered", answered)
	assert.NotZero(t, answered)
}

// FuzzStream reads bodies in chunks of any bytes.
func FuzzStream(f *testing.F) {
	for _, text := range []string{"3\r\nabc\r\n0\r\n\r\n", "3;chunk-signature=00\r\nabc\r\n0;chunk-signature=00\r\n\r\n", "ffffffffffffffff\r\n", "0\r\nx-amz-checksum-crc32:AAAAAA==\r\n\r\n", ""} {
		f.Add([]byte(text), "STREAMING-UNSIGNED-PAYLOAD-TRAILER")
		f.Add([]byte(text), "STREAMING-AWS4-HMAC-SHA256-PAYLOAD")
	}
	store, err := objects.OpenStore(f.TempDir())
	if err != nil {
		f.Fatal(err)
	}
	if err := store.SaveBucket(context.Background(), objects.Bucket{Name: "photos"}); err != nil {
		f.Fatal(err)
	}
	s := &objects.Server{Store: store, Log: log.New(io.Discard, "", 0)}
	f.Fuzz(func(t *testing.T, b []byte, payload string) {
		r := httptest.NewRequest("PUT", "/photos/x", bytes.NewReader(b))
		r.Header.Set("X-Amz-Content-Sha256", payload)
		r.Header.Set("X-Amz-Trailer", "x-amz-checksum-crc32")
		w := httptest.NewRecorder()
		s.ServeHTTP(w, r)
		if w.Code == 200 && int64(w.Body.Len()) > int64(len(b)) || w.Code == 500 {
			t.Fatal(w.Code, w.Body)
		}
	})
}

// The bucket may stand in the host's name, and pages of other sites may use it as its
// rules say: this machine's pages, if there are none.
func TestHostsAndPages(t *testing.T) {
	address := serve(t, t.TempDir(), nil)
	c := connect(address)
	bucket(t, c)
	put(t, c, "drill", "hello")
	_, err := c.PutBucketAcl(t.Context(), &s3.PutBucketAclInput{Bucket: aws.String("photos"), ACL: types.BucketCannedACLPublicRead})
	require.NoError(t, err)
	ask := func(method, host, origin, wanted string) (int, http.Header, string) {
		r, err := http.NewRequest(method, address+"/drill", nil)
		require.NoError(t, err)
		if r.Host = host; host == "" {
			r.URL.Path = "/photos/drill"
		}
		if origin != "" {
			r.Header.Set("Origin", origin)
			r.Header.Set("Access-Control-Request-Method", wanted)
		}
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		defer answer.Body.Close()
		b, _ := io.ReadAll(answer.Body)
		return answer.StatusCode, answer.Header, string(b)
	}
	status, headers, body := ask("GET", "photos.localhost:9", "", "")
	assert.Equal(t, "200 hello sandbox", fmt.Sprint(status, " ", body, " ", headers.Get("Content-Security-Policy")))
	status, _, body = ask("GET", "photos.objects.shed.localhost", "", "")
	assert.Equal(t, 403, status, body) // a bucket of the name photos.objects.shed may be private
	allowed := func(origin, method string) string {
		status, headers, _ := ask("OPTIONS", "", origin, method)
		return fmt.Sprint(status, " ", headers.Get("Access-Control-Allow-Origin"))
	}
	assert.Equal(t, "200 http://localhost:5173", allowed("http://localhost:5173", "PUT"))
	assert.Equal(t, "403 ", allowed("https://evil.example", "GET"))
	_, err = c.PutBucketCors(t.Context(), &s3.PutBucketCorsInput{Bucket: aws.String("photos"), CORSConfiguration: &types.CORSConfiguration{CORSRules: []types.CORSRule{{AllowedOrigins: []string{"https://*.toolshed.example"}, AllowedMethods: []string{"GET"}}}}})
	require.NoError(t, err)
	assert.Equal(t, "200 https://www.toolshed.example", allowed("https://www.toolshed.example", "GET"))
	assert.Equal(t, "403 ", allowed("https://www.toolshed.example", "PUT"))
	assert.Equal(t, "403 ", allowed("http://localhost:5173", "GET"))
	_, headers, _ = ask("GET", "", "https://www.toolshed.example", "")
	assert.Equal(t, "https://www.toolshed.example", headers.Get("Access-Control-Allow-Origin"))
}

// A link in a bucket's folder leads nowhere, and is not written through.
func TestLinks(t *testing.T) {
	dir, outside := t.TempDir(), t.TempDir()
	c := connect(serve(t, dir, nil))
	bucket(t, c)
	secret := filepath.Join(outside, "secret")
	require.NoError(t, os.WriteFile(secret, []byte("secret"), 0o600))
	put(t, c, "drill", "hello!")
	require.NoError(t, os.Remove(filepath.Join(dir, "photos/drill")))
	require.NoError(t, os.Symlink(secret, filepath.Join(dir, "photos/drill")))
	require.NoError(t, os.Symlink(outside, filepath.Join(dir, "photos/away")))
	_, err := c.GetObject(t.Context(), &s3.GetObjectInput{Bucket: aws.String("photos"), Key: aws.String("drill")})
	assert.Error(t, err)
	_, err = c.PutObject(t.Context(), &s3.PutObjectInput{Bucket: aws.String("photos"), Key: aws.String("away/x"), Body: strings.NewReader("x")})
	assert.Error(t, err)
	put(t, c, "drill", "again")
	assert.Equal(t, "again", get(t, c, "drill"))
	b, err := os.ReadFile(secret)
	require.NoError(t, err)
	assert.Equal(t, "secret", string(b))
	there, err := os.ReadDir(outside)
	require.NoError(t, err)
	assert.Len(t, there, 1)
}

// A person who opens the address in a browser sees what everybody may read, and nothing
// else; whoever asks for no page gets the protocol's answer.
func TestThePage(t *testing.T) {
	address := serve(t, t.TempDir(), nil)
	c := connect(address)
	bucket(t, c)
	_, err := c.CreateBucket(t.Context(), &s3.CreateBucketInput{Bucket: aws.String("secrets")})
	require.NoError(t, err)
	_, err = c.PutObject(t.Context(), &s3.PutObjectInput{Bucket: aws.String("secrets"), Key: aws.String("hidden.txt"), Body: strings.NewReader("x")})
	require.NoError(t, err)
	_, err = c.PutObject(t.Context(), &s3.PutObjectInput{Bucket: aws.String("photos"), Key: aws.String(`<b>"Bohrer" 100%?.png`), Body: strings.NewReader("x"), ContentType: aws.String("image/png")})
	require.NoError(t, err)
	ask := func(path, host, accept string) (int, string) {
		r, err := http.NewRequest("GET", address+path, nil)
		require.NoError(t, err)
		r.Host = host
		r.Header.Set("Accept", accept)
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		defer answer.Body.Close()
		b, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		return answer.StatusCode, string(b)
	}
	const html = "text/html,*/*;q=0.8"
	_, page := ask("/", "", html)
	assert.Equal(t, 2, strings.Count(page, "only for signed requests"))
	assert.NotContains(t, page, "Bohrer")
	_, err = c.PutBucketAcl(t.Context(), &s3.PutBucketAclInput{Bucket: aws.String("photos"), ACL: types.BucketCannedACLPublicRead})
	require.NoError(t, err)
	_, page = ask("/", "", html)
	assert.Contains(t, page, "&lt;b&gt;&#34;Bohrer&#34; 100%?.png")
	assert.NotContains(t, page, "hidden")
	path := regexp.MustCompile(`<img src="([^"]+)"`).FindStringSubmatch(page)
	require.NotNil(t, path)
	status, body := ask(path[1], "", "image/*")
	assert.Equal(t, "200 x", fmt.Sprint(status, " ", body), path[1])
	for _, c := range [][3]string{{"/", "", "*/*"}, {"/", "evil.example", html}, {"/?x", "", html}, {"/secrets", "", html}} {
		status, body := ask(c[0], c[1], c[2])
		assert.Equal(t, 403, status, c)
		assert.Contains(t, body, "<Code>AccessDenied</Code>", c)
	}
}

// Who may read an object is the object's own, or the bucket's; and a form is refused by name.
func TestPublicObjects(t *testing.T) {
	address := serve(t, t.TempDir(), nil)
	c := connect(address)
	bucket(t, c)
	photos, ctx := aws.String("photos"), t.Context()
	anybody := func(key string) int {
		answer, err := http.Get(address + "/photos/" + key)
		require.NoError(t, err)
		answer.Body.Close()
		assert.Empty(t, answer.Header.Get("X-Amz-Acl"))
		return answer.StatusCode
	}
	_, err := c.PutObject(ctx, &s3.PutObjectInput{Bucket: photos, Key: aws.String("drill"), Body: strings.NewReader("1"), ACL: types.ObjectCannedACLPublicRead, Metadata: map[string]string{"by": "Ines"}})
	require.NoError(t, err)
	put(t, c, "saw", "2")
	assert.Equal(t, []int{200, 403, 403}, []int{anybody("drill"), anybody("saw"), anybody("drill?tagging")})
	_, err = c.CopyObject(ctx, &s3.CopyObjectInput{Bucket: photos, Key: aws.String("copy"), CopySource: aws.String("photos/drill")})
	require.NoError(t, err)
	assert.Equal(t, 403, anybody("copy"), "it is not copied")
	for acl, want := range map[types.ObjectCannedACL]int{types.ObjectCannedACLPublicRead: 200, types.ObjectCannedACLPrivate: 403, types.ObjectCannedACLBucketOwnerFullControl: 403} {
		_, err = c.PutObjectAcl(ctx, &s3.PutObjectAclInput{Bucket: photos, Key: aws.String("copy"), ACL: acl})
		require.NoError(t, err, acl)
		assert.Equal(t, want, anybody("copy"), acl)
		got, err := c.GetObjectAcl(ctx, &s3.GetObjectAclInput{Bucket: photos, Key: aws.String("copy")})
		require.NoError(t, err)
		assert.Equal(t, map[int]int{200: 2, 403: 1}[want], len(got.Grants), acl)
	}
	_, err = c.PutObject(ctx, &s3.PutObjectInput{Bucket: photos, Key: aws.String("drill"), Body: strings.NewReader("1"), ACL: types.ObjectCannedACLAuthenticatedRead})
	assert.Equal(t, "NotImplemented", code(err))
	// Metadata come as they were written, not as headers are spelt here.
	raw, err := net.Dial("tcp", strings.TrimPrefix(address, "http://"))
	require.NoError(t, err)
	defer raw.Close()
	_, err = io.WriteString(raw, "HEAD /photos/drill HTTP/1.1\r\nHost: 127.0.0.1\r\nConnection: close\r\n\r\n")
	require.NoError(t, err)
	head, err := io.ReadAll(raw)
	require.NoError(t, err)
	assert.Contains(t, string(head), "x-amz-meta-by: Ines")

	form, err := http.Post(address+"/photos", "multipart/form-data; boundary=x", strings.NewReader("--x--"))
	require.NoError(t, err)
	defer form.Body.Close()
	said, err := io.ReadAll(form.Body)
	require.NoError(t, err)
	assert.Contains(t, string(said), "a signed link for PUT")
}
