package sqlite

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
)

// Limit lets the file grow to so many pages, as a full disk would.
func (s *Store) Limit(t *testing.T, pages int) {
	s.db.SetMaxOpenConns(1)
	_, err := s.db.Exec(fmt.Sprintf("PRAGMA max_page_count = %d", pages))
	require.NoError(t, err)
}
