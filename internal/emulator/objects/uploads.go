package objects

import (
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"encoding/xml"
	"errors"
	"io"
	"net/http"
	"os"
	"strconv"
	"strings"
	"time"
)

// upload is an object that comes in parts.
type upload struct {
	id, bucket, key string
	began           time.Time
	about           about
}

// part is one of its parts.
type part struct {
	number int
	size   int64
	etag   string
	at     time.Time
	path   string
	sums   map[string]string
}

func (s *Store) beginUpload(ctx context.Context, bucket, key string, a about) (string, error) {
	id := rand.Text()
	_, err := s.db.ExecContext(ctx, "INSERT INTO uploads VALUES (?, ?, ?, ?, ?)", id, bucket, []byte(key), s.now().UnixMilli(), asJSON(a))
	return id, err
}

func (s *Store) upload(ctx context.Context, bucket, key, id string) (u upload, err error) {
	var began int64
	var k []byte
	var text string
	err = s.db.QueryRowContext(ctx, "SELECT id, bucket, key, began, about FROM uploads WHERE id = ? AND bucket = ? AND key = ?", id, bucket, []byte(key)).Scan(&u.id, &u.bucket, &k, &began, &text)
	if errors.Is(err, sql.ErrNoRows) {
		return u, errNoSuchUpload
	}
	if err == nil {
		err = json.Unmarshal([]byte(text), &u.about)
	}
	u.key, u.began = string(k), time.UnixMilli(began).UTC()
	return u, err
}

func (s *Store) uploads(ctx context.Context, bucket, prefix string) (out []upload, err error) {
	rows, err := s.db.QueryContext(ctx, "SELECT id, key, began FROM uploads WHERE bucket = ? ORDER BY key, began LIMIT 1000", bucket)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		u := upload{bucket: bucket}
		var began int64
		var key []byte
		if err := rows.Scan(&u.id, &key, &began); err != nil {
			return nil, err
		}
		u.key, u.began = string(key), time.UnixMilli(began).UTC()
		if strings.HasPrefix(u.key, prefix) {
			out = append(out, u)
		}
	}
	return out, rows.Err()
}

// putPart adds a part, or replaces the one of its number.
func (s *Store) putPart(ctx context.Context, id string, p part) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	var there int
	if err := s.db.QueryRowContext(ctx, "SELECT count(*) FROM uploads WHERE id = ?", id).Scan(&there); err != nil {
		return err
	}
	if there == 0 {
		return errNoSuchUpload
	}
	var old string
	if err := s.db.QueryRowContext(ctx, "SELECT path FROM parts WHERE upload = ? AND number = ?", id, p.number).Scan(&old); err != nil && !errors.Is(err, sql.ErrNoRows) {
		return err
	}
	_, err := s.db.ExecContext(ctx, "INSERT INTO parts VALUES (?, ?, ?, ?, ?, ?, ?) ON CONFLICT (upload, number) DO UPDATE SET size = excluded.size, etag = excluded.etag, at = excluded.at, path = excluded.path, about = excluded.about",
		id, p.number, p.size, p.etag, s.now().UnixMilli(), p.path, asJSON(about{Sums: p.sums}))
	if err == nil && old != "" {
		_ = os.Remove(s.file(old))
	}
	return err
}

func (s *Store) parts(ctx context.Context, id string) (out []part, err error) {
	rows, err := s.db.QueryContext(ctx, "SELECT number, size, etag, at, path, about FROM parts WHERE upload = ? ORDER BY number", id)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var p part
		var at int64
		var text string
		if err := rows.Scan(&p.number, &p.size, &p.etag, &at, &p.path, &text); err != nil {
			return nil, err
		}
		var a about
		if err := json.Unmarshal([]byte(text), &a); err != nil {
			return nil, err
		}
		p.at, p.sums = time.UnixMilli(at).UTC(), a.Sums
		out = append(out, p)
	}
	return out, rows.Err()
}

// endUpload forgets an upload with its parts.
func (s *Store) endUpload(ctx context.Context, id string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	all, err := s.parts(ctx, id)
	if err != nil {
		return err
	}
	for _, text := range []string{"DELETE FROM parts WHERE upload = ?", "DELETE FROM uploads WHERE id = ?"} {
		if _, err := s.db.ExecContext(ctx, text, id); err != nil {
			return err
		}
	}
	for _, p := range all {
		_ = os.Remove(s.file(p.path)) // or it is found at the next start
	}
	return nil
}

