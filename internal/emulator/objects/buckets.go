package objects

import (
	"encoding/base64"
	"encoding/xml"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"neighbour/internal/core/machine/localname"
)

const namespace = "http://s3.amazonaws.com/doc/2006-03-01/"

const timeForm = "2006-01-02T15:04:05.000Z"

type owner struct{ ID, DisplayName string }

var me = owner{"neighbour", "neighbour"}

func (s *Server) listBuckets(q *request) error {
	all, err := s.Store.Buckets(q.Context())
	if err != nil {
		return err
	}
	type bucket struct{ Name, CreationDate string }
	out := struct {
		XMLName xml.Name `xml:"ListAllMyBucketsResult"`
		Space   string   `xml:"xmlns,attr"`
		Owner   owner
		Buckets []bucket `xml:"Buckets>Bucket"`
	}{Space: namespace, Owner: me}
	for _, b := range all {
		out.Buckets = append(out.Buckets, bucket{b.Name, b.Created.Format(timeForm)})
	}
	q.answer(200, out)
	return nil
}

func (s *Server) createBucket(q *request) error {
	if _, err := s.Store.Bucket(q.Context(), q.bucket); err == nil {
		return &Error{Code: "BucketAlreadyOwnedByYou", Status: 409, Message: "Your previous request to create the named bucket succeeded and you already own it."}
	}
	if err := s.Store.SaveBucket(q.Context(), Bucket{Name: q.bucket, Public: strings.HasPrefix(q.Header.Get("X-Amz-Acl"), "public-read")}); err != nil {
		return err
	}
	q.w.Header().Set("Location", "/"+q.bucket)
	return nil
}

func (s *Server) deleteBucket(q *request) error {
	if err := s.Store.RemoveBucket(q.Context(), q.bucket); err != nil {
		return err
	}
	q.w.WriteHeader(http.StatusNoContent)
	return nil
}

func (s *Server) headBucket(q *request) error {
	q.w.Header().Set("X-Amz-Bucket-Region", s.Region)
	return nil
}

func (s *Server) location(q *request) error {
	region := s.Region
	if region == "us-east-1" { // which the protocol leaves out
		region = ""
	}
	q.answer(200, struct {
		XMLName xml.Name `xml:"LocationConstraint"`
		Space   string   `xml:"xmlns,attr"`
		Region  string   `xml:",chardata"`
	}{Space: namespace, Region: region})
	return nil
}

type versioning struct {
	XMLName xml.Name `xml:"VersioningConfiguration"`
	Space   string   `xml:"xmlns,attr,omitempty"`
	Status  string   `xml:",omitempty"`
}

func (s *Server) getVersioning(q *request) error {
	b, err := s.Store.Bucket(q.Context(), q.bucket)
	q.answer(200, versioning{Space: namespace, Status: b.Versions})
	return err
}

// change changes what there is to know of a bucket.
func (s *Server) change(q *request, do func(*Bucket)) error {
	return s.Store.ChangeBucket(q.Context(), q.bucket, do)
}

func (s *Server) putVersioning(q *request) error {
	var v versioning
	if err := q.decode(&v); err != nil {
		return err
	}
	if v.Status != "Enabled" && v.Status != "Suspended" {
		return errMalformedXML
	}
	return s.change(q, func(b *Bucket) { b.Versions = v.Status })
}

// content is an object in a list.
type content struct {
	Key          string
	VersionId    string `xml:",omitempty"`
	IsLatest     *bool  `xml:",omitempty"`
	LastModified string
	ETag         string `xml:",omitempty"`
	Size         *int64 `xml:",omitempty"`
	Owner        *owner `xml:",omitempty"`
	StorageClass string `xml:",omitempty"`
}

type prefix struct{ Prefix string }

// listed is the answer to a list of objects, of both versions of the question.
type listed struct {
	XMLName               xml.Name
	Space                 string `xml:"xmlns,attr"`
	Name                  string
	Prefix                string
	Marker                *string   `xml:",omitempty"`
	NextMarker            string    `xml:",omitempty"`
	StartAfter            string    `xml:",omitempty"`
	ContinuationToken     string    `xml:",omitempty"`
	NextContinuationToken string    `xml:",omitempty"`
	KeyMarker             *string   `xml:",omitempty"`
	NextKeyMarker         string    `xml:",omitempty"`
	NextVersionIdMarker   string    `xml:",omitempty"`
	KeyCount              *int      `xml:",omitempty"`
	MaxKeys               int       `xml:",omitempty"`
	Delimiter             string    `xml:",omitempty"`
	EncodingType          string    `xml:",omitempty"`
	IsTruncated           bool      ``
	Contents              []content `xml:",omitempty"`
	Versions              []content `xml:"Version,omitempty"`
	Marks                 []content `xml:"DeleteMarker,omitempty"`
	CommonPrefixes        []prefix  `xml:",omitempty"`
}

