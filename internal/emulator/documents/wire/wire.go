// Package wire reads and writes the messages of the protocol: OP_MSG, and OP_QUERY
// and OP_REPLY, with which a client may ask for the first time what the server is (the
// protocol's specification, "MongoDB Wire Protocol" and "OP_MSG").
package wire

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/value"
)

// The operations.
const (
	opReply      = 1
	opQuery      = 2004
	opCompressed = 2012
	opMsg        = 2013
)

// The flags of OP_MSG. Of those up to bit 15 all must be known.
const (
	checksumPresent = 1 << 0
	moreToCome      = 1 << 1
)

// MostBytes is how long a message may be (maxMessageSizeBytes).
const MostBytes = 48_000_000

// MostDocuments is how many documents a message may have beside its command
// (maxWriteBatchSize).
const MostDocuments = 100_000

const headerBytes = 16

var crcTable = crc32.MakeTable(crc32.Castagnoli)

// Request is a message of a client.
type Request struct {
	ID int32
	// Command is the document of the command. What the message had in sections of
	// their own is in Sections, by its name in the command.
	Command  bson.Raw
	Sections map[string][]bson.Raw
	// Silent says that the client wants no answer.
	Silent bool
	// Legacy says that it came as OP_QUERY, and Database for which database.
	Legacy   bool
	Database string
}

// BadMessageError says why a message can't be read. What follows it on the connection
// can't be, either.
type BadMessageError struct{ Why string }

// InvalidDocumentError says why a document in a message is not a valid one. The messages
// that follow can be read.
type InvalidDocumentError struct{ Why string }

func (e *InvalidDocumentError) Error() string { return "the document is not valid: " + e.Why }

func (e *BadMessageError) Error() string { return "the message can't be read: " + e.Why }

func bad(format string, args ...any) error {
	return &BadMessageError{fmt.Sprintf(format, args...)}
}

// Read reads a message. Its errors are io.EOF when the client has gone, those of r,
// *BadMessageError, and *InvalidDocumentError, with which comes a request that can be
// answered. The memory that it takes is bounded by what has come.
func Read(r io.Reader) (*Request, error) { return ReadUpTo(r, MostBytes) }

// ReadUpTo is Read with another limit of how long a message may be, in bytes.
func ReadUpTo(r io.Reader, most int64) (*Request, error) {
	var header [headerBytes]byte
	if _, err := io.ReadFull(r, header[:]); err != nil {
		return nil, err
	}
	length := int64(int32(binary.LittleEndian.Uint32(header[:])))
	if length < headerBytes || length > most {
		return nil, bad("%d bytes is no length for one", length)
	}
	var body bytes.Buffer
	if n, err := io.Copy(&body, io.LimitReader(r, length-headerBytes)); err != nil {
		return nil, err
	} else if n < length-headerBytes {
		return nil, io.ErrUnexpectedEOF
	}
	q := &Request{ID: int32(binary.LittleEndian.Uint32(header[4:]))}
	switch op := binary.LittleEndian.Uint32(header[12:]); op {
	case opMsg:
		return q, q.readMsg(header[:], body.Bytes())
	case opQuery:
		q.Legacy = true
		return q, q.readQuery(body.Bytes())
	case opCompressed:
		return nil, bad("it is compressed, which was not agreed on")
	default:
		return nil, bad("there is no operation %d any more", op)
	}
}

// cut cuts a document off the beginning of b.
func cut(b []byte) (document bson.Raw, rest []byte, err error) {
	if len(b) < 4 {
		return nil, nil, errors.New("it ends before a document")
	}
	n := int64(int32(binary.LittleEndian.Uint32(b)))
	if n < 5 || n > int64(len(b)) {
		return nil, nil, fmt.Errorf("a document of %d bytes is not in it", n)
	}
	if err := value.Validate(b[:n]); err != nil {
		return nil, nil, &InvalidDocumentError{err.Error()}
	}
	return b[:n:n], b[n:], nil
}

// inDocument is an error of a document, or of the message that it is in.
func inDocument(err error) error {
	var invalid *InvalidDocumentError
	if errors.As(err, &invalid) {
		return invalid
	}
	return bad("%v", err)
}

