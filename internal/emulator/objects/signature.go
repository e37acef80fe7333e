package objects

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Keys are those with which requests are signed.
type Keys struct{ Access, Secret string }

// skew is how far a client's clock may be off.
const skew = 15 * time.Minute

// algorithm is that of version 4 of the signatures.
const algorithm = "AWS4-HMAC-SHA256"

// signed is a signature that was checked.
type signed struct {
	key       []byte // with which chunks are signed
	scope     string
	at        string // as the client wrote it
	signature string // the seed of those of the chunks
	payload   string // what the client says of the body
}

func denied(code, message string) *Error { return &Error{Code: code, Status: 403, Message: message} }

func unknownKey(access string) *Error {
	e := denied("InvalidAccessKeyId", "The AWS Access Key Id you provided does not exist in our records.")
	e.AWSAccessKeyId = access
	return e
}

func tooSkewed(now time.Time) *Error {
	e := denied("RequestTimeTooSkewed", "The difference between the request time and the current time is too large.")
	e.ServerTime, e.MaxAllowedSkewMillis = now.UTC().Format(time.RFC3339), int(skew.Milliseconds())
	return e
}

func mismatch() *Error {
	return denied("SignatureDoesNotMatch", "The request signature we calculated does not match the signature you provided. Check your key and signing method.")
}

// unsigned is what a client says of a body that its signature doesn't cover.
const unsigned = "UNSIGNED-PAYLOAD"

// check makes sure that a request is signed with the keys. It returns nil if it is not
// signed at all.
func (k Keys) check(r *http.Request, inHost string, now time.Time) (*signed, error) {
	query := r.URL.Query()
	switch {
	case query.Get("X-Amz-Algorithm") != "" || query.Get("X-Amz-Signature") != "":
		return k.checkLink(r, query, now)
	case strings.HasPrefix(r.Header.Get("Authorization"), version2) || query.Get("Signature") != "" && query.Get("AWSAccessKeyId") != "":
		return k.checkVersion2(r, inHost, query, now)
	case r.Header.Get("Authorization") != "":
		return k.checkHeader(r, now)
	}
	return nil, nil
}

// credential are the parts of a credential: key/date/region/service/aws4_request.
func (k Keys) credential(text string) (scope []string, err error) {
	access, rest, _ := strings.Cut(text, "/")
	scope = strings.Split(rest, "/")
	if access != k.Access {
		return nil, unknownKey(access)
	}
	if len(scope) != 4 || scope[2] != "s3" || scope[3] != "aws4_request" {
		return nil, &Error{Code: "AuthorizationHeaderMalformed", Status: 400, Message: "the credential must be KEY/DATE/REGION/s3/aws4_request"}
	}
	return scope, nil
}

func (k Keys) checkHeader(r *http.Request, now time.Time) (*signed, error) {
	header, ok := strings.CutPrefix(r.Header.Get("Authorization"), algorithm+" ")
	if !ok {
		return nil, &Error{Code: "InvalidRequest", Status: 400, Message: "The authorization mechanism you have provided is not supported. Please use " + algorithm + "."}
	}
	parts := map[string]string{}
	for part := range strings.SplitSeq(header, ",") {
		name, v, _ := strings.Cut(strings.TrimSpace(part), "=")
		parts[name] = v
	}
	scope, err := k.credential(parts["Credential"])
	if err != nil {
		return nil, err
	}
	at := r.Header.Get("X-Amz-Date")
	if at == "" {
		if t, err := http.ParseTime(r.Header.Get("Date")); err == nil {
			at = t.UTC().Format("20060102T150405Z")
		}
	}
	t, err := time.Parse("20060102T150405Z", at)
	if err != nil {
		return nil, denied("AccessDenied", "AWS authentication requires a valid Date or x-amz-date header")
	}
	if d := now.Sub(t); d > skew || d < -skew {
		return nil, tooSkewed(now)
	}
	payload := r.Header.Get("X-Amz-Content-Sha256")
	if payload == "" {
		return nil, &Error{Code: "InvalidRequest", Status: 400, Message: "Missing required header for this request: x-amz-content-sha256"}
	}
	names := strings.Split(parts["SignedHeaders"], ";")
	if !slices.Contains(names, "host") {
		return nil, denied("AccessDenied", "the header host must be signed")
	}
	return k.compare(r, r.URL.Query(), names, payload, at, scope, parts["Signature"])
}

