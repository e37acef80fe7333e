package value

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// MostDeep is how deep a document may be nested.
const MostDeep = 200

// MostBytes is how large a document may be.
const MostBytes = 16 << 20

var (
	errEnds = errors.New("it ends too early")
	errDeep = fmt.Errorf("it is nested deeper than %d", MostDeep)
)

// Validate reports what is wrong with a document in all its depth (bsonspec.org, 1.1):
// lengths, types, and the ends of texts. Only what is valid may be given to the other
// functions of this package.
func Validate(document []byte) error {
	if len(document) > MostBytes {
		return fmt.Errorf("a document of %d bytes is larger than %d", len(document), MostBytes)
	}
	return validate(document, 0)
}

func validate(document []byte, level int) error {
	switch {
	case level > MostDeep:
		return errDeep
	case len(document) < 5:
		return errEnds
	case int64(binary.LittleEndian.Uint32(document)) != int64(len(document)):
		return fmt.Errorf("it says that it has %d bytes, and has %d", binary.LittleEndian.Uint32(document), len(document))
	case document[len(document)-1] != 0:
		return errors.New("it does not end with a zero")
	}
	rest := document[4 : len(document)-1]
	for len(rest) > 0 {
		t := bson.Type(rest[0])
		end := bytes.IndexByte(rest[1:], 0)
		if end < 0 {
			return errors.New("the name of a member has no end")
		}
		name := rest[1 : 1+end]
		rest = rest[end+2:]
		n, err := validSize(t, rest, level)
		if err != nil {
			if errors.Is(err, errDeep) {
				return err
			}
			return fmt.Errorf("%q: %w", name, err)
		}
		rest = rest[n:]
	}
	return nil
}

// validSize returns how many bytes a value has at the beginning of b.
func validSize(t bson.Type, b []byte, level int) (int, error) {
	fixed := func(n int) (int, error) {
		if len(b) < n {
			return 0, errEnds
		}
		return n, nil
	}
	// prefixed has its length before it, which counts so many bytes more.
	prefixed := func(before int) (int, error) {
		if len(b) < 4 {
			return 0, errEnds
		}
		n := int64(int32(binary.LittleEndian.Uint32(b)))
		if n < 0 || int64(before)+n > int64(len(b)) {
			return 0, fmt.Errorf("%d bytes is not its length", n)
		}
		return before + int(n), nil
	}
	str := func() (int, error) {
		n, err := prefixed(4)
		if err == nil && (n < 5 || b[n-1] != 0) {
			err = errors.New("a text does not end with a zero")
		}
		return n, err
	}
	document := func() (int, error) {
		n, err := prefixed(0)
		if err == nil {
			err = validate(b[:n], level+1)
		}
		return n, err
	}
	switch t {
	case bson.TypeDouble, bson.TypeDateTime, bson.TypeTimestamp, bson.TypeInt64:
		return fixed(8)
	case bson.TypeInt32:
		return fixed(4)
	case bson.TypeObjectID:
		return fixed(12)
	case bson.TypeDecimal128:
		return fixed(16)
	case bson.TypeUndefined, bson.TypeNull, bson.TypeMinKey, bson.TypeMaxKey:
		return 0, nil
	case bson.TypeBoolean:
		if len(b) < 1 || b[0] > 1 {
			return 0, errors.New("a truth is 0 or 1")
		}
		return 1, nil
	case bson.TypeString, bson.TypeJavaScript, bson.TypeSymbol:
		return str()
	case bson.TypeEmbeddedDocument, bson.TypeArray:
		return document()
	case bson.TypeBinary:
		n, err := prefixed(5)
		if err == nil && b[4] == bson.TypeBinaryBinaryOld {
			// The old subtype has its length a second time.
			if inner := int64(n - 9); inner < 0 || int64(binary.LittleEndian.Uint32(b[5:])) != inner {
				err = errors.New("binary data of the old subtype has another length inside")
			}
		}
		return n, err
	case bson.TypeRegex:
		pattern := bytes.IndexByte(b, 0)
		if pattern < 0 {
			return 0, errEnds
		}
		options := bytes.IndexByte(b[pattern+1:], 0)
		if options < 0 {
			return 0, errEnds
		}
		return pattern + options + 2, nil
	case bson.TypeDBPointer:
		n, err := str()
		if err == nil && len(b) < n+12 {
			err = errEnds
		}
		return n + 12, err
	case bson.TypeCodeWithScope:
		n, err := prefixed(0)
		if err != nil {
			return n, err
		}
		if n < 14 {
			return n, errEnds
		}
		inner := b[4:n]
		code := int64(int32(binary.LittleEndian.Uint32(inner)))
		if code < 1 || 4+code > int64(len(inner)) || inner[4+code-1] != 0 {
			return n, errors.New("its code has another length")
		}
		return n, validate(inner[4+code:], level+1)
	}
	return 0, fmt.Errorf("there is no type %#x", byte(t))
}
