package rulebook_test

import (
	"bufio"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"testing"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/internal/rulebook"
)

var (
	benchPeople = flag.Int("bench.people", 100_000, "how many people BenchmarkLoadPeople loads; their groups are 5,000")
	benchMemory = flag.Bool("bench.memory", false, "BenchmarkLoadPeople leaves out its yardstick, so that the memory that it tells is the loading's")
)

// writePeople writes people and 5,000 groups as SCIM JSON Lines, the groups first.
func writePeople(tb testing.TB, dir string, people int) {
	f, err := os.Create(filepath.Join(dir, "people.jsonl"))
	require.NoError(tb, err)
	defer f.Close()
	w := bufio.NewWriterSize(f, 1<<20)
	defer w.Flush()
	const groups = 5000
	r := rand.New(rand.NewPCG(1, 2))
	id := func(n int) string { return fmt.Sprintf("5f0c%04x-1d2e-4c3b-8a9f-%012x", n%65536, n) }
	for g := range groups {
		fmt.Fprintf(w, `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:Group"],"id":"%s","displayName":"group-%d","members":[`, id(10_000_000+g), g)
		for i := range people * 2 / groups {
			if i > 0 {
				w.WriteByte(',')
			}
			fmt.Fprintf(w, `{"value":"%s"}`, id(r.IntN(people)))
		}
		if g > 0 && g%10 == 0 { // a tree of groups
			fmt.Fprintf(w, `,{"value":"%s"}`, id(10_000_000+g/10))
		}
		fmt.Fprintln(w, `]}`)
	}
	for p := range people {
		fmt.Fprintf(w, `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User","urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"],"id":"%s","userName":"person.%d@skerry.example",`+
			`"name":{"givenName":"Given%d","familyName":"Family%d"},"userType":"Employee","active":true,"title":"Title %d","meta":{"resourceType":"User","created":"20%02d-03-0%dT08:00:00Z"},`+
			`"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User":{"department":"Department %d","costCenter":"C%d"},"urn:brisk-warden:params:scim:schemas:SignOn":{"methods":["password","passkey"],"risk":"low"}}`+"\n",
			id(p), p, p, p, p%40, 10+p%16, 1+p%9, p%200, p%300)
	}
}

// BenchmarkLoadPeople loads people from SCIM beside only decoding the same file with the same
// library into the fields that count, in turns.
func BenchmarkLoadPeople(b *testing.B) {
	dir := b.TempDir()
	writePeople(b, dir, *benchPeople)
	top := "rulebook big { directory \"people.jsonl\" }\nattribute user.department word\nattribute user.costCenter word\nattribute user.title word\n"
	require.NoError(b, os.WriteFile(filepath.Join(dir, "rulebook.warden"), []byte(top), 0o644))
	var loading, decoding time.Duration
	var rb *rulebook.Rulebook
	for b.Loop() {
		start := time.Now()
		rb = rulebook.Load(os.DirFS(dir), rulebook.Options{})
		loading += time.Since(start)
		require.NoError(b, rb.Diagnostics.Err())
		require.Len(b, rb.People, *benchPeople)
		if *benchMemory {
			continue
		}
		start = time.Now()
		decodePeople(b, filepath.Join(dir, "people.jsonl"))
		decoding += time.Since(start)
	}
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	b.ReportMetric(float64(m.Sys)/(1<<20), "MiB-from-system")
	runtime.GC()
	runtime.ReadMemStats(&m)
	b.ReportMetric(float64(m.HeapAlloc)/(1<<20), "MiB-kept")
	runtime.KeepAlive(rb)
	if decoding > 0 {
		b.ReportMetric(loading.Seconds()/decoding.Seconds(), "times-the-decoding")
	}
}

type benchResource struct {
	Schemas     []string                                `json:"schemas"`
	ID          string                                  `json:"id"`
	UserName    string                                  `json:"userName"`
	DisplayName string                                  `json:"displayName"`
	UserType    string                                  `json:"userType"`
	Title       string                                  `json:"title"`
	Active      *bool                                   `json:"active"`
	Meta        struct{ Created string }                `json:"meta"`
	Members     []struct{ Value string }                `json:"members"`
	Enterprise  struct{ Department, CostCenter string } `json:"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"`
	SignOn      struct {
		Methods []string
		Risk    string
	} `json:"urn:brisk-warden:params:scim:schemas:SignOn"`
}

func decodePeople(b *testing.B, file string) {
	f, err := os.Open(file)
	require.NoError(b, err)
	defer f.Close()
	for d := jsontext.NewDecoder(f); ; {
		var r benchResource
		if err := json.UnmarshalDecode(d, &r, json.MatchCaseInsensitiveNames(true)); err == io.EOF {
			return
		} else if err != nil {
			b.Fatal(err)
		}
	}
}