// listing reads what both lists have.
func (q *request) listing() (l Listing, encode func(string) string, err error) {
	l = Listing{Bucket: q.bucket, Prefix: q.query.Get("prefix"), Delimiter: q.query.Get("delimiter"), Limit: 1000}
	if text := q.query.Get("max-keys"); text != "" {
		n, err := strconv.Atoi(text)
		if err != nil || n < 0 {
			return l, nil, invalid("max-keys must be a number from 0")
		}
		l.Limit = min(n, 1000)
	}
	encode = func(text string) string { return text }
	switch q.query.Get("encoding-type") {
	case "url":
		encode = func(text string) string { return strings.ReplaceAll(url.QueryEscape(text), "%2F", "/") }
	case "":
	default:
		return l, nil, invalid("Invalid Encoding Method specified in Request")
	}
	return l, encode, nil
}

// placeIn is a place to go on from, as the lists that name one have it: a key, or what keys
// have in common.
func placeIn(next string) string {
	for strings.HasSuffix(next, "\xff") {
		next = next[:len(next)-1]
	}
	return next
}

func quoted(etag string) string { return `"` + etag + `"` }

func (s *Server) listObjects(q *request) error {
	l, encode, err := q.listing()
	if err != nil {
		return err
	}
	out := listed{XMLName: xml.Name{Local: "ListBucketResult"}, Space: namespace, Name: q.bucket, Prefix: encode(l.Prefix), Delimiter: encode(l.Delimiter), MaxKeys: l.Limit, EncodingType: q.query.Get("encoding-type")}
	second := q.query.Get("list-type") == "2"
	if second {
		l.After = q.query.Get("start-after")
		out.StartAfter = encode(l.After)
		if token := q.query.Get("continuation-token"); token != "" {
			b, err := base64.RawURLEncoding.DecodeString(token)
			if err != nil {
				return invalid("The continuation token provided is incorrect")
			}
			l.After, out.ContinuationToken = string(b), token
		}
	} else {
		l.After = q.query.Get("marker")
		marker := encode(l.After)
		out.Marker = &marker
		if l.Delimiter != "" && strings.HasSuffix(l.After, l.Delimiter) {
			l.After = string(lastWith(l.After))
		}
	}
	all, common, next, more, err := s.Store.List(q.Context(), l)
	if err != nil {
		return err
	}
	more = more && l.Limit > 0
	for _, o := range all {
		c := content{Key: encode(o.Key), LastModified: o.At.Format(timeForm), ETag: quoted(o.ETag), Size: &o.Size, StorageClass: "STANDARD"}
		if !second || q.query.Get("fetch-owner") == "true" {
			c.Owner = &me
		}
		out.Contents = append(out.Contents, c)
	}
	for _, p := range common {
		out.CommonPrefixes = append(out.CommonPrefixes, prefix{encode(p)})
	}
	out.IsTruncated = more
	if second {
		n := len(all) + len(common)
		out.KeyCount = &n
		if more {
			out.NextContinuationToken = base64.RawURLEncoding.EncodeToString([]byte(next))
		}
	} else if more {
		out.NextMarker = encode(placeIn(next))
	}
	q.answer(200, out)
	return nil
}

func (s *Server) listVersions(q *request) error {
	l, encode, err := q.listing()
	if err != nil {
		return err
	}
	l.Versions, l.After = true, q.query.Get("key-marker")
	if l.Delimiter != "" && strings.HasSuffix(l.After, l.Delimiter) {
		l.After = string(lastWith(l.After))
	}
	out := listed{XMLName: xml.Name{Local: "ListVersionsResult"}, Space: namespace, Name: q.bucket, Prefix: encode(l.Prefix), Delimiter: encode(l.Delimiter), MaxKeys: l.Limit, EncodingType: q.query.Get("encoding-type")}
	marker := encode(l.After)
	out.KeyMarker = &marker
	all, common, next, more, err := s.Store.List(q.Context(), l)
	if err != nil {
		return err
	}
	for _, o := range all {
		c := content{Key: encode(o.Key), VersionId: o.Version, IsLatest: &o.Latest, LastModified: o.At.Format(timeForm), Owner: &me}
		if o.Deleted {
			out.Marks = append(out.Marks, c)
			continue
		}
		c.ETag, c.Size, c.StorageClass = quoted(o.ETag), &o.Size, "STANDARD"
		out.Versions = append(out.Versions, c)
	}
	for _, p := range common {
		out.CommonPrefixes = append(out.CommonPrefixes, prefix{encode(p)})
	}
	if out.IsTruncated = more && l.Limit > 0; out.IsTruncated {
		out.NextKeyMarker = encode(placeIn(next))
	}
	q.answer(200, out)
	return nil
}

// CORSRule says which pages of other sites may use a bucket.
type CORSRule struct {
	ID             string   `xml:",omitempty" json:",omitempty"`
	AllowedOrigins []string `xml:"AllowedOrigin"`
	AllowedMethods []string `xml:"AllowedMethod"`
	AllowedHeaders []string `xml:"AllowedHeader,omitempty" json:",omitempty"`
	ExposeHeaders  []string `xml:"ExposeHeader,omitempty" json:",omitempty"`
	MaxAgeSeconds  int      `xml:",omitempty" json:",omitempty"`
}