// checkLink checks a link that was signed beforehand.
func (k Keys) checkLink(r *http.Request, query url.Values, now time.Time) (*signed, error) {
	for _, name := range []string{"X-Amz-Algorithm", "X-Amz-Credential", "X-Amz-Date", "X-Amz-Expires", "X-Amz-SignedHeaders", "X-Amz-Signature"} {
		if query.Get(name) == "" {
			return nil, &Error{Code: "AuthorizationQueryParametersError", Status: 400, Message: "Query-string authentication version 4 requires the X-Amz-Algorithm, X-Amz-Credential, X-Amz-Signature, X-Amz-Date, X-Amz-SignedHeaders, and X-Amz-Expires parameters."}
		}
	}
	scope, err := k.credential(query.Get("X-Amz-Credential"))
	if err != nil {
		return nil, err
	}
	at := query.Get("X-Amz-Date")
	t, dateErr := time.Parse("20060102T150405Z", at)
	seconds, err := strconv.Atoi(query.Get("X-Amz-Expires"))
	switch {
	case query.Get("X-Amz-Algorithm") != algorithm || dateErr != nil:
		return nil, &Error{Code: "AuthorizationQueryParametersError", Status: 400, Message: "X-Amz-Algorithm only supports " + algorithm + ", and X-Amz-Date must be in the form 20261125T140500Z"}
	case err != nil || seconds < 1 || seconds > 7*24*3600:
		return nil, &Error{Code: "AuthorizationQueryParametersError", Status: 400, Message: "X-Amz-Expires must be between 1 and 604800 seconds"}
	case now.Before(t.Add(-skew)):
		return nil, denied("AccessDenied", "Request is not valid yet")
	case now.After(t.Add(time.Duration(seconds) * time.Second)):
		return nil, denied("AccessDenied", "Request has expired")
	}
	given := query.Get("X-Amz-Signature")
	query.Del("X-Amz-Signature")
	payload := r.Header.Get("X-Amz-Content-Sha256")
	if in := query.Get("X-Amz-Content-Sha256"); in != "" {
		payload = in
	}
	if payload == "" || !slices.Contains(strings.Split(query.Get("X-Amz-SignedHeaders"), ";"), "x-amz-content-sha256") {
		payload = unsigned
	}
	return k.compare(r, query, strings.Split(query.Get("X-Amz-SignedHeaders"), ";"), payload, at, scope, given)
}

// compare computes the signature, and compares it to the one that was given.
func (k Keys) compare(r *http.Request, query url.Values, names []string, payload, at string, scope []string, given string) (*signed, error) {
	if e := unsignedHeaders(r, names); e != nil {
		return nil, e
	}
	var headers strings.Builder
	for _, name := range names {
		v := strings.Join(r.Header.Values(name), ",")
		switch name {
		case "host":
			v = r.Host
		case "content-length":
			v = strconv.FormatInt(r.ContentLength, 10)
		}
		fmt.Fprintf(&headers, "%s:%s\n", name, strings.Join(strings.Fields(v), " "))
	}
	if !strings.HasPrefix(at, scope[0]) {
		return nil, denied("AccessDenied", "the credential is of another day than the request")
	}
	// The path is signed as it was sent.
	path := r.URL.EscapedPath()
	if path == "" {
		path = "/"
	}
	canonical := strings.Join([]string{r.Method, canonicalPath(path), canonicalQuery(query), headers.String(), strings.Join(names, ";"), payload}, "\n")
	whole := strings.Join(scope, "/")
	is := k.signature(canonical, at, scope)
	if subtle.ConstantTimeCompare([]byte(is), []byte(given)) != 1 {
		e := mismatch()
		e.StringToSign, e.CanonicalRequest, e.SignatureProvided = strings.Join([]string{algorithm, at, whole, sumOf([]byte(canonical))}, "\n"), canonical, given
		return nil, e
	}
	return &signed{key: k.key(scope), scope: whole, at: at, signature: is, payload: payload}, nil
}

// unsignedHeaders refuses a request with headers that change what it does and that who signed it did
// not sign: whoever has a link for one request could add to it. The sum of the contents is no such
// header.
func unsignedHeaders(r *http.Request, names []string) *Error {
	var without []string
	for name := range r.Header {
		name = strings.ToLower(name)
		if strings.HasPrefix(name, "x-amz-") && name != "x-amz-content-sha256" && !slices.Contains(names, name) {
			without = append(without, name)
		}
	}
	if len(without) == 0 {
		return nil
	}
	slices.Sort(without)
	e := denied("AccessDenied", "There were headers present in the request which were not signed")
	e.HeadersNotSigned = strings.Join(without, ", ")
	return e
}

func keyed(key []byte, text string) []byte {
	h := hmac.New(sha256.New, key)
	h.Write([]byte(text))
	return h.Sum(nil)
}

func sumOf(b []byte) string {
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

// escape writes what is not a letter, a digit, or one of -._~ as %XX.
func escape(text string, slash bool) string {
	var b bytes.Buffer
	for _, c := range []byte(text) {
		switch {
		case c >= 'a' && c <= 'z', c >= 'A' && c <= 'Z', c >= '0' && c <= '9', strings.IndexByte("-._~", c) >= 0, c == '/' && !slash:
			b.WriteByte(c)
		default:
			fmt.Fprintf(&b, "%%%02X", c)
		}
	}
	return b.String()
}

func canonicalPath(escaped string) string {
	plain, err := url.PathUnescape(escaped)
	if err != nil {
		return escaped
	}
	return escape(plain, false)
}

func canonicalQuery(query url.Values) string {
	var all []string
	for name, values := range query {
		for _, v := range values {
			all = append(all, escape(name, true)+"="+escape(v, true))
		}
	}
	slices.Sort(all)
	return strings.Join(all, "&")
}
