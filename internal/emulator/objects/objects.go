package objects

import (
	"crypto/md5"
	"encoding/hex"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
)

// kept are the headers that are kept with an object and given back with it.
var kept = []string{"Cache-Control", "Content-Disposition", "Content-Encoding", "Content-Language", "Content-Type", "Expires", "X-Amz-Website-Redirect-Location"}

const metaPrefix = "X-Amz-Meta-"

// headersOf are those of a request that are kept with its object.
func headersOf(r *http.Request) (map[string]string, error) {
	out := map[string]string{}
	size := 0
	for name, values := range r.Header {
		v := strings.Join(values, ",")
		switch {
		case name == "Content-Encoding": // how the body comes is not how the object is
			v = strings.Trim(strings.TrimSpace(strings.Replace(v, "aws-chunked", "", 1)), ",")
			if v == "" {
				continue
			}
		case strings.HasPrefix(name, metaPrefix):
			if size += len(name) - len(metaPrefix) + len(v); size > 2048 {
				return nil, &Error{Code: "MetadataTooLarge", Status: 400, Message: "Your metadata headers exceed the maximum allowed metadata size"}
			}
		case !slices.Contains(kept, name):
			continue
		}
		out[name] = v
	}
	if out["Content-Type"] == "" {
		out["Content-Type"] = "binary/octet-stream"
	}
	public, _, err := publicBy(r)
	return withACL(out, public), err
}

// tagsOf reads tags as a query has them.
func tagsOf(text string) (map[string]string, error) {
	values, err := url.ParseQuery(text)
	if err != nil {
		return nil, invalid("the header x-amz-tagging must be a query: a=1&b=2")
	}
	out := map[string]string{}
	for name, v := range values {
		out[name] = v[0]
	}
	return out, checkTags(out)
}

func checkTags(tags map[string]string) error {
	if len(tags) > 10 {
		return &Error{Code: "BadRequest", Status: 400, Message: "Object tags cannot be greater than 10"}
	}
	for name, v := range tags {
		if name == "" || len([]rune(name)) > 128 || len([]rune(v)) > 256 {
			return &Error{Code: "InvalidTag", Status: 400, Message: "The TagKey or the TagValue you have provided is invalid"}
		}
	}
	return nil
}

// must is what a request asks of the object that it replaces.
func (q *request) must() func(*Object) error {
	match, none := q.Header.Get("If-Match"), q.Header.Get("If-None-Match")
	if match == "" && none == "" {
		return nil
	}
	return func(was *Object) error {
		switch {
		case match != "" && was == nil:
			return errNoSuchKey
		case match != "" && match != "*" && strings.Trim(match, `"`) != was.ETag:
			return errPrecondition
		case none == "*" && was != nil, none != "" && was != nil && strings.Trim(none, `"`) == was.ETag:
			return errPrecondition
		}
		return nil
	}
}

func (s *Server) putObject(q *request) error {
	if q.Header.Get("X-Amz-Copy-Source") != "" {
		return s.copyObject(q)
	}
	if q.Header.Get("X-Amz-Server-Side-Encryption-Customer-Algorithm") != "" {
		return notHere("encryption by a customer's key")
	}
	headers, err := headersOf(q.Request)
	if err != nil {
		return err
	}
	tags, err := tagsOf(q.Header.Get("X-Amz-Tagging"))
	if err != nil {
		return err
	}
	got, err := s.receive(q.Request, q.by)
	if err != nil {
		return err
	}
	o, err := s.Store.Put(q.Context(), Object{Bucket: q.bucket, Key: q.key, Size: got.size, ETag: hex.EncodeToString(got.md5), Headers: headers, Tags: tags, Sums: got.sums}, got.path, q.must())
	if err != nil {
		s.Store.discard(got.path)
		return err
	}
	s.tell(q, o)
	return nil
}

// tell sets the headers that say which object was made.
func (s *Server) tell(q *request, o Object) {
	h := q.w.Header()
	h.Set("ETag", quoted(o.ETag))
	if o.Version != "null" {
		h.Set("X-Amz-Version-Id", o.Version)
	}
	for algorithm, sum := range o.Sums {
		h.Set("X-Amz-Checksum-"+algorithm, sum)
	}
}