// join writes parts behind each other into one file.
func (s *Store) join(all []part) (path string, size int64, err error) {
	out, path, err := s.fresh()
	if err != nil {
		return "", 0, err
	}
	made := path
	defer func() {
		if err = errors.Join(err, out.Close()); err != nil {
			_ = os.Remove(s.file(made))
		}
	}()
	for _, p := range all {
		in, err := s.root.Open(p.path)
		if err != nil {
			return "", 0, err
		}
		n, err := io.Copy(out, in) // which the system does, where it can
		if err = errors.Join(err, in.Close()); err != nil {
			return "", 0, err
		}
		size += n
	}
	return path, size, s.arrived(out)
}

func (s *Server) beginUpload(q *request) error {
	headers, err := headersOf(q.Request)
	if err != nil {
		return err
	}
	tags, err := tagsOf(q.Header.Get("X-Amz-Tagging"))
	if err != nil {
		return err
	}
	id, err := s.Store.beginUpload(q.Context(), q.bucket, q.key, about{Headers: headers, Tags: tags})
	if err != nil {
		return err
	}
	q.answer(200, struct {
		XMLName               xml.Name `xml:"InitiateMultipartUploadResult"`
		Space                 string   `xml:"xmlns,attr"`
		Bucket, Key, UploadId string
	}{Space: namespace, Bucket: q.bucket, Key: q.key, UploadId: id})
	return nil
}

func (s *Server) current(q *request) (upload, error) {
	return s.Store.upload(q.Context(), q.bucket, q.key, q.query.Get("uploadId"))
}

func (s *Server) putPart(q *request) error {
	u, err := s.current(q)
	if err != nil {
		return err
	}
	n, err := strconv.Atoi(q.query.Get("partNumber"))
	if err != nil || n < 1 || n > 10_000 {
		return invalid("Part number must be an integer between 1 and 10000, inclusive")
	}
	p := part{number: n}
	if q.Header.Get("X-Amz-Copy-Source") != "" {
		return s.copyPart(q, u, p)
	}
	got, err := s.receive(q.Request, q.by)
	if err != nil {
		return err
	}
	p.size, p.etag, p.path, p.sums = got.size, hex.EncodeToString(got.md5), got.path, got.sums
	if err := s.Store.putPart(q.Context(), u.id, p); err != nil {
		_ = os.Remove(s.Store.file(got.path))
		return err
	}
	h := q.w.Header()
	h.Set("ETag", quoted(p.etag))
	for algorithm, sum := range p.sums {
		h.Set("X-Amz-Checksum-"+algorithm, sum)
	}
	return nil
}

// copyPart makes a part of another object, or of a range of it.
func (s *Server) copyPart(q *request, u upload, p part) error {
	from, in, err := s.Store.Read(q.Context(), func() (Object, error) { return s.sourceOf(q) })
	if err != nil {
		return err
	}
	defer in.Close()
	at, size, err := rangeOf(q.Header.Get("X-Amz-Copy-Source-Range"), from.Size)
	if err != nil {
		return err
	}
	if p.path, err = s.Store.duplicate(in, from, at, size); err != nil {
		return err
	}
	if p.size, p.etag, err = s.Store.digest(p.path); err == nil {
		err = s.Store.putPart(q.Context(), u.id, p)
	}
	if err != nil {
		_ = os.Remove(s.Store.file(p.path))
		return err
	}
	q.answer(200, copied{XMLName: xml.Name{Local: "CopyPartResult"}, Space: namespace, LastModified: s.now().UTC().Format(timeForm), ETag: quoted(p.etag)})
	return nil
}

func (s *Server) listParts(q *request) error {
	u, err := s.current(q)
	if err != nil {
		return err
	}
	all, err := s.Store.parts(q.Context(), u.id)
	if err != nil {
		return err
	}
	after, _ := strconv.Atoi(q.query.Get("part-number-marker"))
	limit := 1000
	if n, err := strconv.Atoi(q.query.Get("max-parts")); err == nil && n > 0 && n < 1000 {
		limit = n
	}
	type listedPart struct {
		PartNumber   int
		LastModified string
		ETag         string
		Size         int64
	}
	out := struct {
		XMLName               xml.Name `xml:"ListPartsResult"`
		Space                 string   `xml:"xmlns,attr"`
		Bucket, Key, UploadId string
		Initiator, Owner      owner
		StorageClass          string
		PartNumberMarker      int
		NextPartNumberMarker  int
		MaxParts              int
		IsTruncated           bool
		Part                  []listedPart
	}{Space: namespace, Bucket: q.bucket, Key: q.key, UploadId: u.id, Initiator: me, Owner: me, StorageClass: "STANDARD", PartNumberMarker: after, MaxParts: limit}
	for _, p := range all {
		if p.number <= after {
			continue
		}
		if len(out.Part) == limit {
			out.IsTruncated = true
			break
		}
		out.Part = append(out.Part, listedPart{p.number, p.at.Format(timeForm), quoted(p.etag), p.size})
		out.NextPartNumberMarker = p.number
	}
	q.answer(200, out)
	return nil
}

