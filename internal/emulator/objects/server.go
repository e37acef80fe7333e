// Package objects is a store of buckets and objects for development. It speaks the common
// HTTP protocol of object storage, that of Amazon's S3, and keeps each object in a file.
package objects

import (
	"context"
	"encoding/json"
	"encoding/xml"
	"errors"
	"io"
	"log"
	"net"
	"net/http"
	"net/url"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"neighbour/internal/core/kind/misbehave"
)

// Server answers clients.
type Server struct {
	Store *Store
	Log   *log.Logger
	Keys  Keys
	// Region is told to those who ask where a bucket is.
	Region string
	// Names are the host names by which it is reached, beside localhost and addresses.
	Names Names
	// Misbehave says what it does wrong; nil: nothing.
	Misbehave *misbehave.Follower
}

func (s *Server) now() time.Time { return time.Now().Add(s.Misbehave.Rules().Clock) }

// Serve answers on a listener until the context ends.
func (s *Server) Serve(ctx context.Context, l net.Listener) error {
	s.Store.now = s.now
	server := &http.Server{Handler: s, ReadHeaderTimeout: time.Minute, ErrorLog: s.Log, BaseContext: func(net.Listener) context.Context { return ctx }}
	stop := context.AfterFunc(ctx, func() {
		grace, cancel := context.WithTimeout(context.Background(), 300*time.Millisecond)
		defer cancel()
		if server.Shutdown(grace) != nil {
			_ = server.Close()
		}
	})
	defer stop()
	err := server.Serve(l)
	if errors.Is(err, http.ErrServerClosed) {
		return nil
	}
	return err
}

// request is a request with what it is about.
type request struct {
	*http.Request
	w           http.ResponseWriter
	bucket, key string
	// inHost is the bucket if the host's name has it.
	inHost string
	query  url.Values
	by     *signed // nil: anybody
}

// ReadyPath says that the server is ready.
const ReadyPath = "/-/ready"

// summaryPath is where Neighbour's own client asks what there is. No bucket has the name -.
const summaryPath = "/-/summary"

func (s *Server) summarize(q *request) error {
	if err := s.may(q, false); err != nil {
		return err
	}
	all, err := s.Store.summary(q.Context())
	if err != nil {
		return err
	}
	q.w.Header().Set("Content-Type", "application/json")
	return json.NewEncoder(q.w).Encode(all)
}

// OwnAgent is how Neighbour's own client introduces itself; to that the server behaves.
const OwnAgent = "neighbour"

// ServeHTTP answers a request.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Server", "neighbour")
	if r.URL.Path == ReadyPath && r.Method == http.MethodGet {
		return
	}
	q, err := s.read(w, r)
	defer func() {
		if p := recover(); p != nil {
			if p == http.ErrAbortHandler {
				panic(p)
			}
			s.Log.Printf("%s %s: %v\n%s", r.Method, r.URL.Path, p, debug.Stack())
			q.fail(&Error{Code: "InternalError", Status: 500, Message: "the emulator has a fault in it; its log says more"})
		}
	}()
	if err == nil {
		if done := s.preflight(q); done {
			return
		}
		err = s.behave(q)
	}
	if err == nil && q.browses() {
		if err = s.page(q); err == nil {
			return
		}
	}
	if err == nil && s.Keys != (Keys{}) {
		q.by, err = s.Keys.check(r, q.inHost, s.now())
	}
	if err == nil {
		switch r.URL.Path {
		case summaryPath:
			err = s.summarize(q)
		case changesPath:
			err = s.tellChanges(q)
		default:
			err = s.route(q)
		}
	}
	if err != nil {
		q.fail(err)
	}
}

// Names are host names, of which those below have a bucket's name before them.
type Names []string

// bucket returns the bucket that a Host header names, "" if it names none.
func (n Names) bucket(host string) string {
	if h, _, err := net.SplitHostPort(host); err == nil {
		host = h
	}
	if slices.Contains(n, host) {
		return ""
	}
	for _, name := range append(slices.Clone(n), "localhost") {
		if bucket, ok := strings.CutSuffix(host, "."+name); ok && CheckName(bucket) == nil {
			return bucket
		}
	}
	return ""
}