// discard takes a file away that came in and is not an object's.
func (s *Store) discard(path string) {
	var known int
	if s.db.QueryRow("SELECT count(*) FROM objects WHERE path = ?", path).Scan(&known) == nil && known == 0 {
		_ = os.Remove(s.file(path))
	}
}

// sourceOf is the object that a copy is made of.
func (s *Server) sourceOf(q *request) (Object, error) {
	text := q.Header.Get("X-Amz-Copy-Source")
	text, version, _ := strings.Cut(text, "?versionId=")
	path, err := url.PathUnescape(text)
	if err != nil {
		return Object{}, invalid("the header x-amz-copy-source is not escaped well")
	}
	bucket, key, ok := strings.Cut(strings.TrimPrefix(path, "/"), "/")
	if !ok || key == "" {
		return Object{}, invalid("the header x-amz-copy-source must be BUCKET/KEY")
	}
	if _, err := s.Store.Bucket(q.Context(), bucket); err != nil {
		return Object{}, err
	}
	o, err := s.Store.Get(q.Context(), bucket, key, version)
	if err == nil && o.Deleted {
		err = errNoSuchKey
	}
	if err != nil {
		return o, err
	}
	is := strings.Trim(q.Header.Get("X-Amz-Copy-Source-If-Match"), `"`)
	isnt := strings.Trim(q.Header.Get("X-Amz-Copy-Source-If-None-Match"), `"`)
	since, hasSince := parseDate(q.Header.Get("X-Amz-Copy-Source-If-Modified-Since"))
	until, hasUntil := parseDate(q.Header.Get("X-Amz-Copy-Source-If-Unmodified-Since"))
	if is != "" && is != o.ETag || isnt != "" && isnt == o.ETag || hasSince && !o.At.After(since) || hasUntil && is == "" && o.At.After(until.Add(1e9)) {
		return o, errPrecondition
	}
	return o, nil
}

// duplicate copies a part of a file into one that comes in.
func (s *Store) duplicate(in *os.File, o Object, from, size int64) (path string, err error) {
	out, path, err := s.fresh()
	if err != nil {
		return "", err
	}
	if from == 0 && size == o.Size {
		_, err = io.Copy(out, in) // which the system does, where it can
	} else {
		_, err = io.Copy(out, io.NewSectionReader(in, from, size))
	}
	if err == nil {
		err = s.arrived(out)
	}
	if err = errors.Join(err, out.Close()); err != nil {
		s.discard(path)
	}
	return path, err
}

func (s *Server) copyObject(q *request) error {
	from, in, err := s.Store.Read(q.Context(), func() (Object, error) { return s.sourceOf(q) })
	if err != nil {
		return err
	}
	defer in.Close()
	to := Object{Bucket: q.bucket, Key: q.key, Size: from.Size, ETag: from.ETag, Headers: from.Headers, Tags: from.Tags, Sums: from.Sums}
	switch directive := q.Header.Get("X-Amz-Metadata-Directive"); directive {
	case "REPLACE":
		if to.Headers, err = headersOf(q.Request); err != nil {
			return err
		}
	case "", "COPY":
		if from.Bucket == to.Bucket && from.Key == to.Key && from.Latest && q.Header.Get("X-Amz-Tagging-Directive") != "REPLACE" {
			return &Error{Code: "InvalidRequest", Status: 400, Message: "This copy request is illegal because it is trying to copy an object to itself without changing the object's metadata, storage class, website redirect location or encryption attributes."}
		}
	default:
		return invalid("Unknown metadata directive.")
	}
	// Who may read is not copied.
	public, _, err := publicBy(q.Request)
	if err != nil {
		return err
	}
	to.Headers = withACL(to.Headers, public)
	if q.Header.Get("X-Amz-Tagging-Directive") == "REPLACE" {
		if to.Tags, err = tagsOf(q.Header.Get("X-Amz-Tagging")); err != nil {
			return err
		}
	}
	path, err := s.Store.duplicate(in, from, 0, from.Size)
	if err != nil {
		return err
	}
	if to, err = s.Store.Put(q.Context(), to, path, q.must()); err != nil {
		s.Store.discard(path)
		return err
	}
	if to.Version != "null" {
		q.w.Header().Set("X-Amz-Version-Id", to.Version)
	}
	q.answer(200, copied{XMLName: xml.Name{Local: "CopyObjectResult"}, Space: namespace, LastModified: to.At.Format(timeForm), ETag: quoted(to.ETag)})
	return nil
}

