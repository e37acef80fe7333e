package objects

import (
	"crypto/hmac"
	"crypto/sha1" // what version 2 is made of
	"crypto/subtle"
	"encoding/base64"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"
)

// version2 is how the header of requests begins that are signed with version 2. Some
// clients still make links with it unless they are told otherwise.
const version2 = "AWS "

// signedParameters are those of a query that version 2 signs.
var signedParameters = strings.Fields("acl cors delete lifecycle location logging notification partNumber policy requestPayment response-cache-control response-content-disposition " +
	"response-content-encoding response-content-language response-content-type response-expires restore tagging torrent uploadId uploads versionId versioning versions website")

// checkVersion2 checks a signature of version 2, of a header or a link.
func (k Keys) checkVersion2(r *http.Request, inHost string, query url.Values, now time.Time) (*signed, error) {
	access, given, at := query.Get("AWSAccessKeyId"), query.Get("Signature"), query.Get("Expires")
	if query.Get("Signature") == "" {
		access, given, _ = strings.Cut(strings.TrimPrefix(r.Header.Get("Authorization"), version2), ":")
		at = r.Header.Get("Date")
		sent := at
		if d := r.Header.Get("X-Amz-Date"); d != "" {
			sent, at = d, "" // it is among the other headers
		}
		t, err := time.Parse(time.RFC1123Z, sent)
		if err != nil {
			t, err = http.ParseTime(sent)
		}
		if err != nil {
			return nil, denied("AccessDenied", "AWS authentication requires a valid Date or x-amz-date header")
		}
		if d := now.Sub(t); d > skew || d < -skew {
			return nil, tooSkewed(now)
		}
	} else {
		seconds, err := strconv.ParseInt(at, 10, 64)
		if err != nil {
			return nil, denied("AccessDenied", "Invalid date (should be seconds since epoch): "+at)
		}
		if now.After(time.Unix(seconds, 0)) {
			return nil, denied("AccessDenied", "Request has expired")
		}
	}
	if access != k.Access {
		return nil, unknownKey(access)
	}
	text := strings.Join([]string{r.Method, r.Header.Get("Content-Md5"), r.Header.Get("Content-Type"), at, amzHeaders(r.Header) + resource(r, inHost, query)}, "\n")
	h := hmac.New(sha1.New, []byte(k.Secret))
	h.Write([]byte(text))
	if subtle.ConstantTimeCompare([]byte(base64.StdEncoding.EncodeToString(h.Sum(nil))), []byte(given)) != 1 {
		e := mismatch()
		e.StringToSign, e.SignatureProvided = text, given
		return nil, e
	}
	return &signed{payload: unsigned}, nil
}

func amzHeaders(h http.Header) string {
	var lines []string
	for name, values := range h {
		if name = strings.ToLower(name); strings.HasPrefix(name, "x-amz-") {
			lines = append(lines, name+":"+strings.Join(values, ",")+"\n")
		}
	}
	slices.Sort(lines)
	return strings.Join(lines, "")
}

func resource(r *http.Request, inHost string, query url.Values) string {
	path := r.URL.EscapedPath()
	if inHost != "" {
		path = "/" + inHost + path
	}
	var parts []string
	for _, name := range signedParameters {
		for _, v := range query[name] {
			if v != "" {
				v = "=" + v
			}
			parts = append(parts, name+v)
		}
	}
	if len(parts) == 0 {
		return path
	}
	return path + "?" + strings.Join(parts, "&")
}
