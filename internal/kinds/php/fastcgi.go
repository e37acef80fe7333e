package php

import (
	"bytes"
	"encoding/binary"
	"io"
	"strings"
)

// Record types and the role of the FastCGI specification 1.0, section 8.
const (
	beginRequest = 1
	endRequest   = 3
	params       = 4
	stdin        = 5
	stdout       = 6
	responder    = 1
)

// header is a record's header (section 3.3).
type header struct {
	Version, Type     uint8
	ID, Length        uint16
	Padding, Reserved uint8
}

// get asks for one page on a fresh connection and returns all of the answer.
func get(conn io.ReadWriter, path string) (string, error) {
	var b bytes.Buffer
	record := func(kind uint8, content []byte) {
		_ = binary.Write(&b, binary.BigEndian, header{Version: 1, Type: kind, ID: 1, Length: uint16(len(content))})
		b.Write(content)
	}
	record(beginRequest, []byte{0, responder, 0, 0, 0, 0, 0, 0})
	var p bytes.Buffer
	for _, v := range [][2]string{{"REQUEST_METHOD", "GET"}, {"SCRIPT_NAME", path}, {"SCRIPT_FILENAME", path}, {"REQUEST_URI", path}, {"SERVER_PROTOCOL", "HTTP/1.1"}} {
		p.Write([]byte{byte(len(v[0])), byte(len(v[1]))}) // lengths below 128 take a byte
		p.WriteString(v[0] + v[1])
	}
	record(params, p.Bytes())
	record(params, nil)
	record(stdin, nil)
	if _, err := conn.Write(b.Bytes()); err != nil {
		return "", err
	}
	var answer strings.Builder
	for {
		var h header
		if err := binary.Read(conn, binary.BigEndian, &h); err != nil {
			return "", err
		}
		content := make([]byte, int(h.Length)+int(h.Padding))
		if _, err := io.ReadFull(conn, content); err != nil {
			return "", err
		}
		switch h.Type {
		case stdout:
			answer.Write(content[:h.Length])
		case endRequest:
			return answer.String(), nil
		}
	}
}