func (s *Server) listUploads(q *request) error {
	if q.query.Get("delimiter") != "" {
		return notHere("a list of uploads by a delimiter")
	}
	all, err := s.Store.uploads(q.Context(), q.bucket, q.query.Get("prefix"))
	if err != nil {
		return err
	}
	type listedUpload struct {
		Key, UploadId    string
		Initiator, Owner owner
		StorageClass     string
		Initiated        string
	}
	out := struct {
		XMLName     xml.Name `xml:"ListMultipartUploadsResult"`
		Space       string   `xml:"xmlns,attr"`
		Bucket      string
		Prefix      string
		MaxUploads  int
		IsTruncated bool
		Upload      []listedUpload
	}{Space: namespace, Bucket: q.bucket, Prefix: q.query.Get("prefix"), MaxUploads: 1000}
	for _, u := range all {
		out.Upload = append(out.Upload, listedUpload{u.key, u.id, me, me, "STANDARD", u.began.Format(timeForm)})
	}
	q.answer(200, out)
	return nil
}

func (s *Server) abortUpload(q *request) error {
	u, err := s.current(q)
	if err == nil {
		err = s.Store.endUpload(q.Context(), u.id)
	}
	if err != nil {
		return err
	}
	q.w.WriteHeader(http.StatusNoContent)
	return nil
}

// leastPart is how large each part but the last must be.
const leastPart = 5 << 20

func (s *Server) completeUpload(q *request) error {
	u, err := s.current(q)
	if err != nil {
		return err
	}
	var in struct {
		XMLName xml.Name `xml:"CompleteMultipartUpload"`
		Parts   []struct {
			PartNumber int
			ETag       string
		} `xml:"Part"`
	}
	if err := q.decode(&in); err != nil {
		return err
	}
	if len(in.Parts) == 0 {
		return errMalformedXML
	}
	there, err := s.Store.parts(q.Context(), u.id)
	if err != nil {
		return err
	}
	byNumber := map[int]part{}
	for _, p := range there {
		byNumber[p.number] = p
	}
	var all []part
	var etags []string
	for i := range in.Parts[1:] {
		if in.Parts[i+1].PartNumber <= in.Parts[i].PartNumber {
			return &Error{Code: "InvalidPartOrder", Status: 400, Message: "The list of parts was not in ascending order. The parts list must be specified in order by part number."}
		}
	}
	for i, wanted := range in.Parts {
		p, ok := byNumber[wanted.PartNumber]
		switch {
		case !ok || strings.Trim(wanted.ETag, `"`) != p.etag:
			return &Error{Code: "InvalidPart", Status: 400, Message: "One or more of the specified parts could not be found. The part might not have been uploaded, or the specified entity tag might not have matched the part's entity tag."}
		case i < len(in.Parts)-1 && p.size < leastPart:
			return &Error{Code: "EntityTooSmall", Status: 400, Message: "Your proposed upload is smaller than the minimum allowed size"}
		}
		all = append(all, p)
		etags = append(etags, p.etag)
	}
	path, size, err := s.Store.join(all)
	if err != nil {
		return err
	}
	o, err := s.Store.Put(q.Context(), Object{Bucket: q.bucket, Key: q.key, Size: size, ETag: combined(etags), Headers: u.about.Headers, Tags: u.about.Tags}, path, q.must())
	if err != nil {
		s.Store.discard(path)
		return err
	}
	if err := s.Store.endUpload(q.Context(), u.id); err != nil {
		return err
	}
	if o.Version != "null" {
		q.w.Header().Set("X-Amz-Version-Id", o.Version)
	}
	q.answer(200, struct {
		XMLName                     xml.Name `xml:"CompleteMultipartUploadResult"`
		Space                       string   `xml:"xmlns,attr"`
		Location, Bucket, Key, ETag string
	}{Space: namespace, Location: "http://" + q.Host + "/" + q.bucket + "/" + escape(q.key, false), Bucket: q.bucket, Key: q.key, ETag: quoted(o.ETag)})
	return nil
}