// read finds the bucket and the key of a request: in its path, or the bucket in the host's
// name.
func (s *Server) read(w http.ResponseWriter, r *http.Request) (*request, error) {
	q := &request{Request: r, w: w, query: r.URL.Query()}
	path, err := url.PathUnescape(strings.TrimPrefix(r.URL.EscapedPath(), "/"))
	if err != nil {
		return q, &Error{Code: "InvalidURI", Status: 400, Message: "Couldn't parse the specified URI."}
	}
	if q.inHost = s.Names.bucket(r.Host); q.inHost != "" {
		q.bucket, q.key = q.inHost, path
	} else {
		q.bucket, q.key, _ = strings.Cut(path, "/")
	}
	if len(q.key) > 1024 {
		return q, &Error{Code: "KeyTooLongError", Status: 400, Message: "Your key is too long"}
	}
	if strings.ContainsRune(q.key, 0) {
		return q, invalid("a key can't hold the character NUL here")
	}
	return q, nil
}

// fail answers with an error.
func (q *request) fail(err error) {
	e := *asError(err)
	e.Resource, e.BucketName = q.URL.Path, q.bucket
	if e.Code == "NoSuchKey" {
		e.Key = q.key
	}
	h := q.w.Header()
	for _, name := range []string{"Content-Length", "ETag", "Last-Modified", "Content-Encoding", "Cache-Control", "Content-Disposition", "Accept-Ranges"} {
		h.Del(name)
	}
	if q.Method == http.MethodHead || e.Status == http.StatusNotModified {
		q.w.WriteHeader(e.Status)
		return
	}
	// What is left of a body would be taken for the next request.
	_, _ = io.CopyN(io.Discard, q.Body, 256<<10)
	q.answer(e.Status, e)
}

// answer answers with XML.
func (q *request) answer(status int, v any) {
	b, err := xml.Marshal(v)
	if err != nil {
		status, b = 500, nil
	}
	q.w.Header().Set("Content-Type", "application/xml")
	q.w.WriteHeader(status)
	_, _ = q.w.Write(append([]byte(xml.Header), b...))
}

// decode reads XML of a request's body.
func (q *request) decode(v any) error {
	b, err := io.ReadAll(io.LimitReader(q.Body, 4<<20+1))
	if err != nil {
		return err
	}
	if len(b) > 4<<20 || xml.Unmarshal(b, v) != nil {
		return errMalformedXML
	}
	return nil
}

// behave does what the rules say, which may be nothing.
func (s *Server) behave(q *request) error {
	rules := s.Misbehave.Rules()
	if rules == (misbehave.Rules{}) || q.UserAgent() == OwnAgent {
		return nil
	}
	wait, fate := rules.Draw()
	misbehave.Wait(q.Context(), wait)
	writes := q.Method == http.MethodPut || q.Method == http.MethodPost || q.Method == http.MethodDelete
	switch {
	case fate == misbehave.Failed:
		return &Error{Code: "InternalError", Status: 500, Message: "an error that this emulator was told to answer with"}
	case fate == misbehave.Throttled:
		q.w.Header().Set("Retry-After", "1")
		return &Error{Code: "SlowDown", Status: 503, Message: "Please reduce your request rate, as this emulator was told to say."}
	case writes && rules.Full:
		return &Error{Code: "InsufficientStorage", Status: 507, Message: "there is no room left, as this emulator was told to say"}
	case writes && rules.ReadOnly:
		return denied("AccessDenied", "nothing may be written, as this emulator was told to say")
	case fate == misbehave.Cut:
		q.w = misbehave.CutOff(q.w)
	}
	return nil
}

