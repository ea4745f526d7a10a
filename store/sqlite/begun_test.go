package sqlite_test

import (
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/store/sqlite"
)

// TestBegunByManyAtOnce: whoever opens a ledger while another begins it finds a ledger.
func TestBegunByManyAtOnce(t *testing.T) {
	for range 25 {
		name := filepath.Join(t.TempDir(), "ledger")
		var wg sync.WaitGroup
		errs := make([]error, 12)
		for i := range errs {
			wg.Go(func() {
				s, err := sqlite.Open(name)
				if errs[i] = err; err == nil {
					s.Close()
				}
			})
		}
		wg.Wait()
		for _, err := range errs {
			require.NoError(t, err)
		}
	}
}