type copied struct {
	XMLName      xml.Name
	Space        string `xml:"xmlns,attr"`
	LastModified string
	ETag         string
}

// found returns the object that a request asks for.
func (s *Server) found(q *request) (Object, error) {
	version := q.query.Get("versionId")
	o, err := s.Store.Get(q.Context(), q.bucket, q.key, version)
	if err == nil && o.Deleted {
		q.w.Header().Set("X-Amz-Delete-Marker", "true")
		if version != "" {
			return o, methodNotAllowed()
		}
		err = errNoSuchKey
	}
	return o, err
}

// getObject answers with an object, or with a part of it: conditions and ranges are those
// of HTTP (RFC 9110, sections 13 and 14).
func (s *Server) getObject(q *request) error {
	if q.query.Has("partNumber") {
		return notHere("reading one part of an object by its number")
	}
	o, f, err := s.Store.Read(q.Context(), func() (Object, error) { return s.found(q) })
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil || !info.Mode().IsRegular() || info.Size() != o.Size {
		return &Error{Code: "InternalError", Status: 500, Message: "the file of the object is not as it was written: " + o.path}
	}
	h := q.w.Header()
	for name, v := range o.Headers {
		switch {
		case name == aclHeader:
		case strings.HasPrefix(name, metaPrefix): // which some clients tell in any case
			h[strings.ToLower(name)] = []string{v}
		default:
			h.Set(name, v)
		}
	}
	for param, name := range map[string]string{"response-content-type": "Content-Type", "response-content-language": "Content-Language", "response-expires": "Expires", "response-cache-control": "Cache-Control",
		"response-content-disposition": "Content-Disposition", "response-content-encoding": "Content-Encoding"} {
		if v := q.query.Get(param); v != "" && q.by != nil {
			h.Set(name, v)
		}
	}
	h.Set("ETag", quoted(o.ETag))
	h.Set("Accept-Ranges", "bytes")
	if o.Version != "null" {
		h.Set("X-Amz-Version-Id", o.Version)
	}
	if n := len(o.Tags); n > 0 {
		h.Set("X-Amz-Tagging-Count", strconv.Itoa(n))
	}
	if strings.EqualFold(q.Header.Get("X-Amz-Checksum-Mode"), "enabled") && q.Header.Get("Range") == "" {
		for algorithm, sum := range o.Sums {
			h.Set("X-Amz-Checksum-"+algorithm, sum)
		}
	}
	if strings.Contains(q.Header.Get("Range"), ",") {
		q.Header.Del("Range") // one range is what the protocol has
	}
	// An object is never a page of this server's.
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Content-Security-Policy", "sandbox")
	w := q.w
	if q.Method == http.MethodGet {
		w = &ranged{ResponseWriter: q.w, q: q}
	}
	http.ServeContent(w, q.Request, "", o.At, f)
	if r, ok := w.(*ranged); ok && r.failed != nil {
		return r.failed
	}
	return nil
}

// ranged tells errors of ranges and conditions as the protocol does.
type ranged struct {
	http.ResponseWriter
	q      *request
	failed error
}

func (r *ranged) WriteHeader(status int) {
	switch status {
	case http.StatusRequestedRangeNotSatisfiable:
		r.failed = &Error{Code: "InvalidRange", Status: status, Message: "The requested range is not satisfiable"}
		return
	case http.StatusPreconditionFailed:
		r.failed = errPrecondition
		return
	}
	r.ResponseWriter.WriteHeader(status)
}

func (r *ranged) Write(b []byte) (int, error) {
	if r.failed != nil {
		return len(b), nil
	}
	return r.ResponseWriter.Write(b)
}

// ReadFrom lets the system copy a file to the connection, where it can.
func (r *ranged) ReadFrom(from io.Reader) (int64, error) {
	if r.failed != nil {
		return 0, nil
	}
	return io.Copy(r.ResponseWriter, from)
}

func (s *Server) deleteObject(q *request) error {
	gone, err := s.Store.Remove(q.Context(), q.bucket, q.key, q.query.Get("versionId"), q.must())
	if err != nil {
		return err
	}
	if gone.Deleted {
		q.w.Header().Set("X-Amz-Delete-Marker", "true")
	}
	if gone.Version != "" && gone.Version != "null" {
		q.w.Header().Set("X-Amz-Version-Id", gone.Version)
	}
	q.w.WriteHeader(http.StatusNoContent)
	return nil
}

