package state

import (
	"context"
	"errors"
	"fmt"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
)

// The format of what this version writes into a store, and the oldest whose versions may go on beside it.
const (
	ThisFormat   = 2 // the first that is written down; before it nothing was ordered by number
	ReadableFrom = 1
)

// ErrNewer says that a store is used by a later version, beside which this one must not go on.
var ErrNewer = errors.New("the state is used by a later version of brisk, which this one does not know")

// formatOf is what a store says of its format.
type formatOf struct {
	Format   int            `json:"format"`
	Readable int            `json:"readable_from"`
	Rest     jsontext.Value `json:",embed"` // what this version does not know
}

// Admits reports whether this version may use a store: the error is [ErrNewer], or that the store cannot be read.
func Admits(ctx context.Context, s Store) error {
	_, _, err := readFormat(ctx, s)
	return err
}

// Begin is [Admits] for those who write: it notes the format of this version, unless a later one is noted already.
func Begin(ctx context.Context, s Store) error {
	for tries := 0; ; tries++ {
		f, version, err := readFormat(ctx, s)
		if err != nil || f.Format >= ThisFormat {
			return err
		}
		f.Format, f.Readable = ThisFormat, max(f.Readable, ReadableFrom)
		value, err := json.Marshal(f)
		if err != nil {
			return err
		}
		err = s.Write(ctx, []Change{{Key: Key{Kind: Format}, If: version, Value: value}})[0]
		if !errors.Is(err, ErrConflict) || tries == 20 { // another node may be first
			return err
		}
	}
}

func readFormat(ctx context.Context, s Store) (f formatOf, version int64, err error) {
	r, err := s.Read(ctx, []Key{{Kind: Format}})
	if err != nil || r.Items[0].Value == nil {
		return f, 0, err
	}
	if err := json.Unmarshal(r.Items[0].Value, &f); err != nil {
		return f, 0, fmt.Errorf("the format of the state cannot be read: %w", err)
	}
	if f.Readable > ThisFormat {
		return f, 0, fmt.Errorf("%w: it needs format %d, and this version has %d", ErrNewer, f.Readable, ThisFormat)
	}
	return f, r.Items[0].Version, nil
}
