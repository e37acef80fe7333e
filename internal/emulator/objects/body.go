package objects

import (
	"bufio"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"hash"
	"hash/crc32"
	"hash/crc64"
	"io"
	"net/http"
	"strconv"
	"strings"
)

// crc64NVME is the polynomial of NVM Express (its command set specification, section
// 5.2.1.3.4), reversed.
var crc64NVME = crc64.MakeTable(0x9a6c9329ac4bc9b5)

// newSum returns what computes a checksum of the protocol, nil if it doesn't know that.
func newSum(algorithm string) hash.Hash {
	switch algorithm {
	case "crc32":
		return crc32.NewIEEE()
	case "crc32c":
		return crc32.New(crc32.MakeTable(crc32.Castagnoli))
	case "crc64nvme":
		return crc64.New(crc64NVME)
	case "sha1":
		return sha1.New()
	case "sha256":
		return sha256.New()
	}
	return nil
}

// received is a body that was written to a file.
type received struct {
	path string
	size int64
	md5  []byte
	sums map[string]string
}

// mostBytes is how large what is put at once may be.
const mostBytes = 5 << 30

// receive writes a request's body to a file, and checks all that is said of it: lengths,
// signatures of chunks, checksums.
func (s *Server) receive(r *http.Request, by *signed) (got received, err error) {
	if r.ContentLength > mostBytes {
		return got, &Error{Code: "EntityTooLarge", Status: 400, Message: "Your proposed upload exceeds the maximum allowed size"}
	}
	body := io.Reader(r.Body)
	payload := r.Header.Get("X-Amz-Content-Sha256")
	if by != nil {
		payload = by.payload
	}
	var chunks *chunked
	whole := sha256.New()
	switch {
	case strings.HasPrefix(payload, "STREAMING-"):
		if chunks, err = newChunked(r, by, payload); err != nil {
			return got, err
		}
		body = chunks
	case payload != unsigned && payload != "":
		body = io.TeeReader(body, whole)
	}
	// Checksums that are asked for, or announced in a trailer.
	sums := map[string]hash.Hash{}
	for name := range r.Header {
		if algorithm, is := strings.CutPrefix(strings.ToLower(name), "x-amz-checksum-"); is && newSum(algorithm) != nil {
			sums[algorithm] = newSum(algorithm)
		}
	}
	trailer := strings.ToLower(r.Header.Get("X-Amz-Trailer"))
	if algorithm, is := strings.CutPrefix(trailer, "x-amz-checksum-"); is && newSum(algorithm) != nil {
		sums[algorithm] = newSum(algorithm)
	}
	if algorithm := strings.ToLower(r.Header.Get("X-Amz-Sdk-Checksum-Algorithm")); newSum(algorithm) != nil {
		sums[algorithm] = newSum(algorithm)
	}
	digest := md5.New()
	writers := []io.Writer{digest}
	for _, h := range sums {
		writers = append(writers, h)
	}
	f, path, err := s.Store.fresh()
	if err != nil {
		return got, err
	}
	got.path = path
	defer func() {
		err = errors.Join(err, f.Close())
		if err != nil {
			s.Store.discard(path)
		}
	}()
	buffer := make([]byte, 256<<10)
	got.size, err = io.CopyBuffer(io.MultiWriter(append(writers, f)...), struct{ io.Reader }{io.LimitReader(body, mostBytes+1)}, buffer)
	if err != nil {
		var e *Error
		if errors.As(err, &e) {
			return got, e
		}
		if errors.Is(err, io.ErrUnexpectedEOF) {
			return got, &Error{Code: "IncompleteBody", Status: 400, Message: "You did not provide the number of bytes specified by the Content-Length HTTP header."}
		}
		return got, err
	}
	if got.size > mostBytes {
		return got, &Error{Code: "EntityTooLarge", Status: 400, Message: "Your proposed upload exceeds the maximum allowed size"}
	}
	if chunks == nil && payload != unsigned && payload != "" && hex.EncodeToString(whole.Sum(nil)) != payload {
		return got, &Error{Code: "XAmzContentSHA256Mismatch", Status: 400, Message: "The provided 'x-amz-content-sha256' header does not match what was computed."}
	}
	if chunks != nil {
		if wanted, err := strconv.ParseInt(r.Header.Get("X-Amz-Decoded-Content-Length"), 10, 64); err == nil && wanted != got.size {
			return got, &Error{Code: "IncompleteBody", Status: 400, Message: "the body is not as long as x-amz-decoded-content-length says"}
		}
	}
	got.md5 = digest.Sum(nil)
	if wanted := r.Header.Get("Content-Md5"); wanted != "" {
		b, err := base64.StdEncoding.DecodeString(wanted)
		if err != nil || len(b) != md5.Size {
			return got, &Error{Code: "InvalidDigest", Status: 400, Message: "The Content-MD5 you specified is not valid."}
		}
		if string(b) != string(got.md5) {
			return got, errBadDigest
		}
	}
	got.sums = map[string]string{}
	for algorithm, h := range sums {
		is := base64.StdEncoding.EncodeToString(h.Sum(nil))
		wanted := r.Header.Get("X-Amz-Checksum-" + algorithm)
		if chunks != nil && trailer == "x-amz-checksum-"+algorithm {
			wanted = chunks.trailer[trailer]
		}
		if wanted != "" && wanted != is {
			return got, errBadDigest
		}
		got.sums[algorithm] = is
	}
	return got, s.Store.arrived(f)
}

