package wire_test

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/wire"
)

func raw(t testing.TB, d bson.D) bson.Raw {
	b, err := bson.Marshal(d)
	require.NoError(t, err)
	return b
}

// message makes one of an operation and a body.
func message(op uint32, body ...byte) []byte {
	out := binary.LittleEndian.AppendUint32(nil, uint32(16+len(body)))
	out = binary.LittleEndian.AppendUint32(out, 7)
	out = binary.LittleEndian.AppendUint32(out, 0)
	return append(binary.LittleEndian.AppendUint32(out, op), body...)
}

func section(name string, documents ...bson.Raw) []byte {
	var all []byte
	for _, d := range documents {
		all = append(all, d...)
	}
	out := binary.LittleEndian.AppendUint32([]byte{1}, uint32(4+len(name)+1+len(all)))
	return append(append(append(out, name...), 0), all...)
}

func join(parts ...[]byte) []byte { return bytes.Join(parts, nil) }

func TestMessages(t *testing.T) {
	command := raw(t, bson.D{{Key: "insert", Value: "tools"}, {Key: "$db", Value: "shed"}})
	one, two := raw(t, bson.D{{Key: "_id", Value: 1}}), raw(t, bson.D{{Key: "_id", Value: 2}})
	body := join([]byte{2, 0, 0, 0, 0}, command, section("documents", one, two), section("none"))
	summed := message(2013, join([]byte{1}, body[1:], make([]byte, 4))...)
	binary.LittleEndian.PutUint32(summed[len(summed)-4:], crc32.Checksum(summed[:len(summed)-4], crc32.MakeTable(crc32.Castagnoli)))

	for _, m := range [][]byte{message(2013, body...), summed} {
		q, err := wire.Read(bytes.NewReader(m))
		require.NoError(t, err)
		assert.Equal(t, int32(7), q.ID)
		assert.Equal(t, "shed", q.Database)
		assert.Equal(t, command, q.Command)
		assert.Equal(t, map[string][]bson.Raw{"documents": {one, two}, "none": {}}, q.Sections)
		assert.False(t, q.Legacy)
	}
	q, err := wire.Read(bytes.NewReader(message(2013, body...)))
	require.NoError(t, err)
	assert.True(t, q.Silent)

	q, err = wire.Read(bytes.NewReader(message(2004, join([]byte{0, 0, 0, 0}, []byte("admin.$cmd\x00"), make([]byte, 8), one)...)))
	require.NoError(t, err)
	assert.True(t, q.Legacy)
	assert.Equal(t, "admin", q.Database)

	// An answer is read by a client as it was written.
	var out bytes.Buffer
	require.NoError(t, wire.Write(&out, 9, &wire.Request{ID: 7}, two))
	answered, err := wire.Read(&out)
	require.NoError(t, err)
	assert.Equal(t, two, answered.Command)
	require.NoError(t, wire.Write(&out, 9, &wire.Request{ID: 7, Legacy: true}, two))
	assert.Equal(t, uint32(out.Len()), binary.LittleEndian.Uint32(out.Bytes()))
	assert.Equal(t, []byte(two), out.Bytes()[36:])
}

// What is no message is refused with a reason; nothing is believed of what a length says.
func TestBadMessages(t *testing.T) {
	d := raw(t, bson.D{{Key: "a", Value: "x"}})
	long := message(2013)
	binary.LittleEndian.PutUint32(long, 1<<30)
	wrong := append(bson.Raw{}, d...)
	wrong[4] = 0x55
	for says, m := range map[string][]byte{
		"1073741824 bytes is no length":       long,
		"it has no flags":                     message(2013, 1),
		"the flags 0x4 are not known":         message(2013, join([]byte{4, 0, 0, 0, 0}, d)...),
		"it has no command":                   message(2013, 0, 0, 0, 0),
		"it has two commands":                 message(2013, join([]byte{0, 0, 0, 0, 0}, d, []byte{0}, d)...),
		"there is no section of kind 2":       message(2013, 0, 0, 0, 0, 2),
		"its checksum is another":             message(2013, join([]byte{1, 0, 0, 0, 0}, d, []byte{1, 2, 3, 4})...),
		"comes twice":                         message(2013, join([]byte{0, 0, 0, 0}, section("x", d), section("x", d))...),
		"a document of 9999 bytes":            message(2013, 0, 0, 0, 0, 0, 0x0f, 0x27, 0, 0, 0),
		"999 bytes is no length of a section": message(2013, 0, 0, 0, 0, 1, 0xe7, 3, 0, 0, 0),
		"it is compressed":                    message(2012),
		"there is no operation 2001 any more": message(2001),
		"in a way that is not in use":         message(2004, join([]byte{0, 0, 0, 0}, []byte("shed.tools\x00"), make([]byte, 8), d)...),
	} {
		_, err := wire.Read(bytes.NewReader(m))
		var bad *wire.BadMessageError
		require.ErrorAs(t, err, &bad, says)
		assert.Contains(t, err.Error(), says)
	}
	// A document that isn't valid can be answered: what follows it can be read.
	both := bytes.NewReader(join(message(2013, join([]byte{0, 0, 0, 0, 0}, wrong)...), message(2013, join([]byte{0, 0, 0, 0, 0}, d)...)))
	q, err := wire.Read(both)
	var invalid *wire.InvalidDocumentError
	require.ErrorAs(t, err, &invalid)
	assert.Contains(t, err.Error(), "there is no type 0x55")
	assert.NotNil(t, q)
	q, err = wire.Read(both)
	require.NoError(t, err)
	assert.Equal(t, bson.Raw(d), q.Command)
	_, err = wire.Read(bytes.NewReader(nil))
	assert.ErrorIs(t, err, io.EOF)
	_, err = wire.Read(bytes.NewReader(message(2013, 0, 0, 0, 0)[:18]))
	assert.ErrorIs(t, err, io.ErrUnexpectedEOF)
}

func FuzzRead(f *testing.F) {
	d := raw(f, bson.D{{Key: "ping", Value: 1}, {Key: "$db", Value: "x"}})
	f.Add(message(2013, join([]byte{0, 0, 0, 0, 0}, d, section("documents", d, d))...))
	f.Add(message(2004, join([]byte{0, 0, 0, 0}, []byte("a.$cmd\x00"), make([]byte, 8), d)...))
	f.Fuzz(func(t *testing.T, b []byte) {
		q, err := wire.Read(bytes.NewReader(b))
		var bad *wire.BadMessageError
		var invalid *wire.InvalidDocumentError
		if err != nil {
			require.True(t, errors.As(err, &bad) || errors.As(err, &invalid) && q != nil || errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF))
			return
		}
		require.NotNil(t, q.Command)
	})
}

func TestReadUpTo(t *testing.T) {
	m := message(2013, make([]byte, 200)...)
	_, err := wire.ReadUpTo(bytes.NewReader(m), int64(len(m))-1)
	var bad *wire.BadMessageError
	require.ErrorAs(t, err, &bad)
	_, err = wire.ReadUpTo(bytes.NewReader(m), int64(len(m)))
	assert.NotContains(t, fmt.Sprint(err), "is no length")
}
