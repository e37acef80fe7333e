package objects_test

import (
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/aws/aws-sdk-go-v2/aws"
	"github.com/aws/aws-sdk-go-v2/service/s3"
	"github.com/aws/aws-sdk-go-v2/service/s3/types"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is asked for is done or refused, and never passed over: a deletion under a condition,
// a part by its number, a list by a delimiter.
func TestConditionsHold(t *testing.T) {
	dir := t.TempDir()
	c := connect(serve(t, dir, nil))
	bucket(t, c)
	at := aws.String("photos")
	was := put(t, c, "drill", "one")
	_, err := c.DeleteObject(t.Context(), &s3.DeleteObjectInput{Bucket: at, Key: aws.String("drill"), IfMatch: aws.String(`"another"`)})
	assert.Equal(t, "PreconditionFailed", code(err))
	assert.Equal(t, "one", get(t, c, "drill"))
	_, err = c.DeleteObject(t.Context(), &s3.DeleteObjectInput{Bucket: at, Key: aws.String("drill"), IfMatch: was.ETag})
	require.NoError(t, err)
	_, err = c.DeleteObject(t.Context(), &s3.DeleteObjectInput{Bucket: at, Key: aws.String("drill"), IfMatch: was.ETag})
	assert.Equal(t, "NoSuchKey", code(err))
	_, err = c.DeleteObject(t.Context(), &s3.DeleteObjectInput{Bucket: at, Key: aws.String("drill")})
	require.NoError(t, err, "without a condition it is no error")

	put(t, c, "saw", "two")
	_, err = c.GetObject(t.Context(), &s3.GetObjectInput{Bucket: at, Key: aws.String("saw"), PartNumber: aws.Int32(1)})
	assert.Equal(t, "NotImplemented", code(err))
	_, err = c.ListMultipartUploads(t.Context(), &s3.ListMultipartUploadsInput{Bucket: at, Delimiter: aws.String("/")})
	assert.Equal(t, "NotImplemented", code(err))
}

// Settings of a bucket that are changed at once are all there, whichever comes last.
func TestSettingsAreChangedAtOnce(t *testing.T) {
	c := connect(serve(t, t.TempDir(), nil))
	bucket(t, c)
	at := aws.String("photos")
	for range 20 {
		_, err := c.DeleteBucketCors(t.Context(), &s3.DeleteBucketCorsInput{Bucket: at})
		require.NoError(t, err)
		var both sync.WaitGroup
		both.Go(func() {
			_, err := c.PutBucketCors(t.Context(), &s3.PutBucketCorsInput{Bucket: at, CORSConfiguration: &types.CORSConfiguration{CORSRules: []types.CORSRule{{AllowedOrigins: []string{"*"}, AllowedMethods: []string{"GET"}}}}})
			assert.NoError(t, err)
		})
		both.Go(func() {
			_, err := c.PutBucketVersioning(t.Context(), &s3.PutBucketVersioningInput{Bucket: at, VersioningConfiguration: &types.VersioningConfiguration{Status: types.BucketVersioningStatusEnabled}})
			assert.NoError(t, err)
		})
		both.Wait()
		v, err := c.GetBucketVersioning(t.Context(), &s3.GetBucketVersioningInput{Bucket: at})
		require.NoError(t, err)
		require.Equal(t, types.BucketVersioningStatusEnabled, v.Status)
		_, err = c.GetBucketCors(t.Context(), &s3.GetBucketCorsInput{Bucket: at})
		require.NoError(t, err)
		_, err = c.PutBucketVersioning(t.Context(), &s3.PutBucketVersioningInput{Bucket: at, VersioningConfiguration: &types.VersioningConfiguration{Status: types.BucketVersioningStatusSuspended}})
		require.NoError(t, err)
	}
}

// Parts that can't be joined leave nothing behind.
func TestPartsThatCannotBeJoined(t *testing.T) {
	dir := t.TempDir()
	c := connect(serve(t, dir, nil))
	bucket(t, c)
	at, key := aws.String("photos"), aws.String("film")
	up, err := c.CreateMultipartUpload(t.Context(), &s3.CreateMultipartUploadInput{Bucket: at, Key: key})
	require.NoError(t, err)
	part, err := c.UploadPart(t.Context(), &s3.UploadPartInput{Bucket: at, Key: key, UploadId: up.UploadId, PartNumber: aws.Int32(1), Body: nil})
	require.NoError(t, err)
	incoming := filepath.Join(dir, ".neighbour/incoming")
	files, err := os.ReadDir(incoming)
	require.NoError(t, err)
	for _, f := range files {
		require.NoError(t, os.Remove(filepath.Join(incoming, f.Name())))
	}
	_, err = c.CompleteMultipartUpload(t.Context(), &s3.CompleteMultipartUploadInput{Bucket: at, Key: key, UploadId: up.UploadId, MultipartUpload: &types.CompletedMultipartUpload{Parts: []types.CompletedPart{{PartNumber: aws.Int32(1), ETag: part.ETag}}}})
	assert.Equal(t, "InternalError", code(err))
	files, err = os.ReadDir(incoming)
	require.NoError(t, err)
	assert.Empty(t, files)
}
