package kind

import (
	"context"
	"crypto/rand"
	"fmt"
	"strings"

	"neighbour/internal/core/data/store"
)

// Holding is implemented by kinds into whose services one can look.
type Holding interface {
	// Source opens a look into a service; it connects when it is asked.
	Source(in *Instance) (store.Source, error)
}

// Locker is implemented by kinds whose data is only whole on the disk while nothing writes to it.
type Locker interface {
	// Lock keeps all from writing to a service that runs until unlock is called, or for as long
	// as the context lasts.
	Lock(ctx context.Context, in *Instance) (unlock func(), err error)
}

// Masker is implemented by kinds of which parts of what a service holds can be struck out. What is
// struck out must be in none of its files afterwards.
type Masker interface {
	// CheckMask says what is wrong with a rule, such as "members.email".
	CheckMask(rule string) error
	// Mask strikes out what rules name, in a service that runs and that nobody else uses, and returns
	// some of the masked values, of those that one row alone has and that are at least
	// SampleLength long: none may be in its files afterwards. It fails if a rule names nothing, or
	// what can't be masked for certain.
	Mask(ctx context.Context, in *Instance, rules []string) (sample []string, err error)
	// Scrub takes away what is left of it once the service has ended.
	Scrub(ctx context.Context, in *Instance) error
}

// Of the masked values of a rule, SampleSize are searched for afterwards, of at least SampleLength bytes.
const (
	SampleSize   = 20
	SampleLength = 6
)

// Refiller is implemented by Maskers whose Scrub takes all files of the service away: once it was
// prepared and started again, Refill puts back what Mask has left of what it held.
type Refiller interface {
	Refill(ctx context.Context, in *Instance) error
}

// MaskTag returns a word for values that stand for what was struck out. It is another each time, so
// that none of them is there already.
func MaskTag() string { return strings.ToLower(rand.Text()[:6]) }

// ColumnRule takes a rule apart that names a column of a table: "members.email",
// "public.members.email".
func ColumnRule(rule string) (table, column string, err error) {
	i := strings.LastIndexByte(rule, '.')
	if i <= 0 || i == len(rule)-1 {
		return "", "", fmt.Errorf("%q names no column of a table; write for example \"members.email\"", rule)
	}
	return rule[:i], rule[i+1:], nil
}

// Dumper is implemented by kinds whose server has programs that write a database
// as a script, and carry one out.
type Dumper interface {
	// Dump is the command that writes a database to its output; "" is that of the
	// facts.
	Dump(in *Instance, database string) ([]string, error)
	// Load is the command that carries out what it reads from its input.
	Load(in *Instance, database string) ([]string, error)
}