// may makes sure that who isn't known only reads what everybody may.
func (s *Server) may(q *request, public bool) error {
	if q.by != nil || s.Keys == (Keys{}) {
		return nil
	}
	if public && q.key != "" && (q.Method == http.MethodGet || q.Method == http.MethodHead) {
		if b, err := s.Store.Bucket(q.Context(), q.bucket); err == nil && b.Public {
			return nil
		}
		if o, err := s.Store.Get(q.Context(), q.bucket, q.key, q.query.Get("versionId")); err == nil && !o.Deleted && o.Headers[aclHeader] != "" {
			return nil
		}
	}
	return errAccessDenied
}

// subresources are the parts of queries that say what of a bucket or an object is meant.
var subresources = []string{"acl", "attributes", "cors", "delete", "encryption", "inventory", "legal-hold", "lifecycle", "location", "logging", "metrics", "notification", "object-lock", "ownershipControls",
	"policy", "policyStatus", "publicAccessBlock", "replication", "requestPayment", "restore", "retention", "select", "tagging", "torrent", "uploads", "versioning", "versions", "website", "accelerate", "analytics", "intelligent-tiering"}

// route carries a request out.
func (s *Server) route(q *request) error {
	sub := ""
	for _, name := range subresources {
		if q.query.Has(name) {
			sub = name
		}
	}
	if q.query.Has("uploadId") {
		sub = "uploadId"
	}
	if q.Method == http.MethodPost && strings.HasPrefix(q.Header.Get("Content-Type"), "multipart/form-data") {
		return &Error{Code: "NotImplemented", Status: 501, Message: "uploads of forms are not here; a signed link for PUT does the same"}
	}
	if err := s.may(q, sub == ""); err != nil {
		return err
	}
	if q.bucket == "" {
		if q.Method != http.MethodGet {
			return methodNotAllowed()
		}
		return s.listBuckets(q)
	}
	level := "object"
	if q.key == "" {
		level = "bucket"
	}
	do := routes[level+" "+q.Method+" "+sub]
	if do == nil {
		if sub != "" {
			return notHere(q.Method + " of " + sub)
		}
		return methodNotAllowed()
	}
	if q.key != "" || q.Method != http.MethodPut || sub != "" {
		if _, err := s.Store.Bucket(q.Context(), q.bucket); err != nil {
			return err
		}
	}
	return do(s, q)
}

func methodNotAllowed() error {
	return &Error{Code: "MethodNotAllowed", Status: 405, Message: "The specified method is not allowed against this resource."}
}

var routes map[string]func(*Server, *request) error

func init() {
	routes = map[string]func(*Server, *request) error{
		"bucket PUT ": (*Server).createBucket, "bucket DELETE ": (*Server).deleteBucket, "bucket HEAD ": (*Server).headBucket, "bucket GET ": (*Server).listObjects,
		"bucket GET location": (*Server).location, "bucket GET versions": (*Server).listVersions, "bucket GET uploads": (*Server).listUploads, "bucket POST delete": (*Server).deleteMany,
		"bucket GET versioning": (*Server).getVersioning, "bucket PUT versioning": (*Server).putVersioning, "bucket GET cors": (*Server).getCORS, "bucket PUT cors": (*Server).putCORS, "bucket DELETE cors": (*Server).deleteCORS,
		"bucket GET acl": (*Server).getACL, "bucket PUT acl": (*Server).putACL, "object GET acl": (*Server).getACL, "object PUT acl": (*Server).putACL,
		"object GET ": (*Server).getObject, "object HEAD ": (*Server).getObject, "object PUT ": (*Server).putObject, "object DELETE ": (*Server).deleteObject,
		"object GET tagging": (*Server).getTags, "object PUT tagging": (*Server).putTags, "object DELETE tagging": (*Server).deleteTags,
		"object POST uploads": (*Server).beginUpload, "object PUT uploadId": (*Server).putPart, "object GET uploadId": (*Server).listParts, "object POST uploadId": (*Server).completeUpload, "object DELETE uploadId": (*Server).abortUpload,
	}
}
