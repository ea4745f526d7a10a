package store

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
)

// Limit lets the file grow to so many pages, as a full disk would.
func (f *File) Limit(t *testing.T, pages int) {
	f.db.SetMaxOpenConns(1)
	_, err := f.db.Exec(fmt.Sprintf("PRAGMA max_page_count = %d", pages))
	require.NoError(t, err)
}