func (q *Request) readMsg(header, body []byte) error {
	if len(body) < 4 {
		return bad("it has no flags")
	}
	flags := binary.LittleEndian.Uint32(body)
	if unknown := flags & 0xffff &^ (checksumPresent | moreToCome); unknown != 0 {
		return bad("the flags %#x are not known", unknown)
	}
	q.Silent = flags&moreToCome != 0
	if flags&checksumPresent != 0 {
		end := len(body) - 4
		if end < 4 {
			return bad("it has no checksum")
		}
		sum := crc32.Update(crc32.Checksum(header, crcTable), crcTable, body[:end])
		if sum != binary.LittleEndian.Uint32(body[end:]) {
			return bad("its checksum is another")
		}
		body = body[:end]
	}
	for rest := body[4:]; len(rest) > 0; {
		kind := rest[0]
		rest = rest[1:]
		var err error
		switch kind {
		case 0:
			if q.Command != nil {
				return bad("it has two commands")
			}
			if q.Command, rest, err = cut(rest); err != nil {
				return inDocument(err)
			}
		case 1:
			if rest, err = q.readSection(rest); err != nil {
				return err
			}
		default:
			return bad("there is no section of kind %d", kind)
		}
	}
	if q.Command == nil {
		return bad("it has no command")
	}
	q.Database, _ = lookupText(q.Command, "$db")
	return nil
}

func lookupText(d bson.Raw, name string) (string, bool) {
	v, ok := value.Member(d, name)
	if !ok {
		return "", false
	}
	return v.StringValueOK()
}

// readSection reads documents that belong to one name of the command.
func (q *Request) readSection(b []byte) (rest []byte, err error) {
	if len(b) < 4 {
		return nil, bad("a section has no length")
	}
	n := int64(int32(binary.LittleEndian.Uint32(b)))
	if n < 5 || n > int64(len(b)) {
		return nil, bad("%d bytes is no length of a section", n)
	}
	section, rest := b[4:n], b[n:]
	end := bytes.IndexByte(section, 0)
	if end < 0 {
		return nil, bad("the name of a section has no end")
	}
	name := string(section[:end])
	if _, twice := q.Sections[name]; twice {
		return nil, bad("the section %q comes twice", name)
	}
	if q.Sections == nil {
		q.Sections = map[string][]bson.Raw{}
	}
	all := []bson.Raw{}
	for section = section[end+1:]; len(section) > 0; {
		var d bson.Raw
		if d, section, err = cut(section); err != nil {
			return nil, inDocument(err)
		}
		if all = append(all, d); len(all) > MostDocuments {
			return nil, bad("the section %q has more than %d documents", name, MostDocuments)
		}
	}
	q.Sections[name] = all
	return rest, nil
}

// readQuery reads the one query that is still in use: of the collection $cmd.
func (q *Request) readQuery(body []byte) error {
	if len(body) < 4 {
		return bad("it has no flags")
	}
	end := bytes.IndexByte(body[4:], 0)
	if end < 0 {
		return bad("the name of the collection has no end")
	}
	name := string(body[4 : 4+end])
	database, ok := strings.CutSuffix(name, ".$cmd")
	if !ok {
		return bad("%q is asked in a way that is not in use any more", name)
	}
	rest := body[4+end+1:]
	if len(rest) < 8 {
		return bad("it ends before its document")
	}
	command, _, err := cut(rest[8:])
	if err != nil {
		return inDocument(err)
	}
	q.Database, q.Command = database, command
	return nil
}

// Write answers a request with a document, as the request came.
func Write(w io.Writer, id int32, to *Request, answer bson.Raw) error {
	out := make([]byte, headerBytes, headerBytes+len(answer)+20)
	op := uint32(opMsg)
	if to.Legacy {
		op = opReply
		out = binary.LittleEndian.AppendUint32(out, 8) // AwaitCapable
		out = binary.LittleEndian.AppendUint64(out, 0) // the cursor
		out = binary.LittleEndian.AppendUint32(out, 0) // where in it
		out = binary.LittleEndian.AppendUint32(out, 1) // documents
	} else {
		out = binary.LittleEndian.AppendUint32(out, 0)
		out = append(out, 0)
	}
	out = append(out, answer...)
	binary.LittleEndian.PutUint32(out, uint32(len(out)))
	binary.LittleEndian.PutUint32(out[4:], uint32(id))
	binary.LittleEndian.PutUint32(out[8:], uint32(to.ID))
	binary.LittleEndian.PutUint32(out[12:], op)
	_, err := w.Write(out)
	return err
}
