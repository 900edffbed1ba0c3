package catalog

import (
	"context"
	"errors"
	"strings"
	"unicode"

	"kindredgate/internal/exchange"
)

// Name is a public name: what applications ask for, so that who operates the gate decides what answers.
type Name struct {
	Name   string `json:"name"`   // AnyName stands for every name that nothing else has
	Target string `json:"target"` // the model or preset that answers
}

// AnyName is the public name that catches what is asked for under no other.
const AnyName = "*"

// NameRecords is where public names are kept. Name returns ErrNoName for one that is not there.
type NameRecords interface {
	PutName(ctx context.Context, n Name) error
	Name(ctx context.Context, name string) (Name, error)
	Names(ctx context.Context) ([]Name, error)
	DropName(ctx context.Context, name string) error
}

// ErrNoName says that there is no such public name.
var ErrNoName = errors.New("no such public name")

// longName is how long a public name may be, in bytes.
const longName = 128

// Check reports what is wrong with a public name by itself, as an [exchange.Error].
func (n Name) Check() error {
	if n.Name == "" || len(n.Name) > longName || strings.ContainsFunc(n.Name, func(r rune) bool { return unicode.IsSpace(r) || !unicode.IsPrint(r) }) {
		return exchange.InvalidParam("name", "a public name has 1 to %d printable characters without spaces; not %q", longName, n.Name)
	}
	if strings.Contains(n.Name, AnyName) && n.Name != AnyName {
		return exchange.InvalidParam("name", "%q has a star in it; a star alone is the name that catches all others", n.Name)
	}
	if n.Target == "" {
		return exchange.InvalidParam("target", "target is missing: the model or preset that is to answer")
	}
	return nil
}