func (s *Server) deleteMany(q *request) error {
	var in struct {
		XMLName xml.Name `xml:"Delete"`
		Quiet   bool
		Objects []struct{ Key, VersionId string } `xml:"Object"`
	}
	if err := q.decode(&in); err != nil {
		return err
	}
	if len(in.Objects) == 0 || len(in.Objects) > 1000 {
		return errMalformedXML
	}
	type deleted struct {
		Key                   string
		VersionId             string `xml:",omitempty"`
		DeleteMarker          bool   `xml:",omitempty"`
		DeleteMarkerVersionId string `xml:",omitempty"`
	}
	type problem struct{ Key, VersionId, Code, Message string }
	out := struct {
		XMLName xml.Name  `xml:"DeleteResult"`
		Space   string    `xml:"xmlns,attr"`
		Deleted []deleted `xml:",omitempty"`
		Error   []problem `xml:",omitempty"`
	}{Space: namespace}
	for _, o := range in.Objects {
		gone, err := s.Store.Remove(q.Context(), q.bucket, o.Key, o.VersionId, nil)
		if err != nil {
			e := asError(err)
			out.Error = append(out.Error, problem{o.Key, o.VersionId, e.Code, e.Message})
			continue
		}
		d := deleted{Key: o.Key, VersionId: o.VersionId, DeleteMarker: gone.Deleted}
		if gone.Deleted {
			d.DeleteMarkerVersionId = gone.Version
		}
		if !in.Quiet {
			out.Deleted = append(out.Deleted, d)
		}
	}
	q.answer(200, out)
	return nil
}

type tagging struct {
	XMLName xml.Name `xml:"Tagging"`
	Space   string   `xml:"xmlns,attr,omitempty"`
	Tags    []tag    `xml:"TagSet>Tag"`
}

type tag struct{ Key, Value string }

func (s *Server) getTags(q *request) error {
	o, err := s.found(q)
	if err != nil {
		return err
	}
	out := tagging{Space: namespace}
	for name, v := range o.Tags {
		out.Tags = append(out.Tags, tag{name, v})
	}
	slices.SortFunc(out.Tags, func(a, b tag) int { return strings.Compare(a.Key, b.Key) })
	q.answer(200, out)
	return nil
}

func (s *Server) putTags(q *request) error {
	var in tagging
	if err := q.decode(&in); err != nil {
		return err
	}
	tags := map[string]string{}
	for _, t := range in.Tags {
		if _, twice := tags[t.Key]; twice {
			return &Error{Code: "InvalidTag", Status: 400, Message: "Cannot provide multiple Tags with the same key"}
		}
		tags[t.Key] = t.Value
	}
	if err := checkTags(tags); err != nil {
		return err
	}
	o, err := s.found(q)
	if err != nil {
		return err
	}
	return s.Store.Retag(q.Context(), o, tags)
}

func (s *Server) deleteTags(q *request) error {
	o, err := s.found(q)
	if err != nil {
		return err
	}
	q.w.WriteHeader(http.StatusNoContent)
	return s.Store.Retag(q.Context(), o, nil)
}

// rangeOf reads the range of a copy: bytes=FROM-TO.
func rangeOf(text string, size int64) (from, length int64, err error) {
	if text == "" {
		return 0, size, nil
	}
	var to int64
	if n, err := fmt.Sscanf(text, "bytes=%d-%d", &from, &to); n != 2 || err != nil || from < 0 || to < from || to >= size {
		return 0, 0, &Error{Code: "InvalidArgument", Status: 400, Message: "The x-amz-copy-source-range value must be of the form bytes=first-last where first and last are the zero-based offsets of the first and last bytes to copy"}
	}
	return from, to - from + 1, nil
}

// digest computes the ETag of a file.
func (s *Store) digest(path string) (size int64, etag string, err error) {
	f, err := s.root.Open(path)
	if err != nil {
		return 0, "", err
	}
	defer f.Close()
	h := md5.New()
	size, err = io.Copy(h, f)
	return size, hex.EncodeToString(h.Sum(nil)), err
}