type corsRules struct {
	XMLName xml.Name   `xml:"CORSConfiguration"`
	Space   string     `xml:"xmlns,attr,omitempty"`
	Rules   []CORSRule `xml:"CORSRule"`
}

func (s *Server) getCORS(q *request) error {
	b, err := s.Store.Bucket(q.Context(), q.bucket)
	if err == nil && len(b.CORS) == 0 {
		err = &Error{Code: "NoSuchCORSConfiguration", Status: 404, Message: "The CORS configuration does not exist"}
	}
	if err != nil {
		return err
	}
	q.answer(200, corsRules{Space: namespace, Rules: b.CORS})
	return nil
}

func (s *Server) putCORS(q *request) error {
	var c corsRules
	if err := q.decode(&c); err != nil {
		return err
	}
	for _, r := range c.Rules {
		if len(r.AllowedOrigins) == 0 || len(r.AllowedMethods) == 0 {
			return errMalformedXML
		}
	}
	return s.change(q, func(b *Bucket) { b.CORS = c.Rules })
}

func (s *Server) deleteCORS(q *request) error {
	q.w.WriteHeader(http.StatusNoContent)
	return s.change(q, func(b *Bucket) { b.CORS = nil })
}

// like reports whether a text is what a pattern with one * means.
func like(pattern, text string) bool {
	before, after, some := strings.Cut(pattern, "*")
	if !some {
		return pattern == text
	}
	return len(text) >= len(before)+len(after) && strings.HasPrefix(text, before) && strings.HasSuffix(text, after)
}

// here reports whether a page is one of this machine's.
func here(origin string) bool {
	u, err := url.Parse(origin)
	return err == nil && localname.Is(u.Host)
}

// preflight sets what lets pages of other sites use a bucket, and answers their question
// whether they may. Without rules of its own a bucket may be used by this machine's pages.
func (s *Server) preflight(q *request) (done bool) {
	origin := q.Header.Get("Origin")
	if origin == "" {
		return false
	}
	method := q.Method
	asks := method == http.MethodOptions
	if asks {
		method = q.Header.Get("Access-Control-Request-Method")
	}
	b, err := s.Store.Bucket(q.Context(), q.bucket)
	rules := b.CORS
	if err == nil && len(rules) == 0 && here(origin) {
		rules = []CORSRule{{AllowedOrigins: []string{origin}, AllowedMethods: []string{"GET", "HEAD", "PUT", "POST", "DELETE"}, AllowedHeaders: []string{"*"}, ExposeHeaders: []string{"ETag", "x-amz-version-id", "x-amz-request-id"}, MaxAgeSeconds: 60}}
	}
	h := q.w.Header()
	h.Add("Vary", "Origin, Access-Control-Request-Headers, Access-Control-Request-Method")
	for _, r := range rules {
		if !slices.ContainsFunc(r.AllowedOrigins, func(p string) bool { return like(p, origin) }) || !slices.Contains(r.AllowedMethods, method) {
			continue
		}
		allowed := true
		for name := range strings.SplitSeq(strings.ToLower(q.Header.Get("Access-Control-Request-Headers")), ",") {
			name = strings.TrimSpace(name)
			allowed = allowed && (name == "" || slices.ContainsFunc(r.AllowedHeaders, func(p string) bool { return like(strings.ToLower(p), name) }))
		}
		if asks && !allowed {
			continue
		}
		to := origin
		if slices.Contains(r.AllowedOrigins, "*") {
			to = "*"
		} else {
			h.Set("Access-Control-Allow-Credentials", "true")
		}
		h.Set("Access-Control-Allow-Origin", to)
		h.Set("Access-Control-Allow-Methods", strings.Join(r.AllowedMethods, ", "))
		if len(r.ExposeHeaders) > 0 {
			h.Set("Access-Control-Expose-Headers", strings.Join(r.ExposeHeaders, ", "))
		}
		if asks {
			if wanted := q.Header.Get("Access-Control-Request-Headers"); wanted != "" {
				h.Set("Access-Control-Allow-Headers", wanted)
			}
			if r.MaxAgeSeconds > 0 {
				h.Set("Access-Control-Max-Age", strconv.Itoa(r.MaxAgeSeconds))
			}
		}
		if asks {
			q.w.WriteHeader(http.StatusOK)
		}
		return asks
	}
	if asks {
		q.fail(&Error{Code: "AccessForbidden", Status: 403, Message: "CORSResponse: This CORS request is not allowed. This is usually because the evalution of Origin, request method / Access-Control-Request-Method or Access-Control-Request-Headers are not whitelisted by the resource's CORS spec."})
	}
	return asks
}

// parseDate reads a date of HTTP.
func parseDate(text string) (time.Time, bool) {
	t, err := http.ParseTime(text)
	return t, err == nil
}