// chunked reads a body that comes in chunks, each with its length and, if it is signed, its
// signature, which is made with that of the one before.
type chunked struct {
	r        *bufio.Reader
	by       *signed // nil: chunks are not signed
	trailing bool    // a trailer follows, whose signature is checked if the chunks' are
	previous string
	left     int64
	given    string
	sum      hash.Hash
	begun    bool
	done     bool
	trailer  map[string]string
}

func newChunked(r *http.Request, by *signed, payload string) (*chunked, error) {
	c := &chunked{r: bufio.NewReaderSize(r.Body, 64<<10), trailer: map[string]string{}, sum: sha256.New()}
	switch payload {
	case "STREAMING-AWS4-HMAC-SHA256-PAYLOAD":
		c.by = by
	case "STREAMING-AWS4-HMAC-SHA256-PAYLOAD-TRAILER":
		c.by, c.trailing = by, true
	case "STREAMING-UNSIGNED-PAYLOAD-TRAILER":
		c.trailing = true
	default:
		return nil, notHere("the payload " + payload)
	}
	if c.by != nil { // else nobody has to sign anything
		c.previous = c.by.signature
	}
	return c, nil
}

func badChunk(why string) error {
	return &Error{Code: "InvalidRequest", Status: 400, Message: "the body's chunks can't be read: " + why}
}

// line reads a line without its end.
func (c *chunked) line() (string, error) {
	text, err := c.r.ReadSlice('\n')
	if errors.Is(err, bufio.ErrBufferFull) || len(text) > 8192 {
		return "", badChunk("a line is too long")
	}
	if errors.Is(err, io.EOF) {
		return "", io.ErrUnexpectedEOF
	}
	return strings.TrimRight(string(text), "\r\n"), err
}

// Read reads what the chunks hold.
func (c *chunked) Read(b []byte) (int, error) {
	if c.done {
		return 0, io.EOF
	}
	if c.left == 0 {
		if err := c.next(); err != nil {
			return 0, err
		}
		if c.done {
			return 0, io.EOF
		}
	}
	n, err := c.r.Read(b[:min(int64(len(b)), c.left)])
	c.sum.Write(b[:n])
	c.left -= int64(n)
	if errors.Is(err, io.EOF) {
		err = io.ErrUnexpectedEOF
	}
	return n, err
}

// next ends a chunk, and reads the head of the one that follows.
func (c *chunked) next() error {
	if c.begun {
		if text, err := c.line(); err != nil || text != "" {
			return errors.Join(err, badChunk("one is longer than it says"))
		}
		if err := c.verify(); err != nil {
			return err
		}
	}
	c.begun = true
	head, err := c.line()
	if err != nil {
		return err
	}
	size, rest, _ := strings.Cut(head, ";")
	n, err := strconv.ParseInt(size, 16, 64)
	if err != nil || n < 0 || n > mostBytes {
		return badChunk("a length is none")
	}
	c.given = strings.TrimPrefix(rest, "chunk-signature=")
	c.sum.Reset()
	if c.left = n; n > 0 {
		return nil
	}
	if err := c.verify(); err != nil {
		return err
	}
	c.done = true
	return c.end()
}

// verify compares the signature of a chunk that was read.
func (c *chunked) verify() error {
	if c.by == nil {
		return nil
	}
	toSign := strings.Join([]string{algorithm + "-PAYLOAD", c.by.at, c.by.scope, c.previous, sumOf(nil), hex.EncodeToString(c.sum.Sum(nil))}, "\n")
	is := hex.EncodeToString(keyed(c.by.key, toSign))
	if is != c.given {
		return denied("SignatureDoesNotMatch", "The signature of a chunk does not match what was received.")
	}
	c.previous = is
	return nil
}

// end reads what follows the last chunk.
func (c *chunked) end() error {
	var canonical strings.Builder
	signature := ""
	for range 100 {
		text, err := c.line()
		if errors.Is(err, io.ErrUnexpectedEOF) && !c.trailing {
			return nil
		}
		if err != nil {
			return err
		}
		if text == "" {
			break
		}
		name, v, ok := strings.Cut(text, ":")
		if !ok {
			return badChunk("a line of the trailer has no name")
		}
		name, v = strings.ToLower(strings.TrimSpace(name)), strings.TrimSpace(v)
		if name == "x-amz-trailer-signature" {
			signature = v
			continue
		}
		c.trailer[name] = v
		canonical.WriteString(name + ":" + v + "\n")
	}
	if c.by == nil || !c.trailing {
		return nil
	}
	toSign := strings.Join([]string{algorithm + "-TRAILER", c.by.at, c.by.scope, c.previous, sumOf([]byte(canonical.String()))}, "\n")
	if hex.EncodeToString(keyed(c.by.key, toSign)) != signature {
		return denied("SignatureDoesNotMatch", "The signature of the trailer does not match what was received.")
	}
	return nil
}

// combined is the ETag of an object that was put in parts (MD5 of the parts' MD5).
func combined(parts []string) string {
	h := md5.New()
	for _, p := range parts {
		b, _ := hex.DecodeString(p) // ours
		h.Write(b)
	}
	return hex.EncodeToString(h.Sum(nil)) + "-" + strconv.Itoa(len(parts))
}
